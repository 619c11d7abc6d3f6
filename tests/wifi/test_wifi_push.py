"""Pushes on the made-up site: the safe order, faults at every step, interruption, going back, and what verify says."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import unittest
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import timedelta
from ipaddress import IPv4Interface
from pathlib import Path
from unittest.mock import Mock, patch

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from scopion.attachment.connect.far_script import results_of, script_of
from scopion.attachment.connect.local_programs import LocalShell
from scopion.attachment.connect.one_by_one import OneByOne
from scopion.attachment.connect.ssh import SshShell
from scopion.attachment.ports import CHANGED, Program, Ran, WriteFile
from scopion.attachment.way_in import way_in
from scopion.model.address import Address, parse_address
from scopion.model.errors import Divided, EnforcerUnreachable, Refused, ScopionError
from scopion.model.mac import MacAddress, Notation
from scopion.model.observation import Observation, Source
from scopion.operations.folder.take_turns import only_push, only_watch
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.attend_lists import attend
from scopion.operations.wifi.network_context import unknown_way_in
from scopion.operations.wifi.preview_push import preview
from scopion.operations.wifi.push_lists import push, resume_interrupted
from scopion.operations.wifi.read_radios import RadioChoice
from scopion.operations.wifi.revert_push import revert_to
from scopion.operations.wifi.send_push import PushRequest
from scopion.operations.wifi.verify_network import verify
from scopion.roster.wifi.lists import ListMode
from scopion.roster.wifi.push_deadlines import Boot, left_s
from scopion.roster.wifi.pushes import PushState, note_reverted, pushes, with_deadline
from scopion.scenes.access_point import FILE as ACCESS_POINT_FILE
from scopion.scenes.access_point import SceneControlLine
from scopion.scenes.scene_files import SceneShell
from scopion.watching.revert_deadlines import require_reverter
from scopion.wireless.enforcer_settings import HostapdRadio, HostapdSettings, Radio, UciSettings
from scopion.wireless.enforcers.bridge import table_name
from scopion.wireless.enforcers.enforcer import Act, Effect, Held, ListStep, RadioStep, Traits, whole
from scopion.wireless.enforcers.hostapd import Hostapd, list_file, read_station, with_mode
from scopion.wireless.enforcers.uci import UciFile, interfaces, quoted, with_list, words_of
from scopion.wireless.order_steps import refused_on_the_way, steps
from tests.support import NOON, PROGRAM, FolderTest, PreparedTest, ProgramTest

TILL, STRANGER, DOOR = "54:b1:a3:7c:00:50", "a0:b4:d7:66:19:04", "7c:a4:b1:33:02:61"
FOREIGN = "10:00:00:00:00:77"
MACS = [MacAddress(bytes([0x7C, 0xA4, 0xB1, 0, 0, number])) for number in range(6)]
Ask = Callable[[SceneControlLine, str], str]
REAL_ASK = SceneControlLine.ask


def lists() -> st.SearchStrategy[frozenset[MacAddress]]:
    return st.frozensets(st.sampled_from(MACS), max_size=5)


class Order(unittest.TestCase):
    @given(
        held=st.builds(Held, lists(), lists(), st.one_of(st.none(), st.sampled_from(ListMode))),
        target=st.builds(Held, lists(), lists(), st.sampled_from(ListMode)),
        protected=lists(),
        capacity=st.one_of(st.none(), st.integers(0, 12)),
        atomic=st.booleans(),
    )
    def test_nobody_who_stays_is_refused_on_the_way(
        self, held: Held, target: Held, protected: frozenset[MacAddress], capacity: int | None, atomic: bool
    ) -> None:
        """A device that is admitted before and after is admitted after each step; at the end everything is as it should
        be.
        """
        traits = Traits(Effect.REFUSES, Notation.COLON, atomic=atomic)
        stay = [mac for mac in protected if held.admits(mac) and target.admits(mac)]
        plan = steps(held, target, traits, first=stay, capacity=capacity)
        self.assertEqual(refused_on_the_way(held, plan, stay), [])
        state, most = held, max(held.entries, target.entries)
        for step in plan:
            state = step.after(state)
            if capacity is not None and most <= capacity:
                self.assertLessEqual(state.entries, capacity)
        self.assertEqual(state, target)

    def test_own_device_first_and_the_mode_last(self) -> None:
        """The order in which an allow list is put in force."""
        held, target = Held(mode=ListMode.OFF), Held(frozenset(MACS[:3]), frozenset(), ListMode.ALLOW)
        plan = steps(held, target, Traits(Effect.REFUSES), first=[MACS[2], MACS[1]])
        self.assertEqual([step.mac for step in plan[:3]], [MACS[2], MACS[1], MACS[0]])
        self.assertIs(plan[3].act, Act.MODE)


class Files(unittest.TestCase):
    def test_the_accept_file_keeps_what_is_not_ours(self) -> None:
        """Comments, VLANs and the order of lines stay."""
        before = "# by hand\n7c:a4:b1:00:00:01 5\n7c:a4:b1:00:00:02\n\n"
        after = list_file(before, frozenset([MACS[1], MACS[3]]))
        self.assertEqual(after, "# by hand\n7c:a4:b1:00:00:01 5\n\n7c:a4:b1:00:00:03\n")

    def test_the_mode_in_the_configuration(self) -> None:
        """Of the right BSS, in its place if it stands there; every other line stays."""
        text = "# x\ninterface=wlan0\nmacaddr_acl=0\nssid=K\nbss=guest\nssid=G"
        self.assertEqual(with_mode(text, "wlan0", "1"), text.replace("acl=0", "acl=1"))
        self.assertEqual(with_mode(text, "guest", "1"), f"{text}\nmacaddr_acl=1\n")
        self.assertEqual(with_mode(text, "wlan9", "1"), text)

    def test_several_links(self) -> None:
        """A device that uses several links at once is one station with all its addresses."""
        told = ["flags=[AUTH][ASSOC][AUTHORIZED]", "signal=-51", "connected_time=7", "rx_bytes=1", "tx_bytes=2"]
        links = ["peer_addr[0]=7c:a4:b1:00:00:01", "peer_addr[1]=7c:a4:b1:00:00:02"]
        station = read_station(MACS[0], told + links)
        assert station is not None
        self.assertEqual((station.links, station.signal, station.connected_s), ((MACS[1], MACS[2]), -51, 7))
        self.assertIsNone(read_station(MACS[0], ["flags=", "timeout_next=REMOVE"]))

    @settings(suppress_health_check=[HealthCheck.too_slow])  # characters of every script are slow to load at first
    @given(
        macs=st.lists(st.sampled_from(list(map(str, MACS))), unique=True),
        mode=st.sampled_from(["allow", "deny", "disable"]),
        ending=st.sampled_from(["\n", "\r\n"]),
        others=st.text(st.characters(blacklist_categories=["Cs", "Cc", "Zl", "Zp"]), max_size=20),
    )
    def test_uci_keeps_all_else_byte_for_byte(self, macs: list[str], mode: str, ending: str, others: str) -> None:
        """Only the list of the right section changes; written twice it is the same, and it reads back."""
        text = ending.join(
            [
                f"# {others}",
                "config wifi-device 'radio0'",
                "\toption channel '36'",
                "config wifi-iface",
                "\toption device radio0",
                '\toption ssid "Kilnhaven"',
                "\toption macfilter 'deny'",
                f"\t# {others}",
                "\tlist maclist 'AA:BB:CC:00:00:01'",
                "config wifi-iface 'guests'",
                "\toption ssid 'Guests'",
                "\tlist maclist '02:00:00:00:00:01'",
            ]
        )
        ((section,),) = interfaces(text, "Kilnhaven").values()
        self.assertEqual(list(interfaces(text, "Kilnhaven")), ["5"])
        once = with_list(text, section, mode, macs)
        ((again,),) = interfaces(once, "Kilnhaven").values()
        self.assertEqual((again.options["macfilter"], again.lists.get("maclist", [])), (mode, macs))
        self.assertEqual(with_list(once, again, mode, macs), once)
        kept = [line for line in text.split(ending) if "macfilter" not in line and "AA:BB" not in line]
        self.assertEqual([line for line in once.split(ending) if line in kept], kept)
        self.assertEqual(len(once.split(ending)), len(kept) + 1 + len(macs))


class Uci(FolderTest):
    """A router's file with whatever people write into it, as UCI itself reads it."""

    @given(st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\n\r\0"), max_size=32))
    def test_a_word_is_read_as_it_was_meant(self, text: str) -> None:
        """Any SSID, quoted by the one function for that, is that SSID again, and nothing comes after it."""
        self.assertEqual(words_of(f"\toption ssid {quoted(text)} # it is"), ["option", "ssid", text])

    def test_quotes_blanks_and_signs(self) -> None:
        """As the firmware's own parser takes them: parts of a word, escapes, a # within a word; no line end gets in."""
        for written, meant in (
            ("'Kiln # 1'", "Kiln # 1"),
            ("Kiln#1", "Kiln#1"),
            ("Kiln\\ Shop", "Kiln Shop"),
            ('"Potter\'s \\"best\\""', 'Potter\'s "best"'),
            ("'Potter'\\''s'", "Potter's"),
            ("''", ""),
            ("'a\\b'", "a\\b"),
        ):
            self.assertEqual(words_of(f"option ssid {written}   # comment"), ["option", "ssid", meant], written)
        self.assertEqual(words_of("  # option ssid 'x'"), [])
        for text in ("a\nlist maclist 'x'", "a\r", "a\0"):
            with self.assertRaises(Refused):
                quoted(text)

    def test_two_radios_of_one_band(self) -> None:
        """Both sections are written; a list that one of them lacks is not in force; going back puts the file back."""
        text = "".join(
            f"config wifi-device 'radio{number}'\n\toption band '5g'\n"
            f"config wifi-iface 'one{number}'\n\toption device 'radio{number}'\n\toption ssid \"Kiln # \\\"1\\\"\"\n"
            for number in range(2)
        )
        path = self.folder / "wireless"
        path.write_text(text)
        settings = UciSettings(type="uci", name="router", network='Kiln # "1"', file=str(path))
        enforcer = UciFile(settings, files_only)
        self.assertEqual(tuple(enforcer.read()), ("5",))
        before = enforcer.files()
        wanted = Held(frozenset(), frozenset(MACS[:2]), ListMode.DENY)
        enforcer.take([RadioStep("5", ListStep(Act.REPLACE, held=wanted))], lambda _: None)
        self.assertEqual(path.read_text().count(f"list maclist '{MACS[1]}'"), 2)
        self.assertEqual(whole(enforcer.read())["5"].held, wanted)
        lines = path.read_text().split("\n")
        lines.remove(f"\tlist maclist '{MACS[1]}'")
        path.write_text("\n".join(lines))
        held = whole(enforcer.read())["5"].held
        self.assertEqual(held.deny, {MACS[0]})
        self.assertRegex(
            held.remark, "2 radios of this band carry it: radio0 deny with . entr.*, radio1 deny with . entr"
        )
        lines.remove("\toption macfilter 'deny'")
        path.write_text("\n".join(lines))
        self.assertEqual(whole(enforcer.read())["5"].held, Held(mode=ListMode.OFF))
        enforcer.put_back(before)
        self.assertEqual(path.read_text(), text)

    def test_a_file_that_does_not_arrive_whole(self) -> None:
        """The other side's script: of a part of it nothing is done, and a file that was changed meanwhile stays."""
        path = self.folder / "wireless"
        link = self.folder / "link"
        link.symlink_to(path)
        old, new = "old\n" * 100, "new 'quoted' \udcff\x01 $x `y`\n" * 1000
        path.write_text(old)
        path.chmod(0o640)
        done = False
        for job, share, code in (
            (WriteFile(str(link), new, old), 0.3, None),
            (WriteFile(str(link), new, old), 0.999, None),
            (WriteFile(str(link), new, "older\n"), 1, CHANGED),
            (WriteFile(str(link), new, old), 1, 0),
            (WriteFile(str(self.folder / "new"), "x", ""), 1, 0),
            (WriteFile("/proc/version", "x", "y"), 1, CHANGED),
            (WriteFile(str(self.folder / "nowhere/file"), "x", ""), 1, 1),
        ):
            octets = script_of([job], "mark").encode("utf-8", "surrogateescape")
            ended = subprocess.run(
                ["sh", "-s"], input=octets[: int(len(octets) * share)], check=False, umask=0, capture_output=True
            )
            found = results_of(ended.stdout.decode(), "mark")
            self.assertEqual([each.code for each in found], [] if code is None else [code], found)
            done = done or (job.instead_of, code) == (old, 0)
            written = new if done else old
            self.assertEqual(path.read_bytes(), written.encode("utf-8", "surrogateescape"))
            self.assertEqual(path.stat().st_mode & 0o777, 0o640)
        self.assertTrue(link.is_symlink())
        self.assertEqual({each.name for each in self.folder.glob("*.*")}, set())


def files_only() -> LocalShell:
    """A shell by which nothing live is reached."""
    shell = LocalShell.__new__(LocalShell)
    OneByOne.__init__(shell, shell, lambda _: Mock(ask=Mock(return_value=""), remark=""))
    return shell


class Tables(unittest.TestCase):
    @given(st.lists(st.text(max_size=40), unique=True, min_size=2))
    def test_each_name_has_a_table_of_its_own(self, names: list[str]) -> None:
        """Two enforcers never share a table, whatever they are called; nft(8) takes each name."""
        tables = [table_name(name) for name in names]
        self.assertEqual(len(set(tables)), len(tables))
        for table in tables:
            self.assertRegex(table, r"\A[a-z_][a-z0-9_.]*\Z")


class Interrupted(unittest.TestCase):
    def test_a_late_reply_answers_no_other_command(self) -> None:
        """Ctrl-C while a command waits: its line is left, so that what is asked next is answered by its own reply."""
        opened: list[Line] = []

        class Line:
            def __init__(self) -> None:
                self.asked, self.remark = 0, ""
                opened.append(self)

            def ask(self, command: str) -> str:
                self.asked += 1
                if len(opened) == 1 and self.asked == 2:
                    raise KeyboardInterrupt
                return "OK\n" if "ADD" in command else ""

            def close(self) -> None:
                self.asked = -1

        radio = HostapdRadio(socket="/run/hostapd/wlan0")
        settings = HostapdSettings(type="hostapd", name="ap", network="Kilnhaven", radio={"5": radio})
        shell = LocalShell.__new__(LocalShell)
        OneByOne.__init__(shell, shell, lambda _: Line())
        enforcer = Hostapd(settings, lambda: shell)
        step = RadioStep("5", ListStep(Act.ADD, ListMode.DENY, MACS[0]))
        with self.assertRaises(KeyboardInterrupt):
            enforcer.take([step, step], lambda _: None)
        self.assertEqual(opened[0].asked, -1)
        enforcer.take([step], lambda _: None)
        self.assertEqual(len(opened), 2)

    def test_an_interrupt_while_it_is_told_what_was_done(self) -> None:
        """All steps were taken on the other side: each is told, so that every radio is brought back."""
        shell = SshShell.__new__(SshShell)
        shell._was_interrupted, told, stopped = False, list[int](), [KeyboardInterrupt()]

        def begins(number: int) -> None:
            if number == 1 and stopped:
                raise stopped.pop()
            told.append(number)

        def run(command: Sequence[str], stdin: str = "", *, within_s: float = 0.0) -> Ran:
            ended = subprocess.run(command, input=stdin, capture_output=True, text=True, check=False)
            return Ran(ended.returncode, ended.stdout, ended.stderr)

        with (
            patch.object(SshShell, "run", staticmethod(run)),
            patch.object(SshShell, "_is_open", True),
            self.assertRaises(KeyboardInterrupt),
        ):
            shell.carry_out([Program(("true",)) for _ in range(4)], begins)
        self.assertEqual(set(told), {0, 1, 2, 3})


class FilesOfOthers(FolderTest):
    def test_one_that_cannot_be_read_does_not_keep_the_others(self) -> None:
        """It is told; files of a radio that is not meant are not written; what was written is put back."""
        deny, other = self.folder / "deny", self.folder / "other"
        deny.write_text("# mine\n")
        (self.folder / "accept").mkdir()
        radios: dict[Radio, HostapdRadio] = {
            "5": HostapdRadio(socket="/run/a", accept_file=f"{self.folder}/accept", deny_file=str(deny)),
            "6": HostapdRadio(socket="/run/b", deny_file=str(other)),
        }
        enforcer = Hostapd(HostapdSettings(type="hostapd", name="ap", network="K", radio=radios), files_only)
        enforcer.read(files=True)
        with self.assertRaisesRegex(EnforcerUnreachable, "^ap: .*accept: Is a directory$"):
            enforcer.keep({"5": Held(deny=frozenset(MACS[:1]))})
        self.assertEqual((deny.read_text(), other.exists()), (f"# mine\n{MACS[0]}\n", False))
        enforcer.put_back({str(deny): "# mine\n"})
        self.assertEqual(deny.read_text(), "# mine\n")
        enforcer.keep({"6": Held(deny=frozenset(MACS[:1]))})
        enforcer.put_back({str(other): None})
        self.assertEqual(other.read_text(), "")

    def test_a_configuration_that_is_changed_during_a_push(self) -> None:
        """The push fails, and going back leaves what the other program wrote."""
        path = self.folder / "wireless"
        text = "config wifi-device 'r'\n\toption band '5g'\nconfig wifi-iface\n\toption device 'r'\n\toption ssid 'K'\n"
        path.write_text(text)
        enforcer = UciFile(UciSettings(type="uci", name="router", network="K", file=str(path)), files_only)
        before = (enforcer.read(), enforcer.files())[1]
        path.write_text(f"{text}\toption key 'new'\n")
        step = RadioStep("5", ListStep(Act.REPLACE, held=Held(deny=frozenset(MACS[:1]), mode=ListMode.DENY)))
        with self.assertRaisesRegex(EnforcerUnreachable, "was changed by another program meanwhile"):
            enforcer.take([step], lambda _: None)
        enforcer.put_back(before)
        self.assertEqual(path.read_text(), f"{text}\toption key 'new'\n")


class OnTheSite(PreparedTest):
    """At twelve past three in the night, with the stranger on 2.4 GHz and the till on 5 GHz."""

    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        site.begin()
        for _ in range(2):
            site.run_ok("demo", "--next", str(site.site))
        site.run_ok("scan", "--no-names")
        site.run_ok("label", "192.0.2.50", "till", "--essential")

    def refuse_the_stranger(self) -> None:
        self.run_ok("wifi", "deny", "Kilnhaven", "192.0.2.144")
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")

    def held(self) -> dict[str, tuple[list[str], list[str], int]]:
        """What the access point's file says that each radio holds."""
        path = self.site / ACCESS_POINT_FILE
        if not path.exists():
            return {"2.4": ([], [], 0), "5": ([], [], 0)}
        told = json.loads(path.read_text(encoding="utf-8"))["radios"]
        return {radio: (sorted(each["accept"]), sorted(each["deny"]), each["acl"]) for radio, each in told.items()}

    def lists_of(self, *macs: str) -> None:
        self.run_ok("wifi", "allow", "Kilnhaven", TILL, *macs, "--insist")
        self.run_ok("wifi", "mode", "Kilnhaven", "allow", "--insist")

    def test_the_second_radio(self) -> None:
        """Refused on one radio the stranger goes to the other; verify says so; refused there, too, it is gone."""
        self.refuse_the_stranger()
        changes = self.run_json("wifi", "preview", "Kilnhaven")["changes"]
        self.assertEqual({each["radio"] for each in changes if each["mac"] == STRANGER}, {"2.4", "5"})
        ended = self.run_program("wifi", "push", "Kilnhaven", "--radio", "2.4", "--yes")
        self.assertEqual(ended.returncode, 3)
        self.assertIn("it is associated on 5 GHz", ended.stdout)
        self.run_ok("wifi", "push", "Kilnhaven", "--radio", "5", "--yes")
        self.run_ok("wifi", "verify", "Kilnhaven")
        self.run_ok("wifi", "entries", "--lift", STRANGER)
        self.run_ok("wifi", "push", "Kilnhaven", "--yes")
        self.assertIn("connected again by hand", self.run_program("wifi", "verify", "Kilnhaven").stderr)

    def test_the_till_is_never_locked_out(self) -> None:
        """An allow list without it is refused where it is switched on, and where it is pushed; cable needs no entry."""
        self.run_ok("wifi", "allow", "Kilnhaven", "this-machine")
        self.assertIn("till is essential", self.refused(1, "wifi", "mode", "Kilnhaven", "allow"))
        self.run_ok("wifi", "mode", "Kilnhaven", "allow", "--insist")
        self.assertIn("which is essential", self.refused(1, "wifi", "push", "Kilnhaven", "--yes"))
        self.assertEqual(self.held()["5"], ([], [], 0))
        self.run_ok("wifi", "allow", "Kilnhaven", "till")
        self.run_ok("wifi", "drop", "Kilnhaven", "this-machine", "--insist")  # it is not on this network's air
        self.run_ok("wifi", "push", "Kilnhaven", "--yes")

    def test_what_does_not_fit_says_what_would(self) -> None:
        """The thirteenth entry, with entries to drop, or the mode that needs fewer; foreign entries count, too."""
        self.run_ok("wifi", "deny", "Kilnhaven", STRANGER)
        many = [f"10:00:00:00:00:{number:02x}" for number in range(12)]
        self.run_ok("wifi", "allow", "Kilnhaven", "till", *many[:11], "--capacity", "12")
        self.assertIn("mode deny needs 1 only", self.refused(1, "wifi", "allow", "Kilnhaven", many[11]))
        self.opened().attachment.open_control("/run/hostapd/wlan0").ask(f"ACCEPT_ACL ADD_MAC {FOREIGN}")
        self.run_ok("wifi", "mode", "Kilnhaven", "allow", "--insist")
        self.assertIn("not yours", self.refused(1, "wifi", "push", "Kilnhaven", "--yes"))

    def faulty(self, fault: Callable[[str], str | None]) -> Ask:
        """A line whose reply ``fault`` may replace, or raise an error instead of."""

        def ask(line: SceneControlLine, command: str) -> str:
            other = fault(command)
            return REAL_ASK(line, command) if other is None else other

        return ask

    def test_a_fault_at_every_step_is_rolled_back(self) -> None:
        """If the access point drops any one command, every radio holds what it held, or the push is whole."""
        self.lists_of(DOOR, STRANGER)
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--insist")
        before = self.held()
        self.run_ok("wifi", "drop", "Kilnhaven", STRANGER, "--insist")
        self.run_ok("wifi", "allow", "Kilnhaven", FOREIGN)
        failed = at = 0
        while True:
            count = 0

            def fault(command: str) -> str | None:
                nonlocal count
                count += 1
                if count == at:  # noqa: B023 - called before it changes
                    raise EnforcerUnreachable("the connection was cut")
                return None

            at += 1
            site = Site(self.site)
            with patch.object(SceneControlLine, "ask", self.faulty(fault)):
                try:
                    push(site, "Kilnhaven", PushRequest(insist=True))
                    whole = True
                except EnforcerUnreachable:
                    whole = False
            last = pushes(site.roster, "Kilnhaven")[0]
            site.close()
            if whole:
                break
            failed += 1
            self.assertEqual(self.held(), before, f"the fault at command {at}")
            self.assertIn(last.state, (PushState.DONE, PushState.ROLLED_BACK))
        self.assertGreater(failed, 15)
        self.assertNotEqual(self.held(), before)

    def test_an_interrupt_at_every_step(self) -> None:
        """Ctrl-C before or after any command, also while it is made to last: radios and files hold what they held."""
        path = self.site / "site.toml"
        files = ", ".join(
            f'"{radio}" = {{ socket = "/run/hostapd/{name}", accept_file = "/etc/accept.{name}", '
            f'deny_file = "/etc/deny.{name}", config = "/etc/hostapd-{name}.conf" }}'
            for radio, name in (("2.4", "wlan0"), ("5", "wlan1"))
        )
        enforcer = '[[enforcer]]\nname = "ap"\ntype = "hostapd"\nnetwork = "Kilnhaven"\n'
        path.write_text(f"{enforcer}radio = {{ {files} }}\n")
        etc = SceneShell(self.site, self.opened().attachment.open_control)
        for name in ("wlan0", "wlan1"):
            etc.write(f"/etc/hostapd-{name}.conf", f"interface={name}\nssid=Kilnhaven\nmacaddr_acl=0\n")
        self.lists_of(DOOR, STRANGER)
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--insist")
        self.run_ok("wifi", "drop", "Kilnhaven", STRANGER, "--insist")
        self.run_ok("wifi", "allow", "Kilnhaven", FOREIGN)

        def everything() -> tuple[object, ...]:
            written = [
                etc.read(f"/etc/{kind}")
                for kind in ("accept.wlan0", "accept.wlan1", "deny.wlan0", "hostapd-wlan1.conf")
            ]
            return self.held(), written

        before = everything()
        real_write = SceneShell.write
        stopped = 0
        for at, after in [(at, after) for at in range(1, 80) for after in (False, True)]:
            count = 0

            def reached(at: int = at) -> bool:
                nonlocal count
                count += 1
                return count == at

            def ask(line: SceneControlLine, command: str, after: bool = after) -> str:
                now = reached()
                if now and not after:
                    raise KeyboardInterrupt
                reply = REAL_ASK(line, command)
                if now:
                    raise KeyboardInterrupt
                return reply

            def write(shell: SceneShell, path: str, text: str, after: bool = after) -> None:
                now = reached()
                if now and not after:
                    raise KeyboardInterrupt
                real_write(shell, path, text)
                if now:
                    raise KeyboardInterrupt

            site = Site(self.site)
            with patch.object(SceneControlLine, "ask", ask), patch.object(SceneShell, "write", write):
                try:
                    push(site, "Kilnhaven", PushRequest(insist=True))
                    whole = True
                except KeyboardInterrupt:
                    whole = False
            last = pushes(site.roster, "Kilnhaven")[0]
            site.close()
            if whole:
                break
            stopped += 1
            self.assertIn(last.state, (PushState.DONE, PushState.ROLLED_BACK))
            self.assertEqual(everything(), before, f"interrupted {'after' if after else 'before'} step {at}")
        self.assertGreater(stopped, 40)
        self.assertNotEqual(everything(), before)

    def test_an_access_point_that_is_gone_for_good_is_told_as_divided(self) -> None:
        """It cannot be rolled back: what each radio holds is said, recorded, and mended by the next push."""
        self.refuse_the_stranger()
        done = 0

        def fault(command: str) -> str | None:
            nonlocal done
            done += command.startswith("DENY_ACL ADD_MAC")
            if done:
                raise EnforcerUnreachable("the connection was cut")
            return None

        site = self.opened()
        with patch.object(SceneControlLine, "ask", self.faulty(fault)), self.assertRaises(Divided) as caught:
            push(site, "Kilnhaven", PushRequest())
        self.assertIn("2.4 GHz cannot be read: it may hold some of each", str(caught.exception))
        self.assertIn("5 GHz holds the old list", str(caught.exception))
        self.assertIs(pushes(site.roster)[0].state, PushState.DIVIDED)
        push(site, "Kilnhaven", PushRequest())
        self.assertTrue(verify(site, "Kilnhaven").met)

    def test_of_several_enforcers_one_may_fail(self) -> None:
        """What the others hold by then is said; each has its own record, and the next push goes on."""
        path = self.site / "site.toml"
        text = path.read_text(encoding="utf-8")
        second = '[[enforcer]]\nname = "attic"\ntype = "hostapd"\nnetwork = "Kilnhaven"\n'
        five = 'radio."5" = { socket = "/run/hostapd/wlan1", config = "/etc/hostapd/wlan1.conf" }'
        self.assertIn(five, text)
        path.write_text(text.replace(five, "") + f"\n{second}{five}\n", encoding="utf-8")
        self.refuse_the_stranger()
        adding = 0

        def fault(command: str) -> str | None:
            nonlocal adding
            adding += command.startswith("DENY_ACL ADD_MAC")
            return "FAIL\n" if adding > 1 and command.startswith("DENY_ACL ADD_MAC") else None

        site = self.opened()
        with (
            patch.object(SceneControlLine, "ask", self.faulty(fault)),
            self.assertRaisesRegex(Divided, "attic .*rolled back.*; but workshop access point holds the new list"),
        ):
            push(site, "Kilnhaven", PushRequest())
        states = {each.enforcer: each.state for each in pushes(site.roster)}
        self.assertEqual(states, {"attic": PushState.ROLLED_BACK, "workshop access point": PushState.DONE})
        push(site, "Kilnhaven", PushRequest())
        self.assertTrue(verify(site, "Kilnhaven").met)

    def test_answers_that_are_none(self) -> None:
        """Garbage, a full list, another network, and lists that are gone when they are read back; a line each."""
        self.refuse_the_stranger()
        for command, reply, said in (
            ("DENY_ACL SHOW", "\x1b[31mHTTP/1.1 400\n", "answers '[31mHTTP/1.1 400'"),
            ("STATUS", "hello", "this is not a reply of an access point"),
            ("STATUS", "state=ENABLED\nbss[0]=wlan0\nssid[0]=Attic\n", "carries 'Attic', not 'Kilnhaven'"),
            ("STATUS", "state=DISABLED\nbss[0]=wlan0\nssid[0]=Kilnhaven\n", "is not on the air"),
            ("STA-FIRST", "nonsense\n", "is not a station"),
            (f"DENY_ACL ADD_MAC {STRANGER}", "FAIL\n", "did not add"),
        ):
            site = Site(self.site)
            answers = {command: reply}
            with (
                patch.object(SceneControlLine, "ask", self.faulty(answers.get)),
                self.assertRaises((EnforcerUnreachable, Refused)) as caught,
            ):
                push(site, "Kilnhaven", PushRequest())
            site.close()
            self.assertIn(said, str(caught.exception))
            self.assertEqual(self.held()["2.4"][1], [])
        self.assertNotIn("\x1b", str(caught.exception))

    def test_an_access_point_that_restarts_between_writing_and_reading_back(self) -> None:
        """Its lists are gone when they are read back: that is said, and the push is rolled back."""
        self.refuse_the_stranger()
        seen = 0

        def fault(command: str) -> str | None:
            nonlocal seen
            seen += command == "STATUS"
            return "" if command == "DENY_ACL SHOW" and seen >= 3 else None

        site = self.opened()
        missing = self.assertRaisesRegex(ScopionError, "1 of its entries is missing; has it restarted")
        with patch.object(SceneControlLine, "ask", self.faulty(fault)), missing:
            push(site, "Kilnhaven", PushRequest())

    def test_a_push_that_is_killed_at_any_step_is_gone_on_with(self) -> None:
        """Killed after each of its commands; the till is never refused, and the watch brings it to its end."""
        self.lists_of(DOOR)
        for at in range(1, 40):
            child = os.fork()
            if not child:
                self._die_at(at)
            ended = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
            for accept, deny, acl in self.held().values():
                self.assertTrue(TILL in accept or (TILL not in deny and acl == 0), at)
            site = Site(self.site)
            with patch.object(SceneControlLine, "ask", REAL_ASK):
                attend(site, stations=False)
                resume_interrupted(site)
                last = pushes(site.roster, "Kilnhaven", 2)
            if last:
                self.assertIs(last[0].state, PushState.DONE)
                self.assertEqual({each[0][1] for each in self.held().values()}, {DOOR})
                revert_to(site, pushes(site.roster)[-1].id)
                site.roster.db.execute("DELETE FROM push")
            site.close()
            (self.site / ACCESS_POINT_FILE).unlink(missing_ok=True)
            if ended == 0:
                break
        else:
            self.fail("the push never ended")
        self.assertGreater(at, 12)

    def _die_at(self, at: int) -> None:
        """In a child: push, and end without a word at the so many-th command."""
        count = 0

        def ask(line: SceneControlLine, command: str) -> str:
            nonlocal count
            count += 1
            if count == at:
                os._exit(9)
            return REAL_ASK(line, command)

        try:
            with patch.object(SceneControlLine, "ask", ask):
                push(Site(self.site), "Kilnhaven", PushRequest(insist=True))
        finally:
            os._exit(0)

    def test_going_back_to_any_push(self) -> None:
        """Each push is kept with before and after; also what was published is back, and a deadline takes it back."""
        self.refuse_the_stranger()
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.run_ok("wifi", "deny", "Kilnhaven", DOOR)
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.run_ok("wifi", "deny", "Kilnhaven", FOREIGN)
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--revert-after", "5m")
        self.assertEqual(len(self.held()["5"][1]), 3)
        self.run_ok("watch", "--for", "6m")
        self.assertEqual(self.held()["5"][1], sorted([STRANGER, DOOR]))
        self.run_ok("wifi", "revert", "--to", "1", "--yes")
        self.assertEqual(self.held()["5"][1], [])
        self.refused(3, "wifi", "revert", "--to", "99", "--yes")
        self.refused(3, "wifi", "keep")

    def test_what_was_taken_back_stays_so(self) -> None:
        """The watch does not bring it back, on a radio that had no list neither; what was ours before is ours again."""
        self.refuse_the_stranger()
        for radio in ("2.4", "5"):
            self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--radio", radio)
        self.run_ok("wifi", "revert", "Kilnhaven", "--yes")
        self.run_ok("watch", "--for", "2m")
        self.assertEqual((self.held()["2.4"][1], self.held()["5"][1]), ([STRANGER], []))
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.run_ok("wifi", "drop", "Kilnhaven", STRANGER)
        self.run_ok("wifi", "deny", "Kilnhaven", DOOR)
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.run_ok("wifi", "revert", "Kilnhaven", "--yes")
        self.run_ok("watch", "--for", "2m")
        self.assertEqual(self.held()["5"][1], [STRANGER])
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertEqual(self.held()["5"][1], [DOOR])

    def test_hours_are_carried_out_as_they_were_published(self) -> None:
        """At closing time the tablets go, also when the watch was not there then; unpublished edits wait for a push."""
        self.run_ok("demo", "--next", str(self.site))
        self.run_ok("scan", "--no-names")
        self.run_ok("wifi", "allow", "Kilnhaven", TILL)
        self.run_ok("wifi", "allow", "Kilnhaven", DOOR, "--hours", "mon-sat 08:00-18:00")
        self.run_ok("wifi", "mode", "Kilnhaven", "allow", "--insist")
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertIn(DOOR, self.held()["5"][0])
        self.run_ok("wifi", "allow", "Kilnhaven", FOREIGN)
        for _ in range(4):
            self.run_ok("demo", "--next", str(self.site))  # half past seven in the evening
        self.run_ok("watch", "--for", "1m")
        self.assertEqual(self.held()["5"][0], [TILL])
        self.run_ok("watch", "--for", "12.6h")
        self.assertEqual(self.held()["5"][0], sorted([TILL, DOOR]))

    def test_refused_attempts_are_told(self) -> None:
        """The watch hears who is turned away by this machine's access point; of one over SSH its log is asked."""
        self.refuse_the_stranger()
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        said = self.run_program("wifi", "verify", "Kilnhaven", "--no-scan").stderr
        self.assertIn("does not tell who was turned away: hostapd writes it to its log only if", " ".join(said.split()))
        path = self.site / "site.toml"
        text = path.read_text(encoding="utf-8")
        self.assertIn('ssh = { host = "192.0.2.2" }\n', text)
        path.write_text(text.replace('ssh = { host = "192.0.2.2" }\n', ""), encoding="utf-8")
        said = self.run_program("wifi", "verify", "Kilnhaven", "--no-scan").stderr
        self.assertIn("does not tell who was turned away: it is heard while the watch runs", " ".join(said.split()))
        self.run_ok("watch", "--for", "3h")
        said = self.run_program("wifi", "verify", "Kilnhaven", "--no-scan").stderr
        told = rf"5 GHz: .*{STRANGER}\S* was turned away [67] times since \w+ [\d-]+, \d\d:\d\d, last on"
        self.assertRegex(" ".join(said.split()), told)

    def test_an_access_point_that_has_begun_anew_is_given_its_lists_again(self) -> None:
        """The watch sees that they are gone, or that a refused device is associated; not again and again."""
        self.lists_of(DOOR)
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--insist")
        before = self.held()
        for forgotten in ("everything", "the mode"):
            path = self.site / ACCESS_POINT_FILE
            told = json.loads(path.read_text(encoding="utf-8"))
            for radio in told["radios"].values():
                radio["acl"] = 0
                if forgotten == "everything":
                    radio["accept"] = []
            told["associated"] = {}
            path.write_text(json.dumps(told), encoding="utf-8")
            site = Site(self.site)
            site.roster.db.execute("UPDATE push SET at = at - 3600000")
            self.assertIn("mode allow", attend(site, stations=True).done[0])
            self.assertEqual(attend(site, stations=True).done, [])
            site.close()
            self.assertEqual(self.held(), before, forgotten)

    def test_the_sheet_for_a_router_with_a_page(self) -> None:
        """Only the difference after wifi done; a client list is judged; what cannot be read is said."""
        listed = ("--router", "203.0.113.1", "--notation", "hyphen")
        said = self.run_program("wifi", "deny", "Guests", STRANGER, *listed).stderr
        self.assertIn("To check the address: phones and computers show their", said)
        self.run_ok("wifi", "mode", "Guests", "deny")
        sheet = self.run_ok("wifi", "push", "Guests", "--yes")
        self.assertEqual(self.run_ok("wifi", "sheet", "Guests"), sheet)
        self.assertEqual(sheet.count("A0-B4-D7-66-19-04"), 2)
        self.assertIn("the one on the router's label", " ".join(sheet.split()))
        self.assertIn("To join a network whose name is hidden", sheet)
        self.run_ok("wifi", "done", "Guests")
        self.assertIn("nothing to do", self.run_ok("wifi", "sheet", "Guests"))
        self.run_ok("wifi", "deny", "Guests", DOOR)
        self.run_ok("wifi", "entries", "--lift", STRANGER)
        text = self.run_ok("wifi", "sheet", "Guests")
        self.assertLess(text.index("add to its deny list"), text.index("remove from its deny list"))
        self.assertIn("A0-B4-D7-66-19-04", self.run_ok("wifi", "sheet", "Guests", "--html", "-"))
        self.run_ok("wifi", "done", "Guests")
        clean = self.run_program(
            "wifi", "verify", "Guests", "--clients", "-", "--no-scan", stdin="till 54-B1-A3-7C-00-50\n"
        )
        self.assertEqual(clean.returncode, 0, clean.stderr)
        self.assertIn("it cannot be read", clean.stdout)
        found = self.run_program("wifi", "verify", "Guests", "--clients", "-", "--no-scan", stdin=f"x {DOOR}\n")
        self.assertEqual(found.returncode, 3)
        self.assertEqual(self.run_program("wifi", "verify", "Guests", "--no-scan").returncode, 3)  # nothing was seen

    def test_who_is_here_all_the_same_is_explained(self) -> None:
        """By cable, or by an access point that is not read; and by cable for certain where that is known."""
        storage = "10:c0:de:4a:11:05"
        self.run_ok("wifi", "deny", "Kilnhaven", storage)
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        ended = self.run_program("wifi", "verify", "Kilnhaven")
        self.assertEqual(ended.returncode, 3)
        self.assertIn("by cable, or by another access point", ended.stdout)
        with self.opened().roster.transaction() as db:  # it turns out to have another adapter, for the air
            db.execute("UPDATE adapter SET medium = 'cable' WHERE mac = ?", (storage,))
            db.execute(
                "INSERT INTO adapter (mac, device, medium, own, first_seen, last_seen) "
                "SELECT ?, device, 'wireless', 0, first_seen, last_seen FROM adapter WHERE mac = ?", (FOREIGN, storage)
            )  # fmt: skip
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        told = self.run_program("wifi", "verify", "Kilnhaven")
        self.assertEqual(told.returncode, 0, told.stdout)
        self.assertIn("by cable, where a wireless list has no effect", told.stderr)

    def test_what_is_being_taken_back_is_not_kept(self) -> None:
        """At its deadline keep waits for the end of a taking back; before that it waits for no other push."""
        self.refuse_the_stranger()
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--revert-after", "1h")
        with only_push(self.site):  # another push, to a slow router
            self.run_ok("wifi", "keep")
        site = self.opened()
        self.assertEqual(with_deadline(site.roster), [])
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--revert-after", "1h")
        with site.roster.transaction() as db:  # its time is up
            db.execute("UPDATE push SET revert_at = ended WHERE revert_at IS NOT NULL")
        (push,) = with_deadline(site.roster)
        environment = {**os.environ, "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces"}
        with only_push(self.site):
            keeping = subprocess.Popen([PROGRAM, "wifi", "keep"], stderr=subprocess.PIPE, text=True, env=environment)
            with self.assertRaises(subprocess.TimeoutExpired):
                keeping.communicate(timeout=2)
            note_reverted(site.roster, push.id, push.id)
        self.assertIn("no push is waiting to be kept", keeping.communicate(timeout=30)[1])
        self.assertEqual(keeping.returncode, 3)
        self.assertEqual(revert_to(site, push.id, if_waiting=True), [])

    def test_away_from_the_network_it_cannot_look(self) -> None:
        """On none of the site's subnets, or on another network with the same addresses, silence is no good news."""
        self.refuse_the_stranger()
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        wired = self.opened().attachment.interfaces()[0]
        away = replace(wired, addresses=(IPv4Interface("198.18.7.10/24"),), gateway=None)
        for there in ((), (away,)):
            site = self.opened()
            with patch.object(type(site.attachment), "interfaces", return_value=there):
                self.assertEqual(self.looked(site), (None, "cannot look: no interface is on 192.0.2.0/24"))
        site = self.opened()
        strangers = [
            Observation(MacAddress(bytes([0x10, 0, 0, 0, 0, last])), parse_address(f"192.0.2.{last}"), NOON, Source.ARP)
            for last in (1, 7)  # another gateway, and somebody of another network
        ]
        with patch("scopion.operations.wifi.verify_network.who_answers", return_value=strangers):
            met, says = self.looked(site)
        self.assertIsNone(met)
        self.assertIn("cannot look: this is not one of the site's networks", says)

    def looked(self, site: Site) -> tuple[bool | None, str]:
        """What the scan of a verification says."""
        (scan,) = [check for check in verify(site, "Kilnhaven").checks if check.where.startswith("a scan")]
        return scan.met, scan.says

    def test_the_station_by_which_somebody_is_logged_in(self) -> None:
        """An allow list without it is refused: it is the administrator's own way; who is on cable needs no entry."""
        self.run_ok("demo", "--next", str(self.site))
        self.run_ok("scan", "--no-names")
        self.run_ok("wifi", "allow", "Kilnhaven", "till", DOOR)
        self.run_ok("wifi", "mode", "Kilnhaven", "allow", "--insist")
        push_it = ("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        way = self.refused(1, *push_it, SSH_CONNECTION="192.0.2.90 50000 192.0.2.10 22")
        self.assertIn("by which you are logged in", way)
        # sudo takes the variable away: the shell above has it still.
        command = ["sh", "-c", f'unset SSH_CONNECTION; "$0" {" ".join(push_it)}; exit $?', PROGRAM]
        for with_variable in (True, False):
            above = {"SSH_CONNECTION": "192.0.2.90 50000 192.0.2.10 22"} if with_variable else {}
            ended = subprocess.run(
                ["sh", "-c", '"$@"; exit $?', "sh", *command], capture_output=True, text=True, check=False,
                env={**os.environ, "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces", **above},
            )  # fmt: skip
            self.assertEqual("by which you are logged in" in ended.stderr, with_variable, ended.stderr)
        with self.opened().roster.transaction() as db:
            db.execute("UPDATE adapter SET medium = 'cable' WHERE mac = '60:f2:a7:55:01:81'")
        cable = self.run_program(*push_it, SSH_CONNECTION="192.0.2.81 50000 192.0.2.10 22")
        self.assertEqual(cable.returncode, 0, cable.stderr)

    def test_a_configuration_file_as_the_enforcer(self) -> None:
        """Its list is read, written and verified; without a way to see who is associated, the scan decides."""
        path = self.site / "etc/config/wireless"
        path.parent.mkdir(parents=True)
        listed = "\toption macfilter 'allow'\n\tlist maclist '10:00:00:00:00:77'\n"
        path.write_text(f"config wifi-iface 'a'\n\toption ssid 'Yard'\n{listed}", encoding="ascii")
        settings = self.site / "site.toml"
        with settings.open("a", encoding="utf-8") as file:
            file.write('\n[[enforcer]]\nname = "yard"\ntype = "uci"\nnetwork = "Yard"\n')
        self.run_ok("wifi", "import", "Yard")
        self.run_ok("wifi", "allow", "Yard", "till")
        self.run_ok("wifi", "mode", "Yard", "allow", "--insist")
        self.run_ok("wifi", "push", "Yard", "--yes", "--no-verify", "--insist")
        self.assertIn(f"\tlist maclist '{TILL}'\n", path.read_text(encoding="ascii"))
        checks = self.run_json("wifi", "verify", "Yard", "--no-scan")["checks"]
        self.assertEqual([(each["what"], each["met"]) for each in checks], [("list", True), ("associated", None)])
        path.write_text("config wifi-iface 'a'\n\toption ssid 'Elsewhere'\n", encoding="ascii")
        self.assertIn("on no radio", self.refused(1, "wifi", "push", "Yard", "--yes"))

    def test_sentences_come_from_what_was_read_back(self) -> None:
        """With a foreign entry kept on one radio, push, verify and revert say what each radio holds, and no more."""
        foreign, ours = "7c:a4:b1:33:02:61", "7c:a4:b1:33:02:62"
        path = self.site / "etc/config/wireless"
        path.parent.mkdir(parents=True)
        radios = "".join(
            f"config wifi-device 'r{number}'\n\toption band '{number}g'\n"
            f"config wifi-iface 'i{number}'\n\toption device 'r{number}'\n\toption ssid 'Yard'\n"
            for number in (2, 5)
        )
        held = f"\toption macfilter 'deny'\n\tlist maclist '{foreign}'\n"
        path.write_text(radios + held, encoding="ascii")
        with (self.site / "site.toml").open("a", encoding="utf-8") as file:
            file.write('\n[[enforcer]]\nname = "yard"\ntype = "uci"\nnetwork = "Yard"\n')
        self.run_ok("wifi", "deny", "Yard", ours)
        self.run_ok("wifi", "mode", "Yard", "deny")
        pushed = self.run_program("wifi", "push", "Yard", "--yes").stderr
        said = "(read back). 2.4 GHz: mode deny, 1 entry; 5 GHz: mode deny, 2 entries, 1 of them not yours"
        self.assertIn(said, pushed)
        self.assertNotIn("is admitted again", pushed)
        reverted = self.run_program("wifi", "revert", "Yard", "--yes").stderr
        self.assertIn("2.4 GHz: mode off, no entries; 5 GHz: mode deny, 1 entry, all of them not yours", reverted)
        self.assertTrue(path.read_text(encoding="ascii").endswith(held))
        self.run_ok("wifi", "push", "Yard", "--yes", "--no-verify")
        self.run_ok("wifi", "mode", "Yard", "off")
        self.assertIn("without effect in mode off", self.run_program("wifi", "preview", "Yard").stderr)
        switched = self.run_program("wifi", "push", "Yard", "--yes")
        self.assertEqual(switched.returncode, 0, switched.stderr)
        self.assertIn("2.4 GHz and 5 GHz: mode off, no entries", switched.stderr)
        self.assertIn(f"{foreign} is admitted again", switched.stderr.replace("tablet", ""))
        self.assertIn(f"macfilter 'disable'\n\tlist maclist '{foreign}'", path.read_text(encoding="ascii"))

    def test_a_clock_that_is_set_does_not_move_a_deadline(self) -> None:
        """Set back or forward, the span is the same as long as the machine runs; after a restart it is no longer."""
        self.refuse_the_stranger()
        site = self.opened()
        at = site.clock.now()
        boot = Boot("this start", 1000.0)
        with patch.object(Site, "boot", lambda _: boot):
            push(site, "Kilnhaven", PushRequest(revert_at=at + timedelta(minutes=10), insist=True))
            (waiting,) = with_deadline(site.roster)
            for wall_h, seconds, start, left in (
                (0, 1000, "this start", 600), (-3, 1300, "this start", 300), (5, 1300, "this start", 300),
                (-3, 1601, "this start", -1), (0, 20, "another", 580), (1, 20, "another", -3000),
                (-30, 20, "another", 580), (-30, 601, "another", -1),
            ):  # fmt: skip
                found = left_s(site.roster, waiting, at + timedelta(hours=wall_h, seconds=0), Boot(start, seconds))
                self.assertEqual(round(found), left, (wall_h, seconds, start))
            self.assertEqual(round(left_s(site.roster, waiting, at, None)), 600)
            with patch.object(Site, "boot", lambda _: Boot("this start", 1300.0)):
                said = preview(site, "Kilnhaven", RadioChoice()).taken_back
            assert said is not None
            self.assertEqual(round((said - site.clock.now()).total_seconds()), 300)
            with patch.object(Site, "boot", lambda _: Boot("this start", 1601.0)):
                attend(site, stations=False)  # though the time of day has not come
        self.assertEqual(with_deadline(site.roster), [])
        self.assertEqual(self.held()["5"][1], [])

    def test_a_deadline_that_nobody_could_keep_is_refused(self) -> None:
        """Where no process can be left behind, nothing is sent; where one does not get ready, neither."""
        site = self.opened()
        site.story = None  # as on a real network
        with patch("subprocess.Popen", side_effect=OSError("no more processes")), self.assertRaises(Refused):
            require_reverter(site, 300)
        with (
            patch("scopion.watching.revert_deadlines.program_path", return_value=Path("/bin/true")),
            self.assertRaisesRegex(Refused, "did not get ready"),
        ):
            require_reverter(site, 300)
        with only_watch(self.site):
            self.assertIn("the watch, process", require_reverter(site, 300))

    def test_hostile_names_on_the_printed_sheet(self) -> None:
        """What a device or a person calls it is text on the page, never markup."""
        self.run_ok("label", "192.0.2.144", "<script>alert(1)</script>")
        self.run_ok("wifi", "deny", "Guests", STRANGER)
        self.run_ok("wifi", "mode", "Guests", "deny")
        page = self.run_ok("wifi", "sheet", "Guests", "--html", "-")
        self.assertIn("&lt;script&gt;", page)
        self.assertNotIn("<script", page)


class LoggedIn(FolderTest):
    """By a made-up /proc: from which address somebody is logged in where ``sudo`` has hidden it."""

    def proc(self, *, port: int, sockets: Sequence[str] = (), others: int = 22) -> frozenset[Address] | None:
        """The way in of a process below an SSH server that holds some sockets; 7 is its connection's."""
        proc = self.folder / f"proc-{port}-{len(sockets)}-{others}"
        for number, parent, name in ((os.getppid(), 70, "sudo"), (70, 1, "sshd-session")):
            process = proc / str(number)
            (process / "fd").mkdir(parents=True)
            (process / "stat").write_text(f"{number} ({name} (x)) S {parent} 0")
            (process / "comm").write_text(name)
        for place, each in enumerate(sockets):
            (proc / "70/fd" / str(place)).symlink_to(f"socket:[{each}]")
        (proc / "net").mkdir()
        rows = [(port, "5A0200C0", 7), (others, "510200C0", 8)]  # 192.0.2.90 and .81, in the order of little-endian
        if sys.byteorder == "big":
            rows = [(port, "C000025A", 7), (others, "C0000251", 8)]
        text = "".join(
            f"  0: 0A0200C0:{local:04X} {remote}:C350 01 00000000:00000000 00:00000000 00000000 0 0 {inode} 1\n"
            for local, remote, inode in rows
        )
        (proc / "net/tcp").write_text(f"  sl  local_address rem_address ...\n{text}")
        with patch.dict(os.environ):
            os.environ.pop("SSH_CONNECTION", None)
            return way_in(proc)

    def test_the_servers_own_socket_tells_at_any_port(self) -> None:
        """Its connection, not another's; else all at the usual port; else it is said that it is not known."""
        phone, desk = parse_address("192.0.2.90"), parse_address("192.0.2.81")
        self.assertEqual(self.proc(port=2222, sockets=("5", "7")), {phone})
        self.assertEqual(self.proc(port=22), {phone, desk})
        self.assertIsNone(self.proc(port=2222, others=443))
        with patch("scopion.operations.wifi.network_context.way_in", return_value=None):
            self.assertIn("is not known from which device you are logged in", unknown_way_in())
        with patch("scopion.operations.wifi.network_context.way_in", return_value=frozenset()):
            self.assertEqual(unknown_way_in(), "")


class ByDay(ProgramTest):
    def test_who_comes_back_under_another_address_is_told(self) -> None:
        """The apprentice's telephone is refused as it was on Monday; on Tuesday it is here all the same."""
        self.begin()
        self.run_ok("demo", "--next", str(self.site))
        self.run_ok("scan")
        self.run_ok("wifi", "deny", "Kilnhaven", "192.0.2.91")
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")
        for _ in range(3):
            self.run_ok("demo", "--next", str(self.site))  # Tuesday, ten past two
        self.run_ok("scan")
        self.run_ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        said = self.run_program("wifi", "verify", "Kilnhaven").stderr
        self.assertRegex(said, r"is gone, but apprentices-telephone \(4e:08:b3:9d:61:20\) is here and .* the same")


if __name__ == "__main__":
    unittest.main()
