"""Real enforcers: hostapd takes a station's authorisation, nftables a host's connectivity, over SSH and by sockets."""

from __future__ import annotations

import contextlib
import errno
import itertools
import json
import os
import re
import shutil
import signal
import socket
import sqlite3
import subprocess
import tempfile
import threading
import time
import unittest
from collections.abc import Sequence
from pathlib import Path
from typing import ClassVar
from unittest.mock import patch

from scopion.attachment.connect.control_socket import LocalControlLine
from scopion.attachment.connect.local_programs import LocalShell
from scopion.attachment.connect.ssh import SshShell
from scopion.attachment.ports import NO_FILE, Ran, ReadFile, Shell, SshAccess, WriteFile
from scopion.model.errors import EnforcerUnreachable
from scopion.wireless.enforcer_settings import HOSTAPD_READABLE as READABLE
from tests import dialect
from tests.lab.in_the_lab import InTheLab
from tests.lab.lab import PROGRAM, Lab, LabHost, require_lab
from tests.lab.services import Services, wait_for
from tests.lab.wireless import ADDRESS, AccessPoint
from tests.receivers import HostileServer

STATION = str(dialect.STATION)
OTHER = str(dialect.OTHER)
PHONE = LabHost("phone", "6c:d1:9e:08:40:90", ("192.0.2.90",))
TABLET = LabHost("tablet", "7c:a4:b1:33:02:62", ("192.0.2.62",))


class AirLab(InTheLab):
    """A lab with an access point, built once for the class."""

    services: ClassVar[Services]
    ap: ClassVar[AccessPoint]

    @classmethod
    def setUpClass(cls) -> None:
        require_lab()
        cls.folder = Path(tempfile.mkdtemp(prefix="scopion-air-"))
        cls.addClassCleanup(shutil.rmtree, cls.folder)
        cls.lab = Lab([LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",))])
        cls.addClassCleanup(cls.lab.close)
        cls.services = Services(cls.lab, cls.folder, cls)
        cls.ap = AccessPoint(cls.lab, cls.services, cls.folder)


SSH = f'ssh = {{{{ host = "{ADDRESS}", key = "{{ssh}}/key", known_hosts = "{{ssh}}/known_hosts" }}}}\n'


class Daemon(AirLab):
    """hostapd with two radios on wired ports."""

    process: ClassVar[subprocess.Popen[bytes]]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.ap.radio("wl0", OTHER)
        cls.ap.radio("wl1", STATION)
        cls.ap.ssh_server()
        cls.process = cls.ap.hostapd("wl0", "wl1")

    def setUp(self) -> None:
        super().setUp()
        for interface in ("wl0", "wl1"):
            for command in ("DENY_ACL CLEAR", "ACCEPT_ACL CLEAR", "SET macaddr_acl 0"):
                self.ask(interface, command)

    def ask(self, interface: str, command: str) -> str:
        with self.lab.inside("ap"):
            line = LocalControlLine(str(self.ap.socket(interface)))
            try:
                return line.ask(command)
            finally:
                line.close()

    def enforcer(self, *, ssh: bool = True, network: str = "Kilnhaven", files: bool = False) -> str:
        radio = ", ".join(
            f'"{band}" = {{ socket = "{self.ap.socket(interface)}"'
            + (f', accept_file = "{self.folder}/{interface}.accept"' if files else "")
            + (f', deny_file = "{self.folder}/{interface}.deny"' if files else "")
            + (f', config = "{self.folder}/{interface}.conf"' if files else "")
            + " }"
            for band, interface in (("2.4", "wl0"), ("5", "wl1"))
        )
        text = f'[[enforcer]]\nname = "ap"\ntype = "hostapd"\nnetwork = "{network}"\nradio = {{ {radio} }}\n'
        return text + (SSH.format(ssh=self.folder / "ssh") if ssh else "")

    def associate(self, interface: str, mac: str) -> None:
        """A station with its rights; one that was just disconnected is forgotten after some seconds."""

        def there() -> bool:
            self.ap.associate(interface)
            return "[AUTHORIZED]" in self.ask(interface, f"STA {mac}")

        wait_for(f"{mac} on {interface}", there, within_s=30)

    def test_denying_takes_the_authorisation(self) -> None:
        """Through the program and over SSH: push one radio, verify names the other, push there, gone; then revert."""
        self.settings(self.enforcer())
        self.associate("wl1", STATION)
        self.ok("wifi", "deny", "Kilnhaven", STATION, "--description", "a try")
        self.ok("wifi", "mode", "Kilnhaven", "deny")
        (row,) = self.json("wifi", "stations")
        self.assertEqual((row["mac"], row["radio"], row["list"], row["admitted"]), (STATION, "5", "deny", False))
        self.assertGreaterEqual(row["sent"] or 0, 0)
        changes = self.json("wifi", "preview", "Kilnhaven")["changes"]
        leaving = [each for each in changes if each["change"] == "disconnect"]
        self.assertEqual([(each["radio"], each["mac"]) for each in leaving], [("5", STATION)])
        self.ok("wifi", "push", "Kilnhaven", "--radio", "2.4", "--yes", "--no-verify")
        verdict = self.scopion("wifi", "verify", "Kilnhaven", "--no-scan", "--format", "json")
        self.assertEqual(verdict.returncode, 3)
        unmet = [each for each in json.loads(verdict.stdout)["checks"] if each["met"] is False]
        self.assertEqual({each["where"] for each in unmet}, {"ap, 5 GHz"})
        self.assertIn("[AUTHORIZED]", self.ask("wl1", f"STA {STATION}"))
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertNotIn("[AUTHORIZED]", self.ask("wl1", f"STA {STATION}"))
        self.assertEqual(self.ask("wl0", "DENY_ACL SHOW").split()[0], STATION)
        self.ok("wifi", "verify", "Kilnhaven", "--no-scan")
        self.ok("wifi", "revert", "Kilnhaven", "--yes")
        self.assertEqual(self.ask("wl1", "DENY_ACL SHOW"), "")

    def test_a_socket_of_another_namespace(self) -> None:
        """As from a container that shares the folder: answers come to a named socket, which is said and is gone."""
        self.settings(self.enforcer(ssh=False))
        folder = self.ap.socket("wl0").parent
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as killed:
            killed.bind(str(folder / ".scopion-1-left"))
        self.ok("wifi", "deny", "Kilnhaven", STATION)
        self.ok("wifi", "mode", "Kilnhaven", "deny")
        said = self.scopion("--verbose", "wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertEqual(said.returncode, 0, said.stderr)
        self.assertIn(f"answers of {folder}/wl0 come to {folder}/.scopion-", " ".join(said.stderr.split()))
        self.assertIn(STATION, self.ask("wl0", "DENY_ACL SHOW"))
        self.assertEqual(list(folder.glob(".scopion*")), [])
        self.where = "ap"
        self.assertNotIn("come to", self.scopion("--verbose", "wifi", "preview", "Kilnhaven").stderr)

    def test_an_allow_list_admits_its_own_only(self) -> None:
        """No other station stays associated; foreign entries are kept, shown, taken over, or removed on request."""
        self.settings(self.enforcer(ssh=False))
        self.where = "ap"
        self.associate("wl0", OTHER)
        self.associate("wl1", STATION)
        self.ask("wl1", "ACCEPT_ACL ADD_MAC 10:00:00:00:00:77")
        self.ok("wifi", "allow", "Kilnhaven", STATION)
        self.ok("wifi", "mode", "Kilnhaven", "allow")
        foreign = [each for each in self.json("wifi", "preview", "Kilnhaven")["changes"] if each["change"] == "foreign"]
        self.assertEqual([each["mac"] for each in foreign], ["10:00:00:00:00:77"])
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertNotIn("[AUTHORIZED]", self.ask("wl0", f"STA {OTHER}"))
        self.assertIn("[AUTHORIZED]", self.ask("wl1", f"STA {STATION}"))
        self.ok("wifi", "verify", "Kilnhaven", "--no-scan")
        self.assertEqual(len(self.ask("wl1", "ACCEPT_ACL SHOW").splitlines()), 2)
        self.ok("wifi", "import", "Kilnhaven")
        self.assertEqual(len(self.json("wifi", "entries", "Kilnhaven")), 2)
        self.ok("wifi", "drop", "Kilnhaven", "10:00:00:00:00:77")
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--drop-foreign")
        self.assertEqual(len(self.ask("wl1", "ACCEPT_ACL SHOW").splitlines()), 1)

    def test_a_foreign_accept_entry_voids_a_denial(self) -> None:
        """The accept list counts first: that is said before, and verification is not met until it is removed."""
        self.settings(self.enforcer())
        self.ask("wl1", f"ACCEPT_ACL ADD_MAC {STATION}")
        self.ok("wifi", "deny", "Kilnhaven", STATION)
        self.ok("wifi", "mode", "Kilnhaven", "deny")
        self.assertIn("voids that", self.scopion("wifi", "preview", "Kilnhaven").stderr)
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.fails("wifi", "verify", "Kilnhaven", "--no-scan", code=3)
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--drop-foreign")
        self.ok("wifi", "verify", "Kilnhaven", "--no-scan")

    def test_its_files_keep_the_lists_through_a_restart(self) -> None:
        """What was pushed is in the accept and deny files, with the comments that were there; a new daemon has it."""
        self.settings(self.enforcer(files=True))
        deny = self.folder / "wl1.deny"
        deny.write_text("# kept by hand\n", encoding="ascii")
        self.ok("wifi", "deny", "Kilnhaven", STATION)
        self.ok("wifi", "mode", "Kilnhaven", "deny")
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertEqual(deny.read_text(encoding="ascii"), f"# kept by hand\n{STATION}\n")
        type(self).process.terminate()
        type(self).process.wait(10)
        self.assertIn("there is no control socket", self.in_words("wifi", "preview", "Kilnhaven"))
        type(self).process = self.ap.hostapd_again()
        self.assertEqual(self.ask("wl1", "DENY_ACL SHOW").split()[0], STATION)
        self.ok("wifi", "verify", "Kilnhaven", "--no-scan")
        self.ok("wifi", "allow", "Kilnhaven", STATION)
        self.ok("wifi", "mode", "Kilnhaven", "allow")
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertIn("macaddr_acl=1\n", (self.folder / "wl1.conf").read_text(encoding="utf-8"))
        self.ok("wifi", "mode", "Kilnhaven", "off")
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertIn("macaddr_acl=0\n", (self.folder / "wl1.conf").read_text(encoding="utf-8"))
        self.assertEqual(deny.read_text(encoding="ascii"), "# kept by hand\n")

    def in_words(self, *arguments: str) -> str:
        """What is said here and on the access point itself is the same, in the daemon's words or ours."""
        line = self.fails(*arguments)
        self.assertIn("wl0", line)
        where, self.where = self.where, "ap"
        settings = (self.site / "site.toml").read_text(encoding="utf-8")
        self.settings(self.enforcer(ssh=False))
        try:
            return self.fails(*arguments)
        finally:
            self.where = where
            self.settings(settings)

    def test_a_list_is_no_longer_than_can_be_read_back(self) -> None:
        """The daemon cuts its reply at 4096 octets: more entries than fit into that are refused."""
        for number in range(READABLE):
            self.ask("wl0", f"DENY_ACL ADD_MAC 10:00:00:00:01:{number:02x}")
        self.assertEqual(len(self.ask("wl0", "DENY_ACL SHOW").splitlines()), READABLE)
        for number in range(READABLE, READABLE + 40):
            self.ask("wl0", f"DENY_ACL ADD_MAC 10:00:00:00:01:{number:02x}")
        self.assertLess(len(self.ask("wl0", "DENY_ACL SHOW").splitlines()), READABLE + 40)

    def test_what_goes_wrong_is_said_in_a_line(self) -> None:
        """Another network, no daemon, no permission, a host key that is not known or has changed, no SSH at all."""
        self.settings(self.enforcer(network="Attic"))
        self.ok("wifi", "deny", "Attic", STATION)
        self.assertIn("carries 'Kilnhaven', not 'Attic'", self.fails("wifi", "push", "Attic", "--yes"))
        ssh = self.folder / "ssh"
        self.settings(self.enforcer())
        self.ok("wifi", "deny", "Kilnhaven", STATION)
        known = (ssh / "known_hosts").read_text(encoding="ascii")
        self.addCleanup((ssh / "known_hosts").write_text, known, encoding="ascii")
        (ssh / "known_hosts").write_text("", encoding="ascii")
        self.assertIn("its host key is not in", self.fails("wifi", "preview", "Kilnhaven"))
        (ssh / "known_hosts").write_text(f"{ADDRESS} {(ssh / 'key.pub').read_text(encoding='ascii')}", encoding="ascii")
        self.assertIn("has changed", self.fails("wifi", "preview", "Kilnhaven"))
        (ssh / "known_hosts").write_text(known, encoding="ascii")
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(self.site / "strange")], check=True)
        self.settings(self.enforcer().replace(f'key = "{ssh}/key"', 'key = "strange"'))
        self.assertIn("permission denied", self.fails("wifi", "preview", "Kilnhaven"))
        self.settings(self.enforcer().replace(ADDRESS, "192.0.2.1"))
        self.assertIn("cannot be reached", self.fails("wifi", "preview", "Kilnhaven"))
        with self.lab.inside("ap"):
            os.seteuid(65534)
            try:
                with self.assertRaisesRegex(EnforcerUnreachable, "is closed to this account"):
                    LocalControlLine(str(self.ap.socket("wl0")))
            finally:
                os.seteuid(0)

    def test_a_revert_is_carried_out_after_the_command_was_killed(self) -> None:
        """SIGKILL to the push and its session: the lists go back at the deadline all the same; keep prevents that."""
        self.settings(self.enforcer(ssh=False))
        self.where = "ap"
        self.ok("wifi", "deny", "Kilnhaven", STATION)
        self.ok("wifi", "mode", "Kilnhaven", "deny")
        process = subprocess.Popen(
            ["ip", "netns", "exec", self.lab.namespace("ap"), PROGRAM, "wifi", "push", "Kilnhaven", "--yes",
             "--revert-after", "6s"],
            env={**os.environ, "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces"},
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        wait_for("the entry", lambda: STATION in self.ask("wl1", "DENY_ACL SHOW"))
        os.killpg(process.pid, signal.SIGKILL)
        process.wait(10)
        self.assertIn(STATION, self.ask("wl1", "DENY_ACL SHOW"))
        wait_for("going back", lambda: self.ask("wl1", "DENY_ACL SHOW") == "" == self.ask("wl0", "DENY_ACL SHOW"), 20)
        states = [each["because"] for each in self.json("wifi", "revert", "--list")["pushes"]]
        self.assertIn("was not kept", states[0])
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--revert-after", "12s")
        self.ok("wifi", "keep", "Kilnhaven")
        self.stays_beyond(12)
        self.assertNotIn("was not kept", str(self.json("wifi", "revert", "--list")["pushes"][0]))

    def test_who_is_locked_out_is_led_back(self) -> None:
        """This machine's own adapter, which was on the air, is refused by the daemon: rescue says so, on which radios,
        and the first command that it names lets the adapter in again.
        """
        self.settings(self.enforcer(ssh=False))
        self.where = "ap"
        self.ok("scan", "--no-names")
        with contextlib.closing(sqlite3.connect(self.site / "roster.sqlite")) as db, db:
            (own,) = db.execute("SELECT DISTINCT device FROM adapter WHERE own").fetchone()
            db.execute(
                "INSERT OR REPLACE INTO adapter (mac, device, medium, medium_evidence, own, first_seen, last_seen) "
                "VALUES (?, ?, 'wireless', '', 1, 0, 0)",
                (STATION, own),
            )
        self.associate("wl1", STATION)
        self.assertIn("No list that was put in force here refuses this machine", " ".join(self.ok("rescue").split()))
        self.ok("wifi", "deny", "Kilnhaven", STATION, "--insist")
        self.ok("wifi", "mode", "Kilnhaven", "deny")
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--insist", "--no-verify", "--revert-after", "10m")
        self.assertIn(STATION, self.ask("wl1", "DENY_ACL SHOW"))
        self.assertNotIn("[AUTHORIZED]", self.ask("wl1", f"STA {STATION}"))
        said = " ".join(self.ok("rescue").split())
        self.assertIn(f"refuses this machine's wireless adapter {STATION} on 2.4 and 5 GHz", said)
        self.assertRegex(said, r"1\. Wait until \w+, [\d:]+: then it is taken back by itself")
        (command,) = set(re.findall(r"scopion (wifi revert Kilnhaven) takes", said))
        self.ok(*command.split(), "--yes")
        self.assertEqual(self.ask("wl1", "DENY_ACL SHOW"), "")
        self.associate("wl1", STATION)
        self.assertIn("No list that was put in force here refuses this machine", " ".join(self.ok("rescue").split()))

    def stays_beyond(self, deadline_s: float) -> None:
        """Both radios refuse the station all the time until well after a deadline that was longer ago than so long."""
        end, looked = time.monotonic() + deadline_s + 3, 0
        while time.monotonic() < end:
            for interface in ("wl0", "wl1"):
                self.assertIn(STATION, self.ask(interface, "DENY_ACL SHOW"))
                looked += 1
            time.sleep(0.2)
        self.assertGreater(looked, 10)

    def test_the_watch_takes_back_what_nobody_keeps_and_reads_who_is_there(self) -> None:
        """Beside its other work, over SSH: the deadline of a push is the watch's, and a station gets its place."""
        self.settings(self.enforcer().replace("[[enforcer]]", "[wireless]\nstations_s = 5\n[[enforcer]]", 1))
        self.ok("scan", "--no-names")
        self.ok("wifi", "deny", "Kilnhaven", OTHER)
        self.ok("wifi", "mode", "Kilnhaven", "deny")
        watching = self.lab.begin(["watch"], self.site)
        self.addCleanup(watching.communicate, timeout=20)
        self.addCleanup(watching.terminate)
        wait_for("the watch", self.is_watched)
        said = self.scopion("--verbose", "wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--revert-after", "5s")
        self.assertEqual(said.returncode, 0, said.stderr)
        self.assertIn("taken back by the watch", said.stderr)
        self.assertIn(OTHER, self.ask("wl0", "DENY_ACL SHOW"))
        self.associate("wl1", STATION)
        wait_for("going back", lambda: self.ask("wl0", "DENY_ACL SHOW") == "", 20)
        wait_for("the association", lambda: STATION in self.noted(), 20)
        # The same with keep: the watch leaves it in force when its time is up.
        self.ok("wifi", "drop", "Kilnhaven", OTHER)
        self.ok("wifi", "deny", "Kilnhaven", STATION)
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--revert-after", "8s")
        self.ok("wifi", "keep", "Kilnhaven")
        self.stays_beyond(8)
        self.assertNotIn("was not kept", str(self.json("wifi", "revert", "--list")["pushes"][0]))

    def is_watched(self) -> bool:
        """Whether a watch holds the site."""
        return bool((self.site / "watch.lock").exists() and (self.site / "watch.lock").read_text(encoding="ascii"))

    def noted(self) -> str:
        """The stations that the roster has on the air."""
        with contextlib.closing(sqlite3.connect(self.site / "roster.sqlite")) as db:
            return str(db.execute("SELECT mac, access_point, radio FROM association").fetchall())

    def test_two_pushes_at_once_are_one_after_the_other(self) -> None:
        """Both end well, and the lists are what was wanted last."""
        self.settings(self.enforcer())
        self.ok("wifi", "deny", "Kilnhaven", STATION, OTHER)
        self.ok("wifi", "mode", "Kilnhaven", "deny")
        command = self.lab.command(["wifi", "push", "Kilnhaven", "--yes", "--no-verify"])
        environment = {**os.environ, "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces"}
        both = [subprocess.Popen(command, env=environment, stderr=subprocess.PIPE, text=True) for _ in range(2)]
        said = [each.communicate(timeout=60)[1] for each in both]
        self.assertEqual([each.returncode for each in both], [0, 0], said)
        self.assertEqual(len(self.ask("wl0", "DENY_ACL SHOW").splitlines()), 2)
        pushes = self.json("wifi", "revert", "--list")["pushes"]
        self.assertEqual([each["state"] for each in pushes], ["done", "done"])
        self.assertGreaterEqual(pushes[0]["at"], pushes[1]["at"])


class RealDialect(AirLab, dialect.Dialect):
    """The real daemon passes the script of the made-up one."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.ap.radio("wl1", STATION)
        cls.ap.hostapd("wl1")

    def setUp(self) -> None:
        inside = self.lab.inside("ap")
        inside.__enter__()
        self.addCleanup(inside.__exit__, None, None, None)
        self.socket = str(self.ap.socket("wl1"))
        self.line = LocalControlLine(self.socket)
        self.addCleanup(self.line.close)
        for command in ("DENY_ACL CLEAR", "ACCEPT_ACL CLEAR", "SET macaddr_acl 0"):
            self.line.ask(command)

    def shell(self) -> Shell:
        return LocalShell()

    def associate(self) -> None:
        def there() -> bool:
            self.ap.associate("wl1")
            return "[AUTHORIZED]" in self.line.ask(f"STA {STATION}")

        wait_for("the station", there, within_s=30)


class Firewall(AirLab):
    """nftables on the access point's bridge, two hosts behind it."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.ap.station(PHONE, "wlan0")
        cls.ap.station(TABLET, "wlan1")
        cls.ap.ssh_server()
        wait_for("the bridge forwards", lambda: cls.reaches("phone") and cls.reaches("tablet"))

    @classmethod
    def reaches(cls, name: str, address: str = "192.0.2.1") -> bool:
        """Whether a host gets an answer beyond the access point."""
        with cls.lab.inside(name), socket.socket() as line:
            line.settimeout(1.0)
            # A port without a listener is refused by the host itself: so it was reached.
            return line.connect_ex((address, 9)) == errno.ECONNREFUSED

    def test_a_refused_host_loses_its_connectivity(self) -> None:
        """An allowed one keeps it; attempts are counted; another's table is not touched; going back brings all back."""
        other = "add table bridge others; add chain bridge others mine { type filter hook forward priority 0; }"
        self.lab.run("ap", ["nft", other])
        self.addCleanup(self.lab.run, "ap", ["nft", "delete table bridge others"])
        before = self.lab.run("ap", ["nft", "list", "table", "bridge", "others"])
        self.settings(
            '[[enforcer]]\nname = "bridge"\ntype = "nftables"\nnetwork = "Kilnhaven"\n'
            'radio = { "2.4" = { interface = "wlan0" }, "5" = { interface = "wlan1" } }\n'
            + SSH.format(ssh=self.folder / "ssh")
        )
        self.ok("scan")
        self.ok("label", PHONE.addresses[0], "phone")
        self.ok("wifi", "deny", "Kilnhaven", "phone")
        self.ok("wifi", "mode", "Kilnhaven", "deny")
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertFalse(self.reaches("phone"))
        self.assertFalse(self.reaches("phone", ADDRESS))  # nor the access point itself
        self.assertTrue(self.reaches("tablet"))
        verdict = json.loads(self.ok("wifi", "verify", "Kilnhaven", "--format", "json"))
        self.assertTrue(verdict["met"])
        self.assertRegex(" ".join(verdict["notes"]), r"\d+ frames? of phone \(6c:d1:9e:08:40:90\) dropped")
        self.ok("wifi", "allow", "Kilnhaven", "phone")
        self.ok("wifi", "mode", "Kilnhaven", "allow")
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertTrue(self.reaches("phone"))
        self.assertFalse(self.reaches("tablet"))
        self.assertRegex(self.scopion("wifi", "verify", "Kilnhaven", "--no-scan").stderr, TABLET.mac)
        self.assertEqual(self.lab.run("ap", ["nft", "list", "table", "bridge", "others"]), before)
        self.ok("wifi", "revert", "--to", "1", "--yes")
        self.assertTrue(self.reaches("tablet") and self.reaches("phone"))

    def test_in_force_is_more_than_the_sets(self) -> None:
        """Rules, chains, policies, hooks, interfaces changed by hand: verify tells that, and a push mends it."""

        def radios(first: str, second: str) -> None:
            self.settings(
                '[[enforcer]]\nname = "Töpferei"\ntype = "nftables"\nnetwork = "Kilnhaven"\n'
                f'radio = {{ "2.4" = {{ interface = "{first}" }}, "5" = {{ interface = "{second}" }} }}\n'
                + SSH.format(ssh=self.folder / "ssh")
            )

        radios("wlan0", "wlan1")
        for mode, which in (("deny", PHONE), ("allow", TABLET)):
            self.ok("wifi", mode, "Kilnhaven", which.mac)
        for mode in ("deny", "allow"):
            self.ok("wifi", "mode", "Kilnhaven", mode)
            self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
            table = next(
                line.split()[2]
                for line in self.lab.run("ap", ["nft", "list", "tables"]).splitlines()
                if "scopion_t_pferei." in line
            )
            before = self.rules(table)
            changes = (
                f"add chain bridge {table} forward {{ policy drop; }}",
                f"insert rule bridge {table} forward accept",
                f"flush chain bridge {table} forward",
                f"flush table bridge {table}",
            )
            for change in changes[:2] if mode == "deny" else changes[2:]:
                self.lab.run("ap", ["nft", change])
                ended = self.scopion("wifi", "verify", "Kilnhaven", "--no-scan")
                self.assertEqual(ended.returncode, 3, (change, ended.stderr))
                self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
                self.assertEqual(self.rules(table), before, change)
            radios("wlan1", "wlan0")
            self.assertEqual(self.scopion("wifi", "verify", "Kilnhaven", "--no-scan").returncode, 3)
            radios("wlan0", "wlan1")
            self.assertFalse(self.reaches("phone"))
        self.ok("wifi", "mode", "Kilnhaven", "off")
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertTrue(self.reaches("phone"))

    def rules(self, table: str) -> str:
        """The table, but for those who have tried meanwhile."""
        told = self.lab.run("ap", ["nft", "--stateless", "list", "table", "bridge", table])
        return re.sub(r"(set tried_\w+ \{[^{}]*?)\s*elements = \{[^}]*\}", r"\1", told)

    def test_interfaces_that_it_would_not_see(self) -> None:
        """One that is not there, and one that is no port of a bridge, are refused; nothing is changed."""
        before = self.lab.run("ap", ["nft", "list", "ruleset"])
        for interface, said in (("wlan9", "has no interface 'wlan9'"), ("lo", "is not a port of a bridge")):
            self.settings(
                '[[enforcer]]\nname = "bridge"\ntype = "nftables"\nnetwork = "Kilnhaven"\n'
                f'radio = {{ "5" = {{ interface = "{interface}" }} }}\n' + SSH.format(ssh=self.folder / "ssh")
            )
            self.ok("wifi", "deny", "Kilnhaven", STATION)
            self.assertIn(said, self.fails("wifi", "push", "Kilnhaven", "--yes"))
        self.assertEqual(self.lab.run("ap", ["nft", "list", "ruleset"]), before)

    def test_uci_over_ssh(self) -> None:
        """The file on the router is changed in its list only, and put in force by what the settings say."""
        path = self.folder / "wireless"
        text = (
            "config wifi-device 'radio0'\n\toption band '5g'\n\nconfig wifi-iface 'one'\n\toption device 'radio0'\n"
            "\toption ssid 'Kilnhaven'\n\toption key 'secret'   # kept\n\nconfig other 'two'\n\toption x '1'\n"
        )
        path.write_text(text, encoding="ascii")
        path.chmod(0o640)
        self.settings(
            f'[[enforcer]]\nname = "router"\ntype = "uci"\nnetwork = "Kilnhaven"\nfile = "{path}"\n'
            f'reload = ["touch", "{path}.reloaded"]\n' + SSH.format(ssh=self.folder / "ssh")
        )
        self.ok("wifi", "deny", "Kilnhaven", STATION)
        self.ok("wifi", "mode", "Kilnhaven", "deny")
        self.ok("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        lines = f"\toption macfilter 'deny'\n\tlist maclist '{STATION}'\n"
        self.assertEqual(path.read_text(encoding="ascii"), text.replace("# kept\n", f"# kept\n{lines}"))
        self.assertEqual(path.stat().st_mode & 0o777, 0o640)
        self.assertTrue(Path(f"{path}.reloaded").exists())
        self.ok("wifi", "revert", "Kilnhaven", "--yes")
        self.assertIn("macfilter 'disable'", path.read_text(encoding="ascii"))

    def test_a_connection_that_is_cut(self) -> None:
        """A shell over SSH tells that it was cut, and what a program said; words are never taken for more than that."""
        ssh = self.folder / "ssh"
        with self.lab.inside("desk"):
            shell = SshShell(SshAccess(ADDRESS, key=str(ssh / "key"), known_hosts=str(ssh / "known_hosts")))
            self.addCleanup(shell.close)
            self.assertEqual(shell.run(["printf", "%s", "a b; touch /tmp/x $(id)"]).output, "a b; touch /tmp/x $(id)")
            self.assertEqual(shell.run(["sh", "-c", "exit 7"]).code, 7)
            self.assertEqual([each.code for each in shell.carry_out([ReadFile(f"{self.folder}/nothing")])], [NO_FILE])
            with self.assertRaises(EnforcerUnreachable):
                shell.run(["sh", "-c", "kill -9 $PPID; sleep 5"])
                shell.run(["true"])
        self.an_answer_without_end(ssh)
        with self.lab.inside("desk"):
            shell = SshShell(SshAccess(ADDRESS, key=str(ssh / "key"), known_hosts=str(ssh / "known_hosts")))
            self.addCleanup(shell.close)
            path = self.folder / "configuration"
            path.write_text("old\n" * 100)
            real, sent = shell.run, 0
            write = WriteFile(str(path), "new\n" * 100_000, "old\n" * 100)

            def cut(command: Sequence[str], stdin: str = "", *, within_s: float = 0.0) -> Ran:
                """As much of it as a connection carries before it is cut."""
                nonlocal sent
                sent += 1
                return real(command, stdin[: len(stdin) // 3], within_s=within_s)

            shell.run = cut  # type: ignore[method-assign]
            with self.assertRaisesRegex(EnforcerUnreachable, "did not arrive whole"):
                shell.carry_out([write])
            shell.run = real  # type: ignore[method-assign]
            self.assertEqual((sent, path.read_text()), (1, "old\n" * 100))
            self.assertEqual([each.code for each in shell.carry_out([write])], [0])
            self.assertEqual(path.read_text(), "new\n" * 100_000)
            self.assertEqual([each.name for each in self.folder.glob("configuration*")], ["configuration"])
        with self.lab.inside("ap"):
            here = LocalShell()
            here.write(f"{self.folder}/file", "one\n")
            self.assertEqual(here.read(f"{self.folder}/file"), "one\n")

    def test_a_daemon_that_tells_events_only(self) -> None:
        """Events keep coming, and no reply: the deadline is for the whole of an answer."""
        path = self.folder / "busy"
        with self.lab.inside("ap"), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as daemon:
            daemon.bind(str(path))

            def tell() -> None:
                daemon.sendto(b"PONG\n", daemon.recvfrom(100)[1])
                asker = daemon.recvfrom(100)[1]
                with contextlib.suppress(OSError):
                    for _ in range(200):
                        daemon.sendto(b"<3>AP-STA-POLL-OK", asker)
                        time.sleep(0.3)

            threading.Thread(target=tell, daemon=True).start()
            line = LocalControlLine(str(path))
            self.addCleanup(line.close)
            busy = self.assertRaisesRegex(EnforcerUnreachable, "does not answer")
            with patch("scopion.attachment.connect.control_socket._ANSWER_S", 2.0), busy:
                line.ask("STATUS")

    def test_the_watch_hears_who_is_turned_away(self) -> None:
        """At the sockets of this machine, also of a daemon that has given up a line; ``verify`` tells how often."""
        path = self.folder / "wl9"
        self.where = "ap"
        self.settings(
            '[[enforcer]]\nname = "ap"\ntype = "hostapd"\nnetwork = "Kilnhaven"\n'
            f'radio."5" = {{ socket = "{path}" }}\n[watch]\ninterval_s = 60\n'
        )
        refusal = f"<2>Ignore Authentication frame from {STATION} due to ACL reject".encode()
        replies = {b"PING": b"PONG\n", b"STATUS": b"state=ENABLED\nssid[0]=Kilnhaven\n", b"ATTACH": b"OK\n"}
        with self.lab.inside("ap"):
            daemon = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        self.addCleanup(daemon.close)
        daemon.bind(str(path))
        attached: list[object] = []

        def serve() -> None:
            with contextlib.suppress(OSError):
                while True:
                    command, asker = daemon.recvfrom(4096)
                    reply = replies.get(command, b"")
                    if command == b"LEVEL 2":
                        reply = b"OK\n" if attached[-1:] == [asker] else b"FAIL\n"
                    daemon.sendto(reply, asker)
                    if command == b"ATTACH":
                        attached.append(asker)
                    if command == b"LEVEL 2" and reply == b"OK\n":
                        for _ in range(2):
                            daemon.sendto(refusal, asker)
                        attached.append(None)  # the next time it does not know the line any more

        threading.Thread(target=serve, daemon=True).start()
        self.ok("wifi", "deny", "Kilnhaven", STATION)
        self.ok("watch", "--for", "25s")
        said = " ".join(self.scopion("wifi", "verify", "Kilnhaven", "--no-scan").stderr.split())
        told = re.search(rf"ap, 5 GHz: {STATION} was turned away (\d+) times since \w+ \S+, \d\d:\d\d, last on", said)
        assert told is not None, said
        lines = 2 * sum(each is not None for each in attached)
        self.assertGreater(lines, 4)
        self.assertIn(int(told[1]), (lines - 2, lines))  # the last line may have been open when the watch ended
        self.assertIn("ap does not tell who was turned away: it is heard while the watch runs", said)  # it has ended

    def an_answer_without_end(self, ssh: Path) -> None:
        """Octet by octet, or without end, before the log-in and after it; and a key that was revoked."""
        for pieces, pause_s, said in (
            (lambda: itertools.repeat(b"x"), 0.2, "did not let us in"),
            (lambda: itertools.chain([b"SSH-2.0-x\r\n"], itertools.repeat(b"\0")), 0.2, "did not let us in|cannot be"),
            (lambda: [b"\xff\xfe\r\n" * 200], 0.0, "cannot be reached"),
            (lambda: itertools.repeat(b"hello\r\n" * 1000), 0.0, "cannot be reached"),
        ):
            with self.lab.inside("ap"):
                port = HostileServer(self, pieces, pause_s, host=ADDRESS).port
            with (
                self.subTest(said=said),
                self.lab.inside("desk"),
                patch("scopion.attachment.connect.ssh._CONNECT_S", 2.0),
                self.assertRaisesRegex(EnforcerUnreachable, said),
            ):
                SshShell(SshAccess(ADDRESS, port=port, key=str(ssh / "key"), known_hosts=str(ssh / "known_hosts")))
        known = (ssh / "known_hosts").read_text(encoding="ascii")
        for lines, said in (
            (f"@revoked * {known.split(' ', 1)[1]}{known}", "is revoked"),
            ("@revoked\n@cert-authority * x\n|1|x|y ssh-rsa !\n* ssh-ed25519 \xff\n", "is not in"),
        ):
            (ssh / "known_others").write_text(lines, encoding="utf-8")
            with self.lab.inside("desk"), self.assertRaisesRegex(EnforcerUnreachable, said):
                SshShell(SshAccess(ADDRESS, key=str(ssh / "key"), known_hosts=str(ssh / "known_others")))
        with self.lab.inside("desk"), patch("scopion.attachment.connect.ssh._RUN_S", 2.0):
            for script, said in (
                ("while :; do printf x; sleep 0.2; done", "does not end"),
                ("while :; do printf x >&2; sleep 0.2; done", "does not end"),
                ("cat /dev/zero", "says more than|does not end"),
                ("sleep 60 & exec >&- 2>&-; wait", "does not end"),
            ):
                shell = SshShell(SshAccess(ADDRESS, key=str(ssh / "key"), known_hosts=str(ssh / "known_hosts")))
                self.addCleanup(shell.close)
                with self.subTest(script), self.assertRaisesRegex(EnforcerUnreachable, said):
                    shell.run(["sh", "-c", script])
            shell = SshShell(SshAccess(ADDRESS, key=str(ssh / "key"), known_hosts=str(ssh / "known_hosts")))
            self.addCleanup(shell.close)
            ran = shell.run(["sh", "-c", "printf '\\377x'; printf '\\376y' >&2; exit 3"])
            self.assertEqual((ran.code, ran.output, ran.errors), (3, "\udcffx", "\udcfey"))


if __name__ == "__main__":
    unittest.main()
