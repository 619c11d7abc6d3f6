"""Real switches of the lab: forwarding tables and counters of the kernel's bridges, by real SNMP and LLDP."""

from __future__ import annotations

import json
import socket
import subprocess
import tempfile
import threading
import time
import unittest
from contextlib import closing
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

from scopion.attachment.connect.snmp_switch import read_switch
from scopion.attachment.ports import SnmpAccess, SwitchAccess
from scopion.model.device import NEVER
from scopion.model.errors import SwitchUnreadable
from scopion.model.usage import UsageSource
from scopion.operations.intake.count_octets import take_counts
from scopion.operations.site.open_site import Site
from scopion.operations.usage.read_meters import read_meter
from scopion.roster.usage.history import used_since
from tests.lab.lab import LabHost, require_lab
from tests.lab.services import wait_for
from tests.wires.agent import VLAN
from tests.wires.wired_lab import COMMUNITY, MAIN, WiredLab

PRINTER = LabHost("printer", "24:d3:a1:20:7e:14", ("192.0.2.20",), ipv6=False)
SCALE = LabHost("scale", "ac:d3:e5:00:51:40", ("192.0.2.40",))
PUMP = LabHost("pump", "ac:d3:e5:00:60:02", ("192.0.2.41",))
BOX = LabHost("box", "a0:b4:d7:31:07:c2", ("192.0.2.42",))
_DATAGRAMS, _OCTETS = 2_500, 1_200
_HEADERS, _ETHERNET = 28, 14  # octets, of IPv4 and UDP; a port counts the header of Ethernet, too
_LONGEST_STREAM = 4_000  # datagrams: 80 seconds
_AGENT_CACHES_S = 3.5  # net-snmp reads the kernel's counters every three seconds


class RealSwitches(unittest.TestCase):
    wired: WiredLab
    site: Path

    @classmethod
    def setUpClass(cls) -> None:
        require_lab()
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.wired = wired = WiredLab(Path(holder.name), cls, [PRINTER])
        wired.plug(SCALE, "upstairs", "port3")
        for number, host in enumerate((PUMP, BOX), 2):
            wired.plug(host, "little", f"port{number}")
        cls.site = Path(holder.name) / "site"
        cls.site.mkdir()
        meter = '[[meter]]\nname = "desk"\ninterface = "eth0"\n'
        fixed = f'[where]\nfixed = ["{SCALE.mac}"]\n[watch]\nswitches_s = 5\n'
        (cls.site / "site.toml").write_text(wired.settings() + meter + fixed, encoding="ascii")
        time.sleep(1)  # a bridge of the kernel forwards over a new port within a second
        cls.ok("scan", "--no-names")

    @classmethod
    def run_program(cls, *arguments: str) -> subprocess.CompletedProcess[str]:
        return cls.wired.lab.scopion(arguments, cls.site, privileged=True, **cls.wired.secrets)

    @classmethod
    def ok(cls, *arguments: str) -> str:
        ended = cls.run_program(*arguments)
        if ended.returncode != 0:
            raise AssertionError(f"{arguments}: {ended.stderr}")
        return ended.stdout

    def place(self, host: LabHost, *options: str) -> dict[str, Any]:
        """Where a host is."""
        (place,) = json.loads(self.ok("where", host.mac, "--format", "json", *options))["places"]
        found: dict[str, Any] = place
        return found

    def test_1_each_host_at_its_edge(self) -> None:
        """At the main switch by its VLANs, upstairs by SNMP 3; behind an unmanaged switch with how many others."""
        told = {
            host.name: (each["switch"], each["port"], each["vlan"], each["at_edge"])
            for host in (PRINTER, SCALE, PUMP, BOX)
            for each in [self.place(host, "--now")]
        }
        self.assertEqual(
            told,
            {
                "printer": ("main switch", "port2", VLAN, True), "scale": ("upstairs", "port3", None, True),
                "pump": ("upstairs", "port7", None, True), "box": ("upstairs", "port7", None, True),
            },
        )  # fmt: skip
        self.ok("label", PUMP.mac, "pump")
        text = self.ok("where", BOX.mac)
        # The little switch's own adapter may speak, too.
        self.assertRegex(text, r"shared +with pump( and one other)?: something at this port passes on what it gets")

    def test_2_the_tree(self) -> None:
        """The second switch hangs at the first: by LLDP, whose frames are real, each end of the cable is known."""
        rows = {
            (each["switch"], each["port"]): each for each in json.loads(self.ok("map", "--wires", "--format", "json"))
        }
        self.assertEqual(rows["main switch", "uplink"]["leads_to"], "upstairs")
        self.assertEqual(rows["upstairs", "downlink"]["leads_to"], "main switch")
        access = SwitchAccess("main switch", SnmpAccess(IPv4Address(MAIN), 161, "2c", COMMUNITY))

        def heard() -> bool:
            with self.wired.lab.inside("desk"):
                reading = read_switch(access)
            return [(each.port, each.name, each.bridges) for each in reading.neighbours or ()] == [
                ("uplink", "upstairs", True)
            ]

        wait_for("a neighbour by LLDP", heard, within_s=40.0, every_s=1.0)

    def test_3_plugged_over(self) -> None:
        """The watch reads the switches: what does not move and was plugged over is told with both ports."""
        self.ok("watch", "--for", "7s")
        self.wired.replug(SCALE, "switch", "port9")
        time.sleep(1)
        ended = self.run_program("watch", "--for", "14s")
        self.assertEqual(self.place(SCALE)["port"], "port9", ended.stderr)
        events = json.loads(self.ok("events", "--kind", "moved", "--format", "json"))
        self.assertEqual(
            [(event["mac"], event["was_name"], event["name"]) for event in events],
            [(SCALE.mac, "port3 of upstairs", "port9 of main switch")],
        )

    def test_5_what_passed_is_what_was_sent(self) -> None:
        """Three million octets, counted by the port of the switch and by this machine's own firewall: within 5 %."""
        self.ok("usage", "--set-up", "desk")
        self.ok("map", "--wires", "--now")
        self.read_meter()
        time.sleep(_AGENT_CACHES_S)
        for _ in range(_DATAGRAMS):
            self.send(PRINTER, self.wired.lab.desk_address, _OCTETS)
        time.sleep(_AGENT_CACHES_S)
        self.ok("map", "--wires", "--now")
        self.read_meter()
        sent = _DATAGRAMS * (_OCTETS + _HEADERS)
        told = json.loads(self.ok("usage", PRINTER.mac, "--format", "json"))
        self.assertEqual((told["counted_by"], told["where"]), ("cable", "port2 of main switch"))
        self.assertAlmostEqual(told["week_up"], sent, delta=sent * 0.05)
        with closing(Site(self.site)) as site:
            flows = {each.subject: each for each in used_since(site.roster, NEVER) if each.source is UsageSource.FLOW}
        self.assertAlmostEqual(flows[PRINTER.mac].up, sent, delta=sent * 0.05)
        self.ok("usage", "--take-down", "desk")
        with self.assertRaises(RuntimeError):
            self.wired.lab.run("desk", ["nft", "list", "table", "netdev", "scopion_usage"])

    def test_6_a_rate_while_it_lasts(self) -> None:
        """Steady streams of 400 kbit/s: by a port of the switch and by the firewall, both within 5 %.

        The agent of the port looks at its counter by itself, every three seconds.
        """
        self.ok("usage", "--set-up", "desk")
        measured = threading.Event()

        def stream() -> None:
            begun = time.monotonic()
            for number in range(1, _LONGEST_STREAM):
                for host in (PUMP, PRINTER):
                    self.send(host, self.wired.lab.desk_address, 1_000 - _HEADERS)
                if measured.wait(max(0.0, begun + number * 0.02 - time.monotonic())):
                    break

        sender = threading.Thread(target=stream)
        sender.start()
        try:
            rows = json.loads(self.ok("usage", "--now", "--for", "45s", "--format", "json"))
        finally:
            measured.set()
            sender.join()
        told = {mac: (row["counted_by"], row["up_bps"]) for row in rows for mac in row["macs"]}
        self.assertEqual((told[PUMP.mac][0], told[PRINTER.mac][0]), ("flow", "cable"))
        self.assertAlmostEqual(told[PUMP.mac][1], 400_000, delta=20_000)
        with_header = 400_000 * (1_000 + _ETHERNET) // 1_000
        self.assertAlmostEqual(told[PRINTER.mac][1], with_header, delta=20_000)

    def read_meter(self) -> None:
        """Read the counts of the desk's own firewall, as the watch does each minute."""
        with self.wired.lab.inside("desk"), closing(Site(self.site)) as site:
            (meter,) = site.settings.meter
            take_counts(site, read_meter(site, meter))

    def send(self, host: LabHost, address: str, octets: int) -> None:
        """Send one datagram from a host."""
        with self.wired.lab.inside(host.name), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
            line.sendto(bytes(octets), (address, 9))

    def test_4_what_is_wrong_is_told(self) -> None:
        """A wrong community is silence, and so is an address without an agent: one line says what to check."""
        for address, community in ((MAIN, "wrong"), (PRINTER.addresses[0], COMMUNITY)):
            access = SwitchAccess("some switch", SnmpAccess(IPv4Address(address), 161, "2c", community))
            with self.subTest(address=address), self.wired.lab.inside("desk"):
                began = time.monotonic()
                with self.assertRaisesRegex(SwitchUnreadable, r"some switch .* check its address, .* community"):
                    read_switch(access)
                self.assertLess(time.monotonic() - began, 15)


if __name__ == "__main__":
    unittest.main()
