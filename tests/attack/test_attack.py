"""A sample of the long attack (``make attack``), another one each time; the seed is in the message of a failure."""

from __future__ import annotations

import random
import unittest
from pathlib import Path
from unittest.mock import Mock, patch

import click
from tools.command_reference import commands

from scopion.attachment.connect.local_programs import LocalShell
from scopion.attachment.ports import Ran
from scopion.discovery.records.reading import RecordKind
from scopion.model.errors import EnforcerUnreachable
from scopion.wireless.enforcer_settings import BridgePort, NftablesSettings
from scopion.wireless.enforcers.bridge import BridgeFirewall
from tests.attack import inputs, kills, replies, rosters


class Attack(unittest.TestCase):
    def setUp(self) -> None:
        self.seed = random.randrange(10**6)

    def test_inputs_and_replies(self) -> None:
        """Whatever comes: a value, or an error that is one of ours."""
        self.assertGreaterEqual(sum(inputs.attack(30_000, self.seed).values()), 30_000, self.seed)
        self.assertEqual(sum(replies.attack(15_000, self.seed).values()), 15_000, self.seed)

    def test_kills_and_interrupts(self) -> None:
        """Of any command at any moment: nothing is lost, nothing half-done, and the last line is true."""
        came = kills.attack(4, self.seed)
        self.assertEqual((came["killed"], came["interrupted"]), (4, 4), self.seed)

    def test_every_kind_of_record_is_attacked(self) -> None:
        """A new reader joins those that are given damaged inputs."""
        self.assertLessEqual({*RecordKind}, {*inputs.readers(Path())})

    def test_every_command_is_ended_or_spared(self) -> None:
        """A new command joins those that are killed and interrupted, or it is said why not."""
        every = {name for name, command in commands() if not isinstance(command, click.Group)}
        ended = {" ".join(words[: 1 + (words[0] in ("wifi", "alerts", "roster"))]) for words in kills.COMMANDS}
        self.assertEqual({*ended, *kills.SPARED}, every)

    def test_answers_that_are_no_listing(self) -> None:
        """JSON of another shape is an answer like any other: it is quoted."""
        for output in ("7", "[7]", "null", '{"nftables": 7}', '{"nftables": [7]}', '{"nftables": [{"set": 7}]}', "["):
            link = Ran(0, '[{"master": "br0"}]', "")
            shell = Mock()
            settings = NftablesSettings(
                type="nftables", name="a", network="K", radio={"5": BridgePort(interface="wlan0")}
            )
            firewall = BridgeFirewall(settings, lambda shell=shell: shell)  # type: ignore[misc]
            shell.carry_out.return_value = [link, Ran(0, output, "")]
            with self.subTest(output), self.assertRaisesRegex(EnforcerUnreachable, "nft answers"):
                firewall.read()
            if "nftables" not in output:
                shell.carry_out.return_value = [Ran(0, output, ""), Ran(0, '{"nftables": []}', "")]
                with self.subTest(output):
                    self.assertIn("ip answers", str(firewall.read()["5"]))

    def test_octets_that_are_no_text(self) -> None:
        """A program of this machine may say anything, as one over SSH may: no octet of it breaks its reader."""
        with patch("scopion.attachment.connect.local_programs.require_unlocked"):
            shell = LocalShell()
        self.assertEqual(shell.run(["printf", r"\377x"]).output, "\udcffx")
        self.assertEqual(shell.run(["cat"], "\udcffx").output, "\udcffx")

    def test_damaged_rosters(self) -> None:
        """Each is told by ``roster check`` or read by every command, and none ends in a traceback."""
        self.assertEqual(sum(rosters.attack(6, self.seed).values()), 6)


if __name__ == "__main__":
    unittest.main()
