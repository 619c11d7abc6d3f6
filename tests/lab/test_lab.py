"""The installed program among real kernel hosts: every pair right, with and without capabilities, over time."""

from __future__ import annotations

import csv
import gzip
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import tempfile
import time
import unittest
from contextlib import closing
from functools import partial
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any, ClassVar

from scopion.attachment.linux.linux_attachment import LiveAttachment
from scopion.attachment.portable import PortableAttachment
from scopion.model.mac import MacAddress
from tests import conformance
from tests.lab.lab import DROP_CAPABILITIES, Lab, LabHost, require_lab
from tests.lab.services import wait_for
from tests.support import ROOT, FolderTest

# Registered prefixes of all three sizes and of the closed registry, found in the packaged listing by the test below.
BLOCKS = {"oui": 24, "mam": 28, "oui36": 36, "iab": 36}
LOSSY, TWICE, LEAVER = "lossy", "twice", "leaver"
STRANGER = LabHost("stranger", "da:31:7f:0c:52:e9", ("192.0.2.144",))


def registered(name: str, count: int) -> list[str]:
    """Some prefixes with a public name, from the IEEE's file."""
    with gzip.open(ROOT / f"registry/{name}.csv.gz", "rt", encoding="utf-8", newline="") as file:
        rows = [row for row in csv.reader(file) if row[2] not in ("Private", "IEEE Registration Authority")]
    return [row[1] for row in rows[1:] if int(row[1][1], 16) & 3 == 0][:: len(rows) // count - 1][:count]


def population() -> list[LabHost]:
    """Forty-four hosts: a gateway, one with two addresses, one that will lose frames, one that will leave, the rest."""
    hosts = [
        LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",)),
        LabHost(TWICE, "10:c0:de:00:00:05", ("192.0.2.5", "192.0.2.6")),
        LabHost(LOSSY, "10:c0:de:00:00:07", ("192.0.2.7",)),
        LabHost(LEAVER, "10:c0:de:00:00:08", ("192.0.2.8",)),
    ]
    prefixes = [prefix for name in BLOCKS for prefix in registered(name, 8)]
    prefixes += [f"{first:02x}1122" for first in (0x02, 0x46, 0x8A, 0xCE, 0xDA, 0xEE, 0xFA, 0xFE)]  # private
    for number, prefix in enumerate(prefixes, 20):
        digits = prefix.ljust(10, "3")[:10] + f"{number:02x}" if len(prefix) < 10 else prefix
        hosts.append(LabHost(f"host{number}", str(MacAddress.parse(digits)), (f"192.0.2.{number}",)))
    return hosts


class LabTest(unittest.TestCase):
    """A test with the large lab, which is built once for the class, and a folder of its own."""

    lab: ClassVar[Lab]

    @classmethod
    def setUpClass(cls) -> None:
        require_lab()
        cls.lab = Lab(population())
        cls.addClassCleanup(cls.lab.close)

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.site = Path(holder.name) / "site"

    def truth(self) -> set[tuple[str, str]]:
        """Who is where, as the lab was built."""
        pairs = {(address, host.mac) for host in self.lab.hosts for address in host.addresses}
        return pairs | {(Lab.desk_address, Lab.desk_mac)}

    def pairs(self, document: dict[str, Any]) -> set[tuple[str, str]]:
        """Who is where, as the program says."""
        return {(row["address"], row["mac"]) for row in document["hosts"]}


class Scanning(LabTest):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.lab.lose(LOSSY, 10)

    def test_every_pair_is_right_with_and_without_privilege(self) -> None:
        """Raw frames and touches both find all hosts, the lossy and the double one too, and no others."""
        self.assertGreaterEqual(len(self.lab.hosts), 40)
        raw = self.lab.scan(self.site)
        self.assertEqual(self.pairs(raw), self.truth())
        self.assertEqual((raw["scan"]["method"], raw["scan"]["baseline"], raw["events"]), ("arp", True, []))
        touched = self.lab.scan(self.site, privileged=False)
        self.assertEqual(self.pairs(touched), self.truth())
        self.assertEqual((touched["scan"]["method"], touched["events"]), ("touch", []))
        marked = {row["address"]: row for row in raw["hosts"]}
        self.assertTrue(marked[Lab.desk_address]["this_machine"])
        self.assertTrue(marked["192.0.2.1"]["gateway"])
        self.assertLess(marked["192.0.2.20"]["rtt_ms"], 50)

    def test_vendors_of_all_block_sizes(self) -> None:
        """Each adapter's maker is that of its prefix in the IEEE's file; private addresses are said to be that."""
        rows = {row["mac"]: row for row in self.lab.scan(self.site)["hosts"]}
        for name, bits in BLOCKS.items():
            with gzip.open(ROOT / f"registry/{name}.csv.gz", "rt", encoding="utf-8", newline="") as file:
                names = {row[1].lower(): row[2] for row in csv.reader(file)}
            found = [row for mac, row in rows.items() if mac.replace(":", "")[: bits // 4] in names]
            self.assertGreaterEqual(len(found), 8 if name != "oui" else 6)
            for row in found:
                expected = names[row["mac"].replace(":", "")[: bits // 4]]
                if expected == "IEEE Registration Authority":
                    continue
                self.assertEqual("".join(expected.split()).casefold(), "".join(row["vendor"].split()).casefold())
        self.assertEqual(sum(row["vendor_kind"] == "private" for row in rows.values()), 8)

    def test_asking_for_raw_frames_without_the_right(self) -> None:
        """One line with the way to get them: sudo with the program's full path; exit code 1."""
        ended = self.lab.scopion(["scan", "--method", "arp"], self.site, privileged=False)
        self.assertEqual(ended.returncode, 1)
        self.assertRegex(
            ended.stderr, r"^scopion: this user may not send raw frames; for raw frames: sudo /\S+/scopion"
        )
        here = json.loads(self.lab.scopion(["here", "--format", "json"], self.site, privileged=False).stdout)
        self.assertFalse(here["raw_frames"])
        self.assertIn("sudo /", here["how_to_get_more"])

    def test_ctrl_c_keeps_what_was_found(self) -> None:
        """An interrupted scan says that it is partial, keeps what it has, and makes no device gone."""
        self.lab.scan(self.site)
        process = self._start("scan", "--pace", "100")
        self._wait_until_asking()
        process.send_signal(signal.SIGINT)
        _, told = process.communicate(timeout=20)
        self.assertEqual(process.returncode, 1)
        self.assertRegex(told, r"PARTIAL: .* of 254 asked, \d+ answered")
        self.assertIn("the scan is partial (interrupted)", told)
        self.assertNotIn("gone from", told)
        outcomes = [row[0] for row in self._rows("SELECT outcome FROM scan ORDER BY id")]
        self.assertEqual(outcomes, ["complete", "partial"])

    def test_ctrl_c_ends_the_scan_of_all_subnets(self) -> None:
        """The one that goes on is kept as partial, and no other is begun; those are named."""
        self.lab.scan(self.site)
        subnets = "".join(f'[[subnet]]\nrange = "{each}"\n' for each in ("192.0.2.0/24", "198.51.100.0/24"))
        (self.site / "site.toml").write_text(subnets)
        process = self._start("scan", "--all", "--pace", "100")
        self._wait_until_asking()
        process.send_signal(signal.SIGINT)
        _, told = process.communicate(timeout=20)
        self.assertEqual(process.returncode, 1, told)
        self.assertIn("198.51.100.0/24 was not scanned: interrupted", told)
        self.assertEqual(self._rows("SELECT count(*) FROM scan")[0][0], 2)

    def test_killed_in_mid_scan(self) -> None:
        """The roster opens, holds what was committed, and the next scan goes on from there."""
        self.lab.scan(self.site)
        process = self._start("scan", "--pace", "100")
        self._wait_until_asking()
        process.kill()
        process.communicate(timeout=20)
        self.assertEqual([row[0] for row in self._rows("SELECT outcome FROM scan")], ["complete", "running"])
        self.assertEqual(self._rows("PRAGMA integrity_check")[0][0], "ok")
        self.assertEqual(self.lab.scan(self.site)["events"], [])

    def test_two_scans_at_once(self) -> None:
        """Both are folded, on a roster that neither has made yet."""
        processes = [self._start("scan", "--format", "json") for _ in range(2)]
        for process in processes:
            out, told = process.communicate(timeout=30)
            self.assertEqual(process.returncode, 0, told)
            self.assertEqual(self.pairs(json.loads(out)), self.truth())
        self.assertEqual([row[0] for row in self._rows("SELECT outcome FROM scan")], ["complete", "complete"])
        self.assertEqual(self._rows("SELECT count(*) FROM event")[0][0], 0)

    def test_full_disk_and_read_only_folder(self) -> None:
        """The hosts are shown, the failure is said, and nothing half-written is left."""
        for options, expected in (
            ("size=8k", "disk is full|No space left"),
            ("size=1m,ro", "cannot be written|Read-only"),
        ):
            script = 'mount -t tmpfs -o "$1" none "$2" && shift 2 && exec "$@"'
            self.site.mkdir(exist_ok=True)
            command = [
                "unshare",
                "--mount",
                "sh",
                "-c",
                script,
                "sh",
                options,
                str(self.site),
                *self.lab.command(["scan"]),
            ]
            ended = subprocess.run(
                command, capture_output=True, text=True, timeout=30, check=False, env=self._environment()
            )
            with self.subTest(options=options):
                self.assertEqual(ended.returncode, 1, ended.stderr)
                self.assertRegex(ended.stderr, rf"this scan was not remembered: .*({expected})")
                self.assertIn("192.0.2.20\t", ended.stdout)
                self.assertNotIn("Traceback", ended.stderr)

    def test_under_sudo_the_files_stay_the_invoking_users(self) -> None:
        """Run by root for another user, the site is that user's: its folder, its files, and those beside the roster."""
        home = Path(tempfile.mkdtemp(dir="/tmp"))
        self.addCleanup(shutil.rmtree, home)
        os.chown(home, 65534, 65534)
        site = home / "below" / "site"
        for _ in range(2):
            ended = self.lab.scopion(["scan"], site, SUDO_UID="65534", SUDO_GID="65534", SUDO_USER="nobody")
            self.assertEqual(ended.returncode, 0, ended.stderr)
        made = [site, *site.iterdir()]
        self.assertIn("roster.sqlite", [path.name for path in made])
        archive = home / "below" / "site.zip"
        exported = self.lab.scopion(
            ["export", "--site", str(archive)], site, SUDO_UID="65534", SUDO_GID="65534", SUDO_USER="nobody"
        )
        self.assertEqual(exported.returncode, 0, exported.stderr)
        made.append(archive)
        self.assertEqual({path.stat().st_uid for path in made}, {65534})
        self.assertEqual((site.stat().st_mode & 0o777, (site / "roster.sqlite").stat().st_mode & 0o777), (0o700, 0o600))

    def test_a_group_may_look(self) -> None:
        """In a folder that its administrator made for a group, the group reads the files, and looking needs no more."""
        self.site.mkdir()
        self.site.chmod(0o2750)
        self.lab.scan(self.site)
        for path in (self.site, *self.site.iterdir()):
            os.chown(path, 65534, 0)
        self.site.chmod(0o2750)
        # Root without capabilities is a member of group 0, and nothing more.
        looked = self.lab.scopion(["devices", "--format", "json"], self.site, privileged=False)
        self.assertEqual(
            (looked.returncode, len(json.loads(looked.stdout))), (0, len(self.lab.hosts) + 1), looked.stderr
        )
        changed = self.lab.scopion(["label", "192.0.2.1", "x"], self.site, privileged=False)
        self.assertEqual((changed.returncode, "cannot be written" in changed.stderr), (1, True), changed.stderr)

    def _start(self, *arguments: str) -> subprocess.Popen[str]:
        return subprocess.Popen(
            self.lab.command(arguments),
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            env=self._environment(),
        )

    def _environment(self) -> dict[str, str]:
        return {**os.environ, "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces"}

    def _rows(self, query: str) -> list[Any]:
        db = sqlite3.connect(self.site / "roster.sqlite")
        self.addCleanup(db.close)
        return db.execute(query).fetchall()

    def _wait_until_asking(self) -> None:
        """The scan that was started has sent some of its requests: a busy machine begins late."""
        wait_for("the scan's beginning", partial(_is_scanning, self.site / "roster.sqlite"))
        sent_before = self._sent()
        deadline = time.monotonic() + 15
        while self._sent() < sent_before + 20:
            self.assertLess(time.monotonic(), deadline, "the scan did not begin")
            time.sleep(0.05)

    def _sent(self) -> int:
        """Return the number of frames that the desk has sent."""
        return int(self.lab.run("desk", ["cat", "/sys/class/net/eth0/statistics/tx_packets"]))


class Changing(LabTest):
    def test_one_joins_and_one_leaves(self) -> None:
        """Between two scans a stranger joins and a host leaves: told once, by raw frames and by touches alike."""
        self.lab.scan(self.site)
        self.lab.join(STRANGER)
        self.lab.leave(LEAVER)
        ended = self.lab.scopion(["scan", "--format", "json", "--fail-on", "joined"], self.site)
        self.assertEqual(ended.returncode, 3)
        events = {(event["kind"], event["mac"]) for event in json.loads(ended.stdout)["events"]}
        self.assertEqual(events, {("joined", STRANGER.mac), ("left", "10:c0:de:00:00:08")})
        self.assertEqual(self.lab.scan(self.site)["events"], [])
        self.lab.leave(STRANGER.name)
        self.lab.join(LabHost(STRANGER.name, STRANGER.mac, ("192.0.2.145",)))
        moved = self.lab.scan(self.site, privileged=False)["events"]
        self.assertEqual(
            [(event["kind"], event["was_address"]) for event in moved], [("readdressed", "192.0.2.144")], moved
        )


def _is_scanning(roster: Path) -> bool:
    """Whether a scan has begun and not ended yet."""
    with closing(sqlite3.connect(roster)) as db:
        return bool(db.execute("SELECT count(*) FROM scan WHERE outcome = 'running'").fetchone()[0])


class OwnInterfaces(FolderTest):
    def test_own_virtual_interfaces_are_no_strangers(self) -> None:
        """Three more of this machine's in the segment, by which it answers: still one device, and none joined."""
        require_lab()
        lab = Lab([LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",))])
        self.addCleanup(lab.close)
        lab.scan(self.folder)
        macs = [f"02:42:c0:00:02:{number:02x}" for number in (0x6F, 0x70, 0x71)]
        for number, mac in enumerate(macs):
            lab.add_own_interface(f"veth{number}", mac, f"192.0.2.{111 + number}")
        document = lab.scan(self.folder)
        self.assertEqual(document["events"], [])
        ours = {row["mac"] for row in document["hosts"] if row["this_machine"]}
        self.assertLessEqual(ours, {Lab.desk_mac, *macs})
        self.assertEqual({row["mac"] for row in document["hosts"]} - ours, {"0c:be:11:00:00:01"})
        devices = json.loads(lab.scopion(["devices", "--format", "json"], self.folder).stdout)
        self.assertEqual(sorted(device["this_machine"] for device in devices), [False, True])
        self.assertNotIn("made up", str(devices))
        for number in range(3):
            lab.run("desk", ["ip", "link", "del", f"veth{number}"])
        self.assertEqual(lab.scan(self.folder)["events"], [])


class PulledPlug(unittest.TestCase):
    def test_a_link_that_goes_and_comes_makes_nobody_left(self) -> None:
        """Frames into a pulled cable are lost without an error: the scan is partial then, by either method."""
        require_lab()
        hosts = [LabHost(f"host{each}", f"10:c0:de:00:01:{each:02x}", (f"192.0.2.{each}",)) for each in (1, 200, 201)]
        lab = Lab(hosts)
        self.addCleanup(lab.close)
        for privileged, change in ((True, "set port1 down"), (False, "set port1 down"), (False, None)):
            with tempfile.TemporaryDirectory() as folder:
                lab.scan(Path(folder))
                environment = {**os.environ, "SCOPION_SITE": folder, "SCOPION_LIVE": "namespaces"}
                command = lab.command(["scan", "192.0.2.200-254", "--pace", "30"], privileged=privileged)
                pipe = subprocess.PIPE
                process = subprocess.Popen(command, stdout=pipe, stderr=pipe, text=True, env=environment)
                wait_for("the scan's beginning", partial(_is_scanning, Path(folder) / "roster.sqlite"))
                if change:
                    lab.run("switch", ["ip", "link", *change.split()])
                    time.sleep(0.5)
                    lab.run("switch", ["ip", "link", "set", "port1", "up"])
                else:
                    lab.run("desk", ["ip", "addr", "flush", "dev", "eth0"])
                _, told = process.communicate(timeout=60)
                self.assertEqual(process.returncode, 1, told)
                self.assertRegex(told, "the scan is partial .*(interrupted|lost its address)")
                self.assertNotIn("gone from", told)


class LossyWholly(unittest.TestCase):
    def test_thirty_percent_each_way(self) -> None:
        """When every host loses 30 % each way, the answers show it and the scan goes on until all are found."""
        require_lab()
        hosts = [
            LabHost(f"host{number}", f"10:c0:de:00:01:{number:02x}", (f"192.0.2.{number}",)) for number in range(20, 40)
        ]
        lab = Lab(hosts, gateway=None)
        self.addCleanup(lab.close)
        for host in hosts:
            lab.lose(host.name, 30, outgoing=True)
        with tempfile.TemporaryDirectory() as folder:
            runs = [lab.scan(Path(folder)) for _ in range(3)]
        found = sum(run["scan"]["answered"] for run in runs)
        self.assertGreaterEqual(found, 59)  # of 60: a miss has a chance of one in some hundred
        self.assertTrue(all(run["scan"]["loss"] > 0.25 and run["scan"]["rounds"] > 5 for run in runs))


class KernelConformance(conformance.AttachmentConformance):
    """The kernel's segment keeps the same promises as the made-up one."""

    def setUp(self) -> None:
        require_lab()
        described = [LabHost(f"h{n}", f"10:c0:de:00:00:{n:02x}", (f"192.0.2.{n}",)) for n in (1, 20, 77)]
        self.lab = Lab(described)
        self.addCleanup(self.lab.close)
        inside = self.lab.inside("desk")
        inside.__enter__()
        self.addCleanup(inside.__exit__, None, None, None)
        self.attachment = LiveAttachment()
        self.hosts = {IPv4Address(each.addresses[0]): MacAddress.parse(each.mac) for each in described}

    def pull_the_plug(self) -> None:
        self.lab.run("desk", ["ip", "link", "set", "eth0", "down"])


class OtherSystems(LabTest):
    def test_the_portable_attachment_sees_the_same_interface(self) -> None:
        """What is written for other systems finds this machine's interface as the kernel describes it."""
        with self.lab.inside("desk"):
            (seen,) = [each for each in PortableAttachment().interfaces() if each.name == "eth0"]
            (truth,) = [each for each in LiveAttachment().interfaces() if each.name == "eth0"]
        for what in ("mac", "addresses", "ipv6", "up", "index"):
            self.assertEqual(getattr(seen, what), getattr(truth, what), what)


class Lock(unittest.TestCase):
    def test_the_live_network_is_locked_in_the_first_namespace(self) -> None:
        """With SCOPION_LIVE=namespaces nothing live works in process 1's network namespace, and all does in another.

        Process 1 is that of a process namespace made inside the lab: should the lock fail, nothing leaves the lab.
        """
        require_lab()
        lab = Lab([LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",))])
        self.addCleanup(lab.close)
        first = ["unshare", "--pid", "--fork", "--mount-proc"]
        with tempfile.TemporaryDirectory() as folder:
            for arguments in (["scan"], ["here"], ["scan", "--method", "touch"]):
                command = lab.command(arguments)
                start = command.index("exec") + 2
                for extra, value, expected in (
                    ([], "namespaces", 0),
                    (first, "namespaces", 1),
                    ([*first, *DROP_CAPABILITIES], "namespaces", 1),
                    (first, "anywhere", 0),  # positive control: it is the lock that refuses
                ):
                    ended = subprocess.run(
                        [*command[:start], *extra, *command[start:]],
                        env={**os.environ, "SCOPION_SITE": folder, "SCOPION_LIVE": value},
                        capture_output=True,
                        text=True,
                        check=False,
                    )
                    self.assertEqual(ended.returncode, expected, ended.stderr)
                    if expected:
                        self.assertEqual(ended.stdout, "")
                        self.assertRegex(ended.stderr, r"\Ascopion: the live network is locked: .*\n\Z")


if __name__ == "__main__":
    unittest.main()
