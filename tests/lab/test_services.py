"""The installed program among real services: names, leases, IPv6, a second subnet behind a router, odd hosts."""

from __future__ import annotations

import csv
import gzip
import json
import os
import re
import socket
import subprocess
import tempfile
import time
import unittest
from contextlib import suppress
from pathlib import Path
from typing import Any, ClassVar

from tests.lab.lab import PROGRAM, Lab, LabHost, require_lab
from tests.lab.services import Services, wait_for
from tests.support import ROOT

COMMUNITY, KEY, PRIVACY = "kiln-readers", "kiln-key-0123456", "kiln-privacy-0123"
GATEWAY = LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",))
PRINTER = LabHost("printer", "24:d3:a1:20:7e:14", ("192.0.2.20",))
STORAGE = LabHost("storage", "10:c0:de:4a:11:05", ("192.0.2.5",))
TABLET = LabHost("tablet", "7c:a4:b1:33:02:61", ())  # asks for an address
SIXER = LabHost("sixer", "88:c3:d2:91:00:66", ())  # has IPv6 only
CLAIMANTS = (
    LabHost("first", "10:c0:de:00:01:44", ("192.0.2.44",)),
    LabHost("second", "10:c0:de:00:02:44", ("192.0.2.44",)),
)
DEAF = LabHost("deaf", "10:c0:de:00:00:45", ("192.0.2.45",))  # hears every third request
SILENT = LabHost("silent", "10:c0:de:00:00:46", ("192.0.2.46",))  # tells no name
FAR = (
    LabHost("shop-till", "54:b1:a3:7c:01:50", ("198.51.100.50",)),
    LabHost("shop-shy", "54:b1:a3:7c:01:51", ("198.51.100.51",)),  # does not answer echo
)
ROUTER_FAR_MAC = "0c:be:11:00:01:01"
SETTINGS = """
[[subnet]]
range = "198.51.100.0/24"
name = "shop"
router = "192.0.2.1"
[[router]]
address = "192.0.2.1"
"""


class WithServices(unittest.TestCase):
    """One lab for all tests here: the daemons need some seconds to be ready."""

    lab: ClassVar[Lab]
    leases: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        require_lab()
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.lab = lab = Lab([GATEWAY, PRINTER, STORAGE, TABLET, SIXER, *CLAIMANTS, DEAF, SILENT])
        cls.addClassCleanup(lab.close)
        lab.every_third(DEAF.name, DEAF.addresses[0])
        lab.run("sixer", ["ip", "addr", "add", "2001:db8:2::66/64", "dev", "eth0"])
        lab.run("desk", ["ip", "addr", "add", "2001:db8:2::10/64", "dev", "eth0"])
        # The desk's own kernel shall not look for routers while somebody counts its frames.
        lab.run("desk", ["sysctl", "-qw", "net.ipv6.conf.eth0.router_solicitations=0"])
        lab.second_switch("shop")
        lab.connect("gateway", "eth1", ROUTER_FAR_MAC, "shop", "198.51.100.1/24")
        lab.run("gateway", ["sysctl", "-qw", "net.ipv4.ip_forward=1"])
        for host in FAR:
            lab.host_on("shop", host, "198.51.100.1")
        lab.run("shop-shy", ["sysctl", "-qw", "net.ipv4.icmp_echo_ignore_all=1"])
        services = Services(lab, Path(holder.name), cls)
        cls.leases = services.dnsmasq(
            "gateway", "--interface=eth0", "--bind-interfaces", "--dhcp-authoritative",
            "--dhcp-range=192.0.2.100,192.0.2.120,1h", "--domain=kilnhaven.example", "--local=/kilnhaven.example/",
            "--dhcp-ignore-clid", "--host-record=till.kilnhaven.example,198.51.100.50",
        )  # fmt: skip
        services.snmpd("gateway", COMMUNITY, "scopion", KEY, PRIVACY)
        services.avahi("printer", "label-printer", "_ipp._tcp")
        services.nmbd("storage", "STORAGE")
        services.dhcp_client("tablet", "door-tablet", "android-dhcp-13")
        wait_for("a lease", lambda: cls.leases.exists() and "door-tablet" in cls.leases.read_text())
        time.sleep(4)  # a NetBIOS name service first asks whether its name is free, and a responder likewise

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.site = Path(holder.name) / "site"

    def tablet_address(self) -> str:
        """The address that the tablet was granted."""
        return next(line.split()[2] for line in self.leases.read_text().splitlines() if TABLET.mac in line)

    def truth(self) -> set[tuple[str, str]]:
        """Who has which IPv4 address on the near segment."""
        pairs = {(address, host.mac) for host in self.lab.hosts for address in host.addresses}
        return pairs | {(Lab.desk_address, Lab.desk_mac), (self.tablet_address(), TABLET.mac)}

    def rows(self, document: dict[str, Any]) -> dict[str, dict[str, Any]]:
        """The hosts of a scan by MAC."""
        return {row["mac"]: row for row in document["hosts"]}


class Finding(WithServices):
    def test_everybody_is_found_with_and_without_privilege(self) -> None:
        """Both ways find the same pairs and no wrong one: also who hears every third request, and both claimants."""
        raw = self.lab.scan(self.site)
        pairs = {(row["address"], row["mac"]) for row in raw["hosts"] if ":" not in row["address"]}
        self.assertEqual(pairs, self.truth())
        # As most systems set it: everybody may send ICMP echo, and so call all IPv6 nodes.
        self.lab.run("desk", ["sysctl", "-qw", "net.ipv4.ping_group_range=0 2147483647"])
        found: set[tuple[str, str]] = set()
        for _ in range(2):  # of who hears every third request, a touch with its three tries may need a second go
            touched = self.lab.scan(self.site, privileged=False)
            found |= {(row["address"], row["mac"]) for row in touched["hosts"] if ":" not in row["address"]}
            self.assertLessEqual({event["mac"] for event in touched["events"]}, {DEAF.mac})
            self.assertIn(SIXER.mac, self.rows(touched))
        fresh = self.lab.scan(self.site.with_name("fresh"), privileged=False)
        self.assertEqual(self.rows(fresh)[SIXER.mac]["address"], "fe80::8ac3:d2ff:fe91:66")
        # A kernel keeps one MAC an address: of two claimants a touch sees the one that answered it, which may be
        # another each time.
        self.assertLessEqual(found, pairs)
        self.assertEqual({address for address, _ in found}, {address for address, _ in pairs})
        self.assertLessEqual({address for address, _ in pairs - found}, {"192.0.2.44"})

    def test_names_from_real_services(self) -> None:
        """DNS with DHCP's names, multicast DNS, NetBIOS; each with its source, none made up, asked for once an hour."""
        rows = self.rows(self.lab.scan(self.site))
        self.assertIn("door-tablet.kilnhaven.example (dns)", rows[TABLET.mac]["names"])
        self.assertIn("label-printer.local (mdns)", rows[PRINTER.mac]["names"])
        self.assertEqual((rows[PRINTER.mac]["kind"], rows[PRINTER.mac]["kind_evidence"]), ("printer", "announces ipp"))
        self.assertEqual((rows[STORAGE.mac]["name"], rows[STORAGE.mac]["names"]), ("STORAGE", ["STORAGE (netbios)"]))
        self.assertEqual((rows[SILENT.mac]["name"], rows[SILENT.mac]["names"]), (None, []))
        without = self.rows(self.lab.scan(self.site.with_name("other"), "--no-names"))
        self.assertTrue(all(row["names"] == [] for row in without.values()))
        again = self.rows(self.lab.scan(self.site, "--no-names"))
        self.assertEqual(again[STORAGE.mac]["name"], "STORAGE")  # it is remembered

    def test_ipv6(self) -> None:
        """A host without IPv4 is found by its IPv6 addresses; those of the others stand in their rows."""
        for _ in range(2):
            document = self.lab.scan(self.site)
            row = self.rows(document)[SIXER.mac]
            self.assertEqual(row["address"], "2001:db8:2::66")
            self.assertEqual(row["other_addresses"], ["fe80::8ac3:d2ff:fe91:66"])
            self.assertEqual(self.rows(document)[PRINTER.mac]["other_addresses"], ["fe80::26d3:a1ff:fe20:7e14"])
        self.assertEqual(document["events"], [])
        found = self.lab.scopion(["devices", "--format", "json"], self.site)
        self.assertIn("2001:db8:2::66", found.stdout, found.stderr)

    def test_two_hosts_on_one_address(self) -> None:
        """Both claimants are shown and reported, once as an event, and no other device is."""
        self.lab.scan(self.site, "192.0.2.44", "--remember")
        ended = self.lab.scopion(["scan", "192.0.2.44"], self.site)
        self.assertIn("192.0.2.44 is claimed by", ended.stderr)
        self.assertEqual(ended.stderr.count("claimed"), 1)


class Listening(WithServices):
    def test_what_is_heard_without_a_frame(self) -> None:
        """A renewed lease and an announcement are heard with names and traits; the desk sends nothing meanwhile."""
        services = Services(self.lab, self.site.parent, self)
        before = self.sent_frames()
        process = self.lab.begin(["scan", "--method", "listen", "--for", "6s", "--format", "json"], self.site)
        wait_for("the listener", self.listens)
        services.dhcp_client("silent", "kiln-talker", "android-dhcp-14")
        wait_for("a lease", lambda: len(self.lab.addresses("silent")) == 2)
        granted = next(each for each in self.lab.addresses("silent") if each != SILENT.addresses[0])
        with self.lab.inside("silent"), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as anything:
            anything.bind((granted, 0))
            anything.sendto(b"", ("192.0.2.99", 9))  # what it was granted by unicast shows when it looks for somebody
        with self.lab.inside("sixer"), socket.socket(socket.AF_INET6, socket.SOCK_DGRAM) as anything:
            anything.sendto(b"", ("2001:db8:2::99", 9))  # it looks for a neighbour
        out, err = process.communicate(timeout=60)
        self.assertEqual(self.sent_frames(), before)
        rows = self.rows(json.loads(out))
        self.assertEqual((rows[SILENT.mac]["kind"], rows[SILENT.mac]["address"]), ("phone or tablet", granted), err)
        self.assertIn("kiln-talker (dhcp)", rows[SILENT.mac]["names"])
        self.assertIn(SIXER.mac, rows)
        self.assertIn("no frame was sent", err)
        self.lab.run("silent", ["ip", "addr", "flush", "dev", "eth0"])
        self.lab.run("silent", ["ip", "addr", "add", "192.0.2.46/24", "dev", "eth0"])

    def test_without_privilege_it_says_what_it_needs(self) -> None:
        """Listening needs raw frames; there is no other way that sends nothing."""
        ended = self.lab.scopion(["scan", "--method", "listen", "--for", "1s"], self.site, privileged=False)
        self.assertEqual(ended.returncode, 1)
        self.assertIn("raw frames", ended.stderr)

    def listens(self) -> bool:
        """Whether a program on the desk has a socket for raw frames: a line below the header."""
        return len(self.lab.run("desk", ["cat", "/proc/net/packet"]).splitlines()) > 1

    def sent_frames(self) -> int:
        """How many frames the desk's interface has sent."""
        return int(self.lab.run("desk", ["cat", "/sys/class/net/eth0/statistics/tx_packets"]))


class BehindTheRouter(WithServices):
    TRUTH: ClassVar = {(host.addresses[0], host.mac) for host in FAR} | {("198.51.100.1", ROUTER_FAR_MAC)}

    def configure(self, text: str) -> None:
        self.site.mkdir(mode=0o700, exist_ok=True)
        (self.site / "site.toml").write_text(SETTINGS + text, encoding="utf-8")

    def far(self, *arguments: str, privileged: bool = True, **environment: str) -> dict[str, Any]:
        command = ["scan", "198.51.100.0/24", "--format", "json", *arguments]
        ended = self.lab.scopion(command, self.site, privileged=privileged, **environment)
        self.assertEqual(ended.returncode, 0, ended.stderr)
        self.told = ended.stderr
        document: dict[str, Any] = json.loads(ended.stdout)
        return document

    def test_pairs_come_from_the_router(self) -> None:
        """By SNMP 2c and 3 all hosts of the second subnet have their MAC: also who answers TCP only."""
        (self.site.parent / "key").write_text(KEY, encoding="ascii")
        (self.site.parent / "key").chmod(0o600)
        version_3 = 'version = "3"\nuser = "scopion"\nauthentication = "sha256"\nauthentication_key = "file:../key"\n'
        for text in ('community = "env:READERS"\n', version_3 + 'privacy_key = "env:PRIVATE"\n'):
            with self.subTest(text):
                self.configure(text)
                document = self.far(READERS=COMMUNITY, PRIVATE=PRIVACY)
                self.assertEqual({(row["address"], row["mac"]) for row in document["hosts"]}, self.TRUTH, self.told)
                self.assertEqual(document["scan"]["method"], "echo")
                self.assertEqual(self.rows(document)[FAR[0].mac]["name"], "till")

    def test_who_leaves_without_a_mac_is_gone(self) -> None:
        """A host that is known by its address alone counts as gone like any other."""
        self.configure('community = "env:READERS"\n')
        self.far(READERS="wrong")
        self.lab.run("shop-till", ["ip", "link", "set", "eth0", "down"])
        self.addCleanup(
            self.lab.run, "shop-till", ["sh", "-c", "ip link set eth0 up; ip route add default via 198.51.100.1"]
        )
        events = self.far(READERS="wrong")["events"]
        self.assertEqual([(each["kind"], each["address"]) for each in events], [("left", "198.51.100.50")])

    def test_without_the_router_hosts_are_kept_and_joined_later(self) -> None:
        """A wrong community costs the MACs, not the hosts; what people said of one goes over when its MAC is told."""
        self.configure('community = "env:READERS"\n')
        document = self.far(READERS="wrong")
        self.assertEqual(
            {(row["address"], row["mac"]) for row in document["hosts"]}, {(a, None) for a, _ in self.TRUTH}
        )
        self.assertIn("check its address, its SNMP service and the community", self.told)
        self.assertEqual(self.lab.scopion(["label", "198.51.100.50", "shop till"], self.site).returncode, 0)
        self.assertEqual(self.far(READERS=COMMUNITY)["events"], [])
        devices = json.loads(self.lab.scopion(["devices", "--format", "json"], self.site).stdout)
        till = next(device for device in devices if device["name"] == "shop till")
        self.assertEqual((till["macs"], till["addresses"]), ([FAR[0].mac], ["198.51.100.50"]))
        self.assertEqual(len([device for device in devices if "198.51.100.50" in device["addresses"]]), 1)

    def test_without_any_privilege(self) -> None:
        """Where ICMP is not permitted, TCP connects find the same hosts; where it is by datagrams, those as well."""
        self.configure('community = "env:READERS"\n')
        for allowed in ("1 0", "0 2147483647"):
            self.lab.run("desk", ["sysctl", "-qw", f"net.ipv4.ping_group_range={allowed}"])
            document = self.far(READERS=COMMUNITY, privileged=False)
            self.assertEqual({(row["address"], row["mac"]) for row in document["hosts"]}, self.TRUTH, allowed)
        self.assertIsNotNone(next(row for row in document["hosts"] if row["address"] == "198.51.100.50")["rtt_ms"])

    def test_secrets_stay_secret(self) -> None:
        """A secret in site.toml, in a readable file or missing is refused with what to do, and never shown."""
        (self.site.parent / "open").write_text(COMMUNITY, encoding="ascii")
        (self.site.parent / "open").chmod(0o644)
        for text, said in (
            (f'community = "{COMMUNITY}"\n', "env:NAME"),
            ('community = "file:../open"\n', "chmod 600"),
            ('community = "env:NOT_SET_ANYWHERE"\n', "NOT_SET_ANYWHERE is not set"),
        ):
            with self.subTest(text):
                self.configure(text)
                ended = self.lab.scopion(["scan", "198.51.100.0/30"], self.site)
                self.assertIn(said, ended.stderr)
                self.assertNotIn(COMMUNITY, ended.stderr + ended.stdout)


class Awaiting(WithServices):
    NEWCOMER = LabHost("newcomer", "48:d0:c4:01:22:31", ())

    def waiting(self, *arguments: str, privileged: bool = True) -> subprocess.Popen[str]:
        """Start to wait, and come back once it is known who is here."""
        process = self.lab.begin(["await", *arguments], self.site, privileged=privileged)
        assert process.stderr is not None
        self.assertRegex(process.stderr.readline(), "are here; waiting|waiting until|Waiting until")
        return process

    def answered(self, process: subprocess.Popen[str]) -> tuple[str, float]:
        """What it printed, and when."""
        out, err = process.communicate(timeout=30)
        self.assertEqual(process.returncode, 0, err)
        return out, time.monotonic()

    def test_a_box_that_boots_is_there_at_once(self) -> None:
        """Its address, and nothing else: within a second of its announcement with raw frames, else within three."""
        for privileged, limit in ((True, 1.0), (False, 3.0)):
            with self.subTest(privileged=privileged):
                process = self.waiting("--mac", "48:d0", "--timeout", "20s", privileged=privileged)
                time.sleep(1.0)
                self.lab.join(LabHost("newcomer", "48:d0:c4:01:22:31", ("192.0.2.31",)))
                self.addCleanup(self.leave_if_here)
                wait_for("forwarding", lambda: self.lab.forwards("newcomer"))
                with self.lab.inside("newcomer"), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as anything:
                    anything.sendto(b"", ("192.0.2.1", 9))  # a box that boots looks for its gateway
                joined = time.monotonic()
                out, then = self.answered(process)
                self.assertEqual(out, "192.0.2.31\n")
                self.assertLess(then - joined, limit)
                self.lab.leave("newcomer")

    def test_by_its_maker_inside_another_command(self) -> None:
        """The address of a host that starts afterwards, by the beginning of its maker's name, as a shell takes it."""
        with gzip.open(ROOT / "registry/oui.csv.gz", "rt", encoding="utf-8", newline="") as file:
            prefix = next(row[1] for row in csv.reader(file) if re.fullmatch(r"[0-9A-F]+", row[1]) and row[1][1] == "0")
        maker = json.loads(self.lab.scopion(["vendor", prefix, "--format", "json"], self.site).stdout)[0]["vendor"]
        word = maker.split()[0][:6]
        line = f'address=$({PROGRAM} await --vendor "{word}" --timeout 20s) && echo "found $address"'
        command = [*self.lab.command([])[:4], "sh", "-c", line]
        environment = {**os.environ, "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces"}
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, env=environment, text=True)
        assert process.stderr is not None
        self.assertIn("are here; waiting", process.stderr.readline())
        digits = f"{prefix}c40131".lower()
        mac = ":".join(digits[at : at + 2] for at in range(0, 12, 2))
        self.addCleanup(self.leave_if_here)
        self.lab.join(LabHost("newcomer", mac, ("192.0.2.33",)))
        out, _ = process.communicate(timeout=30)
        self.assertEqual((process.returncode, out), (0, "found 192.0.2.33\n"))

    def test_an_address_granted_by_the_server(self) -> None:
        """A box that asks for its address is printed with the one that it was granted; by its name, too."""
        services = Services(self.lab, self.site.parent, self)
        process = self.waiting("--new", "--timeout", "20s")
        self.lab.join(self.NEWCOMER)
        self.addCleanup(self.leave_if_here)
        services.dhcp_client("newcomer", "kiln-1", "lwIP 2")
        out, _ = self.answered(process)
        self.assertRegex(out, r"^192\.0\.2\.1[01]\d\n$")
        by_name = self.lab.scopion(["await", "--name", "kiln-"], self.site)
        self.assertEqual((by_name.returncode, by_name.stdout), (0, out), by_name.stderr)

    def test_who_is_unplugged(self) -> None:
        """Without a device the one that left is printed, with raw frames and without."""
        for privileged in (True, False):
            with self.subTest(privileged=privileged):
                self.lab.join(LabHost("newcomer", "48:d0:c4:01:22:31", ("192.0.2.31",)))
                self.addCleanup(self.leave_if_here)
                process = self.waiting("--gone", "--timeout", "30s", privileged=privileged)
                time.sleep(4.0)
                self.lab.leave("newcomer")
                out, _ = self.answered(process)
                self.assertEqual(out, "192.0.2.31\n")

    def test_time_is_up(self) -> None:
        """Exit code 3, and nothing on standard output."""
        for arguments in (["--new"], ["--gone", "192.0.2.20"]):
            ended = self.lab.scopion(["await", *arguments, "--timeout", "5s"], self.site)
            self.assertEqual((ended.returncode, ended.stdout), (3, ""), ended.stderr)

    def leave_if_here(self) -> None:
        """The newcomer goes, whatever happened."""
        with suppress(KeyError):  # it has left already
            self.lab.leave("newcomer")
