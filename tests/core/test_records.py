"""Records of other machines: every form is told by its content and read with its times; damage is counted and named."""

from __future__ import annotations

import io
import random
import struct
import unittest
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from unittest import mock

from scopion.attachment import portable
from scopion.attachment.neighbour_text import read_neighbours
from scopion.attachment.ports import Interface
from scopion.discovery.hearing import Hearing
from scopion.discovery.records.captures import read_capture
from scopion.discovery.records.reading import Reading, RecordContext, RecordKind
from scopion.discovery.records.registry import detect, read_record
from scopion.model.errors import NotFound, UsageError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Source, TraitKind
from scopion.wire.arp import encode_request
from scopion.wire.dhcp import DhcpKind
from scopion.wire.dns import DnsRecord
from tests import frames
from tests.core.test_client_lists import layouts
from tests.support import NOON, ROOT, ProgramTest

DNSMASQ = """1789380000 7c:a4:b1:33:02:61 192.0.2.61 door-tablet 01:7c:a4:b1:33:02:61
1789300000 24:d3:a1:20:7e:14 192.0.2.20 * *
duid 00:01:00:01:2c:00:00:00:7c:a4:b1:33:02:61
1789380000 12345 2001:db8::61 door-tablet 00:01
0 10:c0:de:4a:11:05 192.0.2.5 storage *
not a lease at all
"""
ISC = r"""# written by the server
lease 192.0.2.61 {
  starts 1 2026/09/14 08:10:00;
  ends 1 2026/09/14 20:10:00;
  cltt 1 2026/09/14 09:00:00;
  binding state active;
  hardware ethernet 7c:a4:b1:33:02:61;
  uid "\001|\244\2613\002a";
  set vendor-class-identifier = "android; \"13\" }";
  client-hostname "door-tablet";
}
lease 192.0.2.62 {
  starts epoch 1789373400;
  hardware ethernet 7c:a4:b1:33:02:62;
}
lease 192.0.2.63 {
  starts 1 2026/09/14 08:10:00;
  hardware ether"""
KEA = """address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state,user_context,pool_id
192.0.2.61,7c:a4:b1:33:02:61,01:7c:a4:b1:33:02:61,3600,1789376400,1,0,0,door-tablet.kilnhaven.example,0,,0
192.0.2.62,7c:a4:b1:33:02:62,,3600,1789376400,1,0,0,,1,,0
192.0.2.63,7c:a4:b1:33,,3600,1789376400,1,0,0,,0,,0
"""
LISTINGS = {  # in the documented form of each system; none of them was run there
    "Linux, ip neigh": """192.0.2.20 dev eth0 lladdr 24:d3:a1:20:7e:14 STALE
192.0.2.61 dev eth0 lladdr 7c:a4:b1:33:02:61 REACHABLE
192.0.2.77 dev eth0  FAILED
fe80::7ea4:b1ff:fe33:261 dev eth0 lladdr 7c:a4:b1:33:02:61 router DELAY
192.0.2.78 dev eth0 lladdr 10:c0:de:00:00:78 FAILED
""",
    "macOS and the BSDs, arp -an and ndp -an": """? (192.0.2.20) at 24:d3:a1:20:7e:14 on en0 ifscope [ethernet]
? (192.0.2.61) at 7c:a4:b1:33:2:61 on en0 ifscope [ethernet]
? (192.0.2.77) at (incomplete) on en0 ifscope [ethernet]
? (192.0.2.255) at ff:ff:ff:ff:ff:ff on en0 ifscope [ethernet]
? (224.0.0.251) at 1:0:5e:0:0:fb on en0 ifscope permanent [ethernet]
Neighbor                        Linklayer Address  Netif Expire    St Flgs Prbs
fe80::7ea4:b1ff:fe33:261%en0    7c:a4:b1:33:2:61     en0 23h59m58s S
""",
    "Windows, arp -a and netsh": """
Interface: 192.0.2.10 --- 0xc
  Internet Address      Physical Address      Type
  192.0.2.20            24-d3-a1-20-7e-14     dynamic
  192.0.2.61            7c-a4-b1-33-02-61     dynamic
  192.0.2.255           ff-ff-ff-ff-ff-ff     static
  224.0.0.22            01-00-5e-00-00-16     static
Internet Address                              Physical Address   Type
--------------------------------------------  -----------------  -----------
fe80::7ea4:b1ff:fe33:261                      7c-a4-b1-33-02-61  Stale
ff02::1                                       33-33-00-00-00-01  Permanent
2001:db8::77                                  00-00-00-00-00-00  Unreachable
""",
}


def read(data: str | bytes, kind: RecordKind | None = None) -> Reading:
    """Read a record as of noon."""
    raw = io.BytesIO(data if isinstance(data, bytes) else data.encode())
    return read_record(io.BufferedReader(raw), RecordContext(NOON), kind)


class Forms(unittest.TestCase):
    def test_leases(self) -> None:
        """Each server's file gives addresses, names and times; what is cut or wrong is named with its line."""
        dnsmasq, isc, kea = read(DNSMASQ), read(ISC), read(KEA)
        self.assertEqual([each.kind for each in (dnsmasq, isc, kea)], ["dnsmasq", "isc-dhcpd", "kea"])
        tablet = [str(trait.value) for seen in dnsmasq.observations[:1] for trait in seen.traits]
        self.assertEqual(tablet, ["door-tablet", "017ca4b1330261"])
        ends = [datetime.fromtimestamp(each, UTC) for each in (1789380000, 1789300000)]
        self.assertEqual([seen.at for seen in dnsmasq.observations], [*ends, NOON])
        self.assertEqual([problem.where for problem in dnsmasq.problems], ["line 4", "line 6"])
        self.assertEqual(isc.observations[0].at, datetime(2026, 9, 14, 9, tzinfo=UTC))
        said = {trait.kind: trait.value for trait in isc.observations[0].traits}
        self.assertEqual(said[TraitKind.NAME], "door-tablet")
        self.assertEqual((said[TraitKind.CLIENT_ID], said[TraitKind.VENDOR_CLASS][:7]), ("017ca4b1330261", "android"))
        self.assertEqual((len(isc.observations), isc.unread, isc.problems[0].where), (2, 1, "line 16"))
        self.assertEqual(kea.observations[0].at, datetime.fromtimestamp(1789372800, UTC))
        self.assertEqual((len(kea.observations), kea.unread, kea.problems[0].where), (1, 1, "line 4"))

    def test_neighbour_listings_of_three_systems(self) -> None:
        """The same pairs come out of each; groups, failed and incomplete entries do not."""
        truth = {
            ("192.0.2.20", "24:d3:a1:20:7e:14"),
            ("192.0.2.61", "7c:a4:b1:33:02:61"),
            ("fe80::7ea4:b1ff:fe33:261", "7c:a4:b1:33:02:61"),
        }
        for system, text in LISTINGS.items():
            with self.subTest(system):
                self.assertEqual(detect(text), RecordKind.NEIGHBOURS)
                self.assertEqual({(str(each.address), str(each.mac)) for each in read_neighbours(text)}, truth)

    def test_the_table_of_another_system(self) -> None:
        """Where the kernel's table has no door, its listing is read: what belongs to the interface's subnets."""
        interface = Interface("en0", 4, frames.DESK, (IPv4Interface("192.0.2.10/24"),), True, Medium.UNKNOWN)
        macos, windows = (
            next(text for name, text in LISTINGS.items() if each in name) for each in ("macOS", "Windows")
        )
        for platform, text in (("darwin", macos), ("win32", windows)):
            with self.subTest(platform), mock.patch.object(portable, "_output", return_value=text):
                attachment = portable.PortableAttachment(platform)
                found = {str(entry.address): str(entry.mac) for entry in attachment.neighbours(interface)}
                self.assertEqual(found, {"192.0.2.20": "24:d3:a1:20:7e:14", "192.0.2.61": "7c:a4:b1:33:02:61"})
                self.assertFalse(attachment.rights().raw_frames)
        routes = "default  192.0.2.1  UGScg  en0\n default link#5 UCS\n  0.0.0.0 0.0.0.0 192.0.2.254 192.0.2.10 25\n"
        self.assertEqual([str(each) for each in portable.read_gateways(routes)], ["192.0.2.1", "192.0.2.254"])

    def test_captures_keep_their_times(self) -> None:
        """Frames are decoded with their own times: first and last of each pair; damage and other links are named."""
        late = NOON.timestamp() - 7200
        captured = [(late - 600, frames.DISCOVER), (late, frames.ANNOUNCEMENT), (late + 60, frames.ANNOUNCEMENT)]
        for data in (frames.pcap(captured), frames.pcapng(captured)):
            reading = read(data)
            printer = [seen for seen in reading.observations if seen.mac == frames.PRINTER]
            self.assertEqual([seen.at.timestamp() for seen in printer], [late, late + 60])
            self.assertEqual({trait.kind for trait in printer[1].traits}, {"name", "service", "model"})
            self.assertEqual(read(data[:-3]).unread, 1)
        self.assertEqual(read(frames.pcap(captured, link_type=105)).unread, 1)

    def test_captures_of_any_interface_and_with_tags(self) -> None:
        """Linux' cooked frames (both forms), a provider's tags around a VLAN's: the same is heard as without them."""
        usual = frames.pcap([(NOON.timestamp(), each) for each in frames.EVERYTHING])

        def heard(data: bytes) -> set[tuple[str, str]]:
            return {(str(seen.mac), str(seen.address)) for seen in read(data).observations}

        def cooked(frame: bytes) -> bytes:
            way = 1 if frame[:6] == b"\xff" * 6 else 2 if frame[0] & 1 else 0
            return struct.pack(">HHH8s", way, 1, 6, frame[6:12]) + frame[12:]

        def cooked_2(frame: bytes) -> bytes:
            way = 1 if frame[:6] == b"\xff" * 6 else 2 if frame[0] & 1 else 0
            return frame[12:14] + struct.pack(">HIHBB8s", 0, 2, 1, way, 6, frame[6:12]) + frame[14:]

        def tagged(frame: bytes) -> bytes:
            return frame[:12] + bytes.fromhex("88a80064810000c8") + frame[12:]

        for form, link_type in ((cooked, 113), (cooked_2, 276), (tagged, 1)):
            with self.subTest(form=form.__name__):
                data = frames.pcap([(NOON.timestamp(), form(each)) for each in frames.EVERYTHING], link_type=link_type)
                self.assertEqual(heard(data), heard(usual))
                self.assertGreater(len(heard(data)), 3)
        other = [(NOON.timestamp(), cooked(each)[:2] + b"\x03\x04" + cooked(each)[4:]) for each in frames.EVERYTHING]
        self.assertEqual(heard(frames.pcap(other, link_type=113)), set())

    def test_captures_that_cannot_be_so(self) -> None:
        """Versions that do not exist are refused; a record longer than its frame, or a second of more, is told."""
        frame = frames.EVERYTHING[0]
        good = frames.pcap([(NOON.timestamp(), frame)] * 3)
        for at, octets, said in (
            (4, b"\x07\x00", "version 7.4 of pcap, which does not exist"),
            (24 + 4, b"\xff\xff\xff\x7f", "damaged there"),
            (24 + 12, b"\x01\x00\x00\x00", "damaged there"),
        ):
            (problem,) = read(good[:at] + octets + good[at + len(octets) :]).problems
            self.assertIn(said, str(problem))
        next_generation = frames.pcapng([(NOON.timestamp(), frame)])
        (problem,) = read(next_generation[:12] + b"\x09\x00" + next_generation[14:]).problems
        self.assertIn("version 9.0 of pcapng", str(problem))

    def test_a_capture_of_the_future(self) -> None:
        """Frames dated long after the file was written say what was there, not when: no device is present for ever."""
        late = frames.pcapng([(datetime(9999, 1, 1, tzinfo=UTC).timestamp(), each) for each in frames.EVERYTHING])
        reading = read(late)
        self.assertTrue(reading.observations)
        self.assertTrue(all(seen.undated and seen.at <= NOON for seen in reading.observations))
        self.assertIn("dated up to 9999-01-01", str(reading.problems[0]))

    def test_a_capture_of_real_services(self) -> None:
        """What a bystander heard of a real DHCP client, multicast DNS responder and NetBIOS service (record.py)."""
        with (ROOT / "tests/data/lab.pcap").open("rb") as stream:
            reading = read_capture(stream, datetime(2027, 1, 1, tzinfo=UTC))
        said = {(str(seen.mac), trait.value) for seen in reading.observations for trait in seen.traits}
        self.assertLessEqual(
            {
                ("7c:a4:b1:33:02:61", "door-tablet"), ("7c:a4:b1:33:02:61", "android-dhcp-13"),
                ("24:d3:a1:20:7e:14", "label-printer.local"), ("24:d3:a1:20:7e:14", "_ipp._tcp"),
                ("24:d3:a1:20:7e:14", "Clayfield LP-2"), ("10:c0:de:4a:11:05", "STORAGE"),
            },
            said,
        )  # fmt: skip
        placed = {(str(seen.mac), str(seen.address)) for seen in reading.observations if seen.address}
        self.assertIn(("24:d3:a1:20:7e:14", "192.0.2.20"), placed)
        self.assertIn(("7c:a4:b1:33:02:61", "fe80::7ea4:b1ff:fe33:261"), placed)
        self.assertEqual((reading.unread, len({mac for mac, _ in placed})), (0, 5))

    def test_what_is_none_is_said(self) -> None:
        """Empty, binary and unrelated input, and a wrong --as, are refused in words."""
        for data, error in (("", UsageError), (b"\x7fELF\0\0", UsageError), ("dear diary", NotFound)):
            with self.subTest(data=data), self.assertRaises(error):
                read(data)
        with self.assertRaises(UsageError):
            read(KEA, RecordKind.CAPTURE)

    def test_damage_never_breaks(self) -> None:
        """Any text with pieces changed, cut or doubled is read or refused, by every reader."""
        chance = random.Random(3)
        samples = [*(path.read_text(encoding="utf-8") for path, _ in layouts()), DNSMASQ, ISC, KEA, *LISTINGS.values()]
        for _ in range(600):
            text = chance.choice(samples)
            at, length = chance.randrange(len(text)), chance.choice((1, 3, 20))
            noise = chance.choice(
                ("", "\t", "\n", '"', "{", ";", "\x1b[2J", "‮", "9" * 40, "online, " * 30, text[:length])
            )
            damaged = text[:at] + noise + text[at + length :]
            for kind in (None, *(each for each in RecordKind if each is not RecordKind.CAPTURE)):
                try:
                    reading = read(damaged, kind)
                except (NotFound, UsageError):
                    continue
                names = [trait.value for seen in reading.observations for trait in seen.traits]
                self.assertFalse([name for name in names if "\x1b" in name or "\n" in name or len(name) > 255])

    def test_large_hostile_texts_end(self) -> None:
        """A text that is made to be searched again and again is read once: this test would not end otherwise."""
        mac = "7c:a4:b1:33:02:61"
        traps = {
            "elements that never close": "<td>" + "<script " * 40_000 + mac,
            "nothing but line ends": "\n" * 250_000 + mac,
            "nothing but blanks": "<tr>" + " " * 250_000 + mac,
            "leases that never end": "lease 192.0.2.5 {\n" * 15_000,
            "short leases": f"lease 192.0.2.5 {{\n hardware ethernet {mac};\n}}\n" * 5_000,
            "a statement without an end": "lease 192.0.2.5 {\n" + '"' * 250_000 + "\n}\n",
            "one line of colons": ":" * 250_000 + " " + mac,
            "labels without a field": "mac " * 60_000 + mac,
            "one MAC after the other": f"{mac} " * 12_000,
        }
        for what, text in traps.items():
            for kind in (None, *(each for each in RecordKind if each is not RecordKind.CAPTURE)):
                with self.subTest(what, kind=kind), suppress(NotFound, UsageError):
                    self.assertLessEqual(len(read(text, kind).observations), 65_536)


class Heard(unittest.TestCase):
    def test_each_protocol_tells_what_it_should(self) -> None:
        """From every frame the pair of MAC and address, and what its sender says of itself."""
        hearing = Hearing(lambda address: address in IPv4Network("192.0.2.0/24"))
        told = [seen for frame in frames.EVERYTHING for seen in hearing.take(frame, NOON)]
        self.assertEqual({seen.source for seen in told}, {
            Source.ARP, Source.DHCP, Source.MDNS, Source.NETBIOS, Source.SSDP, Source.LLMNR, Source.NDP,
        })  # fmt: skip
        tablet = {trait for seen in told if seen.mac == frames.TABLET for trait in seen.traits}
        self.assertEqual(
            {(trait.kind, trait.value) for trait in tablet if trait.source is Source.DHCP},
            {
                ("name", "door-tablet"), ("vendor-class", "tablet-dhcp-9"), ("requested-options", "1,3,6,15"),
                ("client-id", "017ca4b1330261"),
            },
        )  # fmt: skip
        granted = [seen for seen in told if seen.source is Source.DHCP and seen.address == frames.TABLET_4]
        self.assertEqual([seen.mac for seen in granted], [frames.TABLET])
        server = [seen for seen in told if any(trait.value == "dhcp-server" for trait in seen.traits)]
        self.assertEqual([(seen.mac, seen.address) for seen in server], [(frames.DESK, frames.DESK_4)])

    def test_nobody_is_believed_about_others(self) -> None:
        """Names and addresses that a sender announces for another host are not taken; a probe claims no address."""
        others = (DnsRecord("till.local", "A", IPv4Address("192.0.2.50")),)
        forged = frames.multicast_dns(others, frames.TABLET, frames.TABLET_4)
        self.assertEqual([seen.traits for seen in Hearing().take(forged, NOON)], [()])
        probe = encode_request(frames.TABLET, IPv4Address(0), frames.TABLET_4)
        self.assertEqual([seen.address for seen in Hearing().take(probe, NOON)], [None])

    def test_a_probe_of_what_was_asked_for_is_a_sighting(self) -> None:
        """Who asks a DHCP server for an address and then probes it has it; somebody else's probe, a probe of another
        address, and one long after tell nothing.
        """
        hearing = Hearing(lambda address: address in IPv4Network("192.0.2.0/24"))
        request = frames.client_message(
            DhcpKind.REQUEST, frames.TABLET, requested_address=frames.TABLET_4.packed, host_name=b"door-tablet"
        )
        hearing.take(request, NOON)
        ((who, (wanted, _)),) = hearing.requested.items()
        self.assertEqual((who, wanted), (frames.TABLET, frames.TABLET_4))

        def told(sender: MacAddress, address: IPv4Address, after_s: float = 1) -> list[object]:
            hearing.forget()
            probe = encode_request(sender, IPv4Address(0), address)
            return [seen.address for seen in hearing.take(probe, NOON + timedelta(seconds=after_s))]

        self.assertEqual(told(frames.TABLET, wanted), [wanted])
        self.assertEqual(told(frames.PRINTER, wanted), [None])
        self.assertEqual(told(frames.TABLET, wanted + 1), [None])
        self.assertEqual(told(frames.TABLET, wanted, after_s=120), [None])

    def test_what_came_by_a_router_is_not_paired_with_its_mac(self) -> None:
        """A datagram to a single host counts only from an address of this link; a grant names its client by itself."""
        link = IPv4Network("198.51.100.0/24")
        for hearing in (Hearing(), Hearing(lambda address: address in link)):
            self.assertEqual(hearing.take(frames.LLMNR, NOON), ())
        server = (frames.DESK, frames.DESK_4)
        ack = bytearray(frames.server_message(DhcpKind.ACK, server, frames.TABLET, frames.TABLET_4))
        ack[:6] = frames.PRINTER.octets  # to a relay, as a unicast
        (granted,) = Hearing().take(bytes(ack), NOON)
        self.assertEqual((granted.mac, granted.address, granted.traits), (frames.TABLET, frames.TABLET_4, ()))

    def test_repeated_frames_cost_little_and_count(self) -> None:
        """A frame that was heard a moment ago is not decoded again, and is counted; rubbish is counted apart."""
        hearing = Hearing()
        for _ in range(3):
            hearing.take(frames.EVERYTHING[0], NOON)
        hearing.take(frames.EVERYTHING[0][:20], NOON)
        self.assertEqual((hearing.decoded[Source.ARP], hearing.malformed, hearing.frames), (3, 1, 4))


class Importing(ProgramTest):
    def test_a_pasted_client_list_becomes_named_devices(self) -> None:
        """A preview changes nothing; the import names devices without making them present; a scan then joins them."""
        self.begin()
        pasted = (ROOT / "tests/data/client-lists/tables/tab-headed.txt").read_text(encoding="utf-8")
        self.run_ok("scan", "192.0.2.1")
        before = self.run_json("devices")
        preview = self.run_program("import", "-", "--preview", stdin=pasted)
        self.assertIn("names from the column 'Device name'", preview.stderr)
        counts = "3 adapters: 3 to be added, none in the roster already; 2 named."
        self.assertIn(f"{counts} A preview: nothing was changed.", preview.stderr)
        self.assertEqual(self.run_json("devices"), before)
        self.run_ok("import", "-", stdin=pasted)
        devices = {device["name"]: device for device in self.run_json("devices")}
        self.assertEqual(devices["label printer"]["addresses"], ["192.0.2.20"])
        self.assertFalse(devices["door-tablet"]["present"])
        self.assertEqual(devices["door-tablet"]["media"], ["wireless (client-list says so)"])
        self.run_ok("scan")
        self.run_ok("label", "door-tablet", "tablet at the door")
        present = {device["name"] for device in self.run_json("devices", "--present")}
        self.assertLessEqual({"tablet at the door", "label-printer"}, present)

    def test_a_pasted_list_of_stations_is_the_air(self) -> None:
        """Its devices are wireless and associated, with their network and band, as of the list's time and no later."""
        self.begin()
        self.run_ok("scan")
        phone, tablet = "da:51:7e:20:99:01", "7c:a4:b1:33:02:61"
        self.run_ok("wifi", "deny", "Guests", phone, "--router", "203.0.113.1")
        self.run_ok("wifi", "mode", "Guests", "deny")
        pasted = f"5 GHz clients\n{tablet}  -49 dBm  780 Mbit/s  2 h\n{phone}  -66 dBm  195 Mbit/s  12 min\n"
        self.assertIn("no stations of 'Guests'", self.refused(3, "wifi", "stations", "Guests"))
        unsaid = self.run_program("import", "-", stdin=pasted)
        self.assertIn("with which network 2 devices on the air are associated: --ssid", unsaid.stderr)
        self.run_ok("import", "-", "--ssid", "Guests", stdin=pasted)
        rows = {row["mac"]: row for row in self.run_json("wifi", "stations", "Guests")}
        self.assertEqual({mac: (row["radio"], row["signal_dbm"]) for mac, row in rows.items()},
                         {tablet: ("5", -49), phone: ("5", -66)})  # fmt: skip
        self.assertEqual(
            (rows[phone]["list"], rows[phone]["admitted"], rows[tablet]["admitted"]), ("deny", False, True)
        )
        devices = {row["macs"][0]: row for row in self.run_json("devices")}
        self.assertIn("wireless (associated with a pasted list, 5 GHz)", devices[phone]["media"])
        self.run_ok("wifi", "allow", "Guests", "--associated")
        self.run_ok("wifi", "deny", "Guests", phone)
        ended = self.run_program("wifi", "verify", "Guests", "--no-scan", "--clients", "-", stdin=pasted)
        self.assertEqual(ended.returncode, 3)
        self.assertIn("is on it", ended.stdout)
        self.assertNotIn("although its list refuses", self.run_ok("report", "--table", "attention"))
        self.run_ok("wifi", "done", "Guests")
        self.run_ok("scan", "192.0.2.1")  # the clock goes on
        self.run_ok("import", "-", "--ssid", "Guests", stdin=pasted)
        attention = self.run_ok("report", "--table", "attention")
        self.assertRegex(attention, f"{phone} was associated with Guests .*, although its list refuses it")
        self.assertNotIn(tablet, attention)
        site = self.opened()
        with site.roster.transaction() as db:
            db.execute("UPDATE association SET seen = seen - 3600000")
        site.close()
        before = self.run_json("wifi", "stations", "Guests")
        self.assertIn("that of 'Guests' is from", self.refused(3, "wifi", "allow", "Guests", "--associated"))
        old = self.run_program("wifi", "stations", "Guests")
        self.assertIn("(1 hour ago)", old.stderr)
        self.run_ok("import", "-", "--ssid", "Attic", stdin=pasted)
        self.assertEqual(self.run_program("wifi", "stations", "Guests").returncode, 3)
        self.run_ok("undo", "--yes")  # where they were by the list before stands again
        self.assertEqual(self.run_json("wifi", "stations", "Guests"), before)

    def test_what_a_record_calls_absent_was_not_seen(self) -> None:
        """Offline, released or blocked rows, and notes, make devices known and never seen; what says "ago" is dated."""
        self.begin()
        self.run_ok("scan")
        rows = (
            ("lathe", "192.0.2.201", "10:c0:de:00:02:01", "Offline", None),
            ("mixer", "192.0.2.202", "10:c0:de:00:02:02", "released", None),
            ("wheel", "192.0.2.203", "10:c0:de:00:02:03", "Blocked", None),
            ("press", "192.0.2.204", "10:c0:de:00:02:04", "expired 4d ago", "2026-09-10T08:10"),
            ("offline-box", "192.0.2.205", "10:c0:de:00:02:05", "Online", "2026-09-14T08:10"),
        )
        table = "\n".join(["Name\tIP\tMAC\tStatus", *("\t".join(row[:4]) for row in rows)])
        ended = self.run_program("import", "-", "--format", "json", stdin=table)
        self.assertIn("Of 3 adapters the record does not say when they were there.", ended.stderr)
        notes = "the glazing robot 10:c0:de:00:02:06 bought in spring\nnew drill 10:c0:de:00:02:07\n"
        self.run_ok("import", "-", "--yes", stdin=notes)
        devices = {row["macs"][0]: row for row in self.run_json("devices")}
        for name, address, mac, _, seen in rows:
            with self.subTest(name=name):
                row = devices[mac]
                self.assertEqual((row["name"], row["addresses"], row["present"]), (name, [address], False))
                self.assertEqual((row["last_seen"] or "")[:16] or None, seen)
        self.assertIsNone(devices["10:c0:de:00:02:06"]["last_seen"])
        self.assertIsNone(devices["10:c0:de:00:02:07"]["last_seen"])
        self.assertIn("never seen here", self.run_ok("show", "lathe", "--format", "table"))
        self.assertIn("when is not known", self.run_ok("show", "lathe", "--format", "table"))
        exported = self.folder / "all.json"
        exported.write_text(self.run_ok("export", "--as", "json"))
        kept = self.site
        self.site = self.folder / "copy"
        self.run_ok("import", str(exported), "--yes")
        copied = {row["macs"][0]: row["last_seen"] for row in self.run_json("devices")}
        self.assertIsNone(copied["10:c0:de:00:02:01"])
        self.assertEqual(copied["10:c0:de:00:02:04"], devices["10:c0:de:00:02:04"]["last_seen"])
        self.site = kept
        self.assertEqual(self.run_json("roster", "check")["problems"], [])

    def test_times_and_other_networks(self) -> None:
        """Old records keep their age and are no news; a record of another network needs --insist."""
        self.begin()
        self.run_ok("scan")
        old = self.folder / "old.leases"
        old.write_text(DNSMASQ.splitlines()[1].replace("192.0.2.20", "192.0.2.99").replace("20:7e:14", "20:7e:99"))
        self.run_ok("import", str(old))
        row = next(each for each in self.run_json("devices") if "24:d3:a1:20:7e:99" in each["macs"])
        self.assertEqual((row["last_seen"], row["present"]), ("2026-09-13T11:46:40Z", False))
        self.assertEqual(self.run_json("scan")["events"], [])
        elsewhere = self.folder / "elsewhere.txt"
        elsewhere.write_text("printer 198.51.100.7 24:d3:a1:20:7e:14\n")
        self.assertIn("no subnet of the site", self.refused(1, "import", str(elsewhere)))
        self.run_ok("import", str(elsewhere), "--insist")
        self.assertIn("cannot be read", self.refused(1, "import", str(self.folder / "missing")))
        self.assertIn("no MAC address", self.refused(3, "import", "-", stdin="nothing here"))
