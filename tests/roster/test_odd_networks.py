"""Odd networks and partial knowledge: contests, proxies, changed gateways, IPv6, hosts without a MAC, old rosters."""

from __future__ import annotations

import json
import tempfile
import unittest
from collections.abc import Sequence
from datetime import timedelta
from ipaddress import IPv4Address, IPv4Network, ip_address
from pathlib import Path

from scopion.discovery.kinds import load_kinds
from scopion.model.address import Address
from scopion.model.device import Device
from scopion.model.errors import InvalidSettings, Refused
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source, Trait, TraitKind
from scopion.operations.scan.recognise_network import MANY_FAMILIAR, Belonging, recognise
from scopion.roster.folding.fold_observations import fold, note_gateway_changed
from scopion.roster.folding.note_traits import MAX_TRAITS
from scopion.roster.read_devices import all_devices
from scopion.roster.resolve import resolve
from scopion.roster.scans import KnownSubnet
from scopion.roster.store.open_roster import Roster
from scopion.roster.write_descriptions import set_description
from scopion.wireless.refusals import refuse_denying
from tests.support import NOON, FolderTest, ProgramTest

VRRP = MacAddress.parse("00:00:5e:00:01:07")


def mac(number: int) -> MacAddress:
    return MacAddress(bytes([0x10, 0xC0, 0xDE, 0, 0, number]))


def name(text: str, source: Source = Source.MDNS) -> Trait:
    return Trait(TraitKind.NAME, text, source)


class Remembering(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.roster = Roster.open(self.folder)
        self.addCleanup(self.roster.close)
        self.now = NOON

    def see(
        self,
        *seen: tuple[MacAddress | None, str | None],
        traits: tuple[Trait, ...] = (),
        asked: Sequence[str] = (),
        recorded: bool = False,
        ago: timedelta = timedelta(0),
        silent: bool = False,
    ) -> list[str]:
        """Fold sightings, a minute after the last; the events in short."""
        self.now += timedelta(minutes=1)
        observations = [
            Observation(
                who, ip_address(where) if where else None, self.now - ago, Source.ARP, traits=traits, recorded=recorded
            )
            for who, where in seen
        ]
        enough: list[Address] = [ip_address(each) for each in asked]
        events = fold(self.roster, observations, enough, self.now, silent=silent)
        return [f"{event.kind} {event.mac.octets[-1] if event.mac else '-'} {event.address}" for event in events]

    def devices(self) -> list[Device]:
        return all_devices(self.roster)

    def test_a_contest_is_told_when_it_begins(self) -> None:
        """Once, of the newcomer; not for a proxy, a virtual router, or two adapters of one device."""
        self.see((mac(1), "192.0.2.5"), silent=True)
        both = ((mac(1), "192.0.2.5"), (mac(2), "192.0.2.5"))
        self.assertEqual(self.see(*both), ["joined 2 192.0.2.5", "contested 2 192.0.2.5"])
        self.assertEqual(self.see(*both), [])
        proxied = [(mac(9), f"192.0.2.{number}") for number in (5, 50, 51, 52)]
        self.assertEqual(self.see((mac(1), "192.0.2.5"), *proxied), ["joined 9 192.0.2.5"])
        self.assertEqual(self.see((mac(1), "192.0.2.7"), (VRRP, "192.0.2.7")), ["joined 7 192.0.2.7"])
        proxy = next(device for device in self.devices() if mac(9) in device.macs)
        with self.assertRaisesRegex(Refused, "4 addresses"):
            refuse_denying("Kilnhaven", proxy)

    def test_ipv6_comes_and_goes_without_noise(self) -> None:
        """Addresses of both versions are one adapter's; a made-up one is no move; who left is gone whole."""
        own, made_up = "fe80::1", "2001:db8::aaaa"
        self.see((mac(1), "192.0.2.5"), (mac(1), own), (mac(1), made_up), silent=True)
        self.assertEqual([str(each) for each in self.devices()[0].addresses], ["192.0.2.5", made_up, own])
        self.assertEqual(self.see((mac(1), "192.0.2.5"), (mac(1), "2001:db8::bbbb"), asked=["192.0.2.5"]), [])
        self.assertEqual(self.see(asked=["192.0.2.5"]), ["left 1 192.0.2.5"])
        self.assertFalse(self.devices()[0].present)
        self.assertEqual(self.see((mac(1), own)), ["returned 1 fe80::1"])
        self.assertEqual(self.see((mac(3), own), asked=[own]), ["joined 3 fe80::1", "left 1 fe80::1"])

    def test_a_host_without_a_mac_finds_it(self) -> None:
        """It is a device by its address; its label and names go over to the adapter once that is known."""
        self.assertEqual(self.see((None, "198.51.100.7"), traits=(name("till"),)), ["joined - 198.51.100.7"])
        self.assertEqual(resolve(self.devices(), "till").addresses, (IPv4Address("198.51.100.7"),))
        set_description(self.roster, self.devices()[0], label="the till")
        self.assertEqual(self.see(asked=["198.51.100.7"]), ["left - 198.51.100.7"])
        self.assertEqual(self.see((None, "198.51.100.7")), ["returned - 198.51.100.7"])
        self.assertEqual(self.see((mac(4), "198.51.100.7")), [])
        (device,) = self.devices()
        self.assertEqual((device.label, device.macs, device.unpaired), ("the till", (mac(4),), ()))
        self.assertEqual([trait.value for trait in device.host_names], ["till"])
        (stay,) = device.stays
        self.assertTrue(stay.present and stay.since < self.now - timedelta(seconds=30))  # it was there all the time
        # Later answers without a MAC are taken for this adapter's, and do not make it gone.
        self.assertEqual(self.see((None, "198.51.100.7"), asked=["198.51.100.7"]), [])
        self.assertEqual(len(self.devices()), 1)

    def test_records_keep_their_times(self) -> None:
        """An old record makes no device present and is no news; the first sighting is news, whatever records said
        before.
        """
        day = timedelta(days=1)
        self.assertEqual(self.see((mac(1), "192.0.2.5"), recorded=True, ago=day), [])
        (device,) = self.devices()
        self.assertEqual((device.present, device.first_seen), (False, self.now - day))
        self.assertEqual(self.see((mac(2), None), traits=(name("box"),)), [])  # a frame without an address
        self.assertEqual(
            self.see((mac(1), "192.0.2.5"), (mac(2), "192.0.2.6")), ["joined 1 192.0.2.5", "joined 2 192.0.2.6"]
        )
        self.assertEqual(self.see((mac(1), "192.0.2.9"), recorded=True, ago=2 * day), [])
        self.assertEqual([str(each) for each in self.devices()[0].addresses], ["192.0.2.5"])
        self.assertEqual(self.devices()[0].first_seen, self.now - 2 * day)

    def test_names_are_ranked_and_bounded(self) -> None:
        """The administrator's DNS before what a device calls itself; of a thousand names the latest stay."""
        self.see(
            (mac(1), "192.0.2.5"), traits=(name("OLD-PC", Source.NETBIOS), name("pc.kilnhaven.example", Source.DNS))
        )
        self.assertEqual(self.devices()[0].name, "pc")
        for number in range(0, 1000, 50):
            traits = tuple(name(f"name{each}") for each in range(number, number + 50))
            self.see((mac(1), "192.0.2.5"), traits=traits)
        kept = {known.trait.value for known in self.devices()[0].traits}
        self.assertEqual(len(kept), MAX_TRAITS)
        self.assertTrue(all(value.startswith("name9") for value in kept))

    def test_a_gateway_that_changes(self) -> None:
        """Among many known devices another gateway MAC is told; with few, it is another network."""
        known = KnownSubnet(IPv4Network("192.0.2.0/24"), IPv4Address("192.0.2.1"), mac(1), NOON, has_baseline=True)
        many = recognise(known.range, mac(8), [known], familiar=MANY_FAMILIAR, expected=6)
        self.assertEqual((many.verdict, many.gateway_changed), (Belonging.OURS, True))
        for familiar, expected in ((MANY_FAMILIAR - 1, 3), (MANY_FAMILIAR, 20)):
            few = recognise(known.range, mac(8), [known], familiar=familiar, expected=expected)
            self.assertEqual((few.verdict, few.gateway_changed), (Belonging.ELSEWHERE, False))
        self.see((mac(8), "192.0.2.1"))
        (event,) = note_gateway_changed(self.roster, IPv4Address("192.0.2.1"), mac(8), mac(1), self.now)
        self.assertEqual((event.mac, event.other_mac, event.device_id), (mac(8), mac(1), self.devices()[0].id))

    def test_any_order_of_versions_and_records(self) -> None:
        """Whatever is folded in whatever order, every present stay has been seen, and nothing raises."""
        pairs = [(mac(1), "192.0.2.5"), (mac(1), "fe80::1"), (None, "192.0.2.5"), (mac(2), "192.0.2.5"), (mac(2), None)]
        for first in pairs:
            for second in pairs:
                for recorded in (False, True):
                    self.see(first, recorded=recorded)
                    self.see(second, first, asked=["192.0.2.5", "fe80::1"])
                    stays = [stay for device in self.devices() for stay in device.stays if stay.present]
                    macs, addresses = {stay.mac for stay in stays}, {str(stay.address) for stay in stays}
                    self.assertTrue(first[1] is None or first[1] in addresses)
                    self.assertTrue(first[0] is None or first[1] is None or first[0] in macs)


ODD = """
title = "Odd"
[[interface]]
name = "eth0"
index = 2
mac = "60:f2:a7:10:00:0a"
addresses = ["192.0.2.10/24"]
gateway = "192.0.2.1"
medium = "cable"
[[host]]
name = "two routers as one"
mac = "00:00:5e:00:01:07"
at = ["192.0.2.1"]
[[host]]
name = "server"
mac = "10:c0:de:00:00:05"
at = ["192.0.2.5"]
says = { dhcp_server = true }
ports = [9100]
[[host]]
name = "plugged in by the wrong socket"
mac = "10:c0:de:00:00:06"
at = ["192.0.2.6"]
says = { dhcp_server = true, mdns = "second-router" }
[[host]]
name = "repeater"
mac = "10:c0:de:00:00:07"
at = ["192.0.2.20", "192.0.2.21", "192.0.2.22", "192.0.2.23", "192.0.2.24"]
[[host]]
name = "one"
mac = "10:c0:de:00:00:08"
at = ["192.0.2.30"]
[[host]]
name = "another"
mac = "10:c0:de:00:00:09"
at = ["192.0.2.30"]
[[moment]]
at = 2026-09-14T08:10:00Z
tells = "Odd."
"""


class Told(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        scene = self.folder / "odd.toml"
        scene.write_text(ODD, encoding="utf-8")
        self.site.mkdir(mode=0o700)
        story = {"scene": str(scene), "at": "2026-09-14T08:10:00+00:00", "moment": 0}
        (self.site / "story.json").write_text(json.dumps(story), encoding="utf-8")

    def test_each_oddity_in_one_line_of_its_own(self) -> None:
        """A virtual router, a repeater, a contest and a second DHCP server are told apart, each once."""
        told = self.run_program("scan").stderr
        lines = [line for line in told.splitlines() if line.startswith("Note:")]
        self.assertEqual(len(lines), 3, told)
        self.assertRegex(told, r"192\.0\.2\.30 is claimed by .*:08 and .*:09: 2 adapters use one address")
        self.assertRegex(told, r"10:c0:de:00:00:07 answered for 5 addresses: a proxy, a repeater")
        self.assertRegex(told, r"192\.0\.2\.1 belongs to 00:00:5e:00:01:07, which several routers share")
        self.assertNotIn("DHCP", told)
        heard = self.run_program("scan", "--method", "listen").stderr
        self.assertRegex(heard, r"10:c0:de:00:00:05 at 192\.0\.2\.5 and second-router at 192\.0\.2\.6 give out")
        self.assertIn("hit every device behind it", self.refused(1, "wifi", "deny", "Kilnhaven", "192.0.2.22"))

    def test_ports_only_if_asked_for(self) -> None:
        """A port that accepts is evidence for a kind; without --ports none is tried."""
        kinds = {row["address"]: row["kind_evidence"] for row in self.run_json("scan")["hosts"]}
        self.assertIsNone(kinds["192.0.2.5"])
        hosts = self.run_json("scan", "--ports", "22,9100", "--sort", "vendor")["hosts"]
        tried = {row["address"]: row["kind_evidence"] for row in hosts}
        vendors = [row["vendor"].casefold() for row in hosts if row["vendor"]]
        self.assertEqual(vendors, sorted(vendors))
        states = {row["address"]: (row["port_22"], row["port_9100"]) for row in hosts}
        self.assertEqual((states["192.0.2.5"], states["192.0.2.10"]), (("closed", "open"), (None, None)))
        self.assertEqual(tried["192.0.2.5"], "accepts connections on port 9100")
        shown = self.run_program("scan", "--ports", "22,9100", "--format", "table", COLUMNS="160").stdout
        self.assertRegex(shown.splitlines()[0], " 22 +9100 ")
        self.assertRegex(shown, r"192\.0\.2\.5 .* closed +open ")
        self.assertIsNone(tried["192.0.2.30"])
        self.assertIn("are not ports", self.refused(2, "scan", "--ports", "22,http"))
        self.assertIn("--method listen", self.refused(2, "scan", "--for", "5s"))


class Kinds(unittest.TestCase):
    def test_the_weightiest_evidence_wins_and_is_said(self) -> None:
        """What a thing does says more than its name, and that more than its maker; a module's maker says the medium."""
        kinds = load_kinds()
        ipp, phone = Trait(TraitKind.SERVICE, "_ipp._tcp", Source.MDNS), name("galaxy-of-anna", Source.DHCP)
        self.assertEqual(str(kinds.guess(traits=(ipp, phone))), "printer: announces ipp")
        self.assertEqual(str(kinds.guess(traits=(phone,))), "phone or tablet: is called galaxy-of-anna")
        module = kinds.guess(mac(1), "Espressif Inc.")
        self.assertEqual((module.kind, module.medium), ("controller", Medium.WIRELESS))
        self.assertEqual(module.medium_evidence, "has a radio module by Espressif Inc.")
        self.assertEqual(kinds.guess(mac(1), "Apart Furniture").kind, "")  # "ap" is no word of it
        self.assertEqual(kinds.guess(VRRP).kind, "virtual router")
        private = MacAddress.parse("02:11:22:33:44:55")  # of phones, but for what is called otherwise
        for called, kind in (
            ("speaker-19", "television or player"),
            ("kiosk-34", "display"),
            ("livingroom-tv", "television or player"),
            ("x-19", "phone or tablet"),
        ):
            self.assertEqual(kinds.guess(private, traits=(name(called, Source.DHCP),)).kind, kind)
        self.assertEqual(kinds.guess().kind, "")

    def test_the_beginning_of_a_mac(self) -> None:
        """A rule's beginning fits there only, of private addresses with or without that word; all others are alike."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "kinds.toml"
            path.write_text('[[rule]]\nkind = "kiln"\nweight = 100\nmac = ["52:54:00:aa", "0a:00"]\nsays = "{match}"\n')
            kinds = load_kinds(Path(folder))
        for text, kind in (
            ("52:54:00:aa:00:01", "kiln"), ("0a:00:00:00:00:01", "kiln"), ("52:54:00:ab:00:01", "virtual machine"),
            ("00:52:54:00:aa:01", ""), ("00:00:15:5d:00:01", ""), ("00:15:5d:00:00:01", "virtual machine"),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(kinds.guess(MacAddress.parse(text)).kind, kind)

    def test_a_site_extends_the_rules(self) -> None:
        """Its own rules come first; a mistake is named with file and rule."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "kinds.toml"
            path.write_text('[[rule]]\nkind = "kiln"\nweight = 100\nvendor = ["Ember"]\nsays = "made by {match}"\n')
            guess = load_kinds(Path(folder)).guess(mac(1), "Emberline Kilns")
            self.assertEqual(str(guess), "kiln: made by Emberline Kilns")
            for text, said in (
                ("kind = 'x'", "rule"), ("[[rule]]\nkind='x'", "rule 1"), ("[[rule]]\nshape='x'", "'shape'"),
                ("[[rule]]\nkind='x'\nsays='y'\nname='z'", "list of texts"), ("[[rule", "not TOML"),
            ):  # fmt: skip
                path.write_text(text)
                with self.subTest(text), self.assertRaisesRegex(InvalidSettings, said):
                    load_kinds(Path(folder))
