"""The codecs: what they write they read, and whatever comes they never break."""

from __future__ import annotations

import io
import random
import unittest
from collections.abc import Callable
from contextlib import suppress
from ipaddress import IPv4Address, IPv6Address

from hypothesis import given
from hypothesis import strategies as st

from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.wire import dhcp, dns, icmp, ndp, netbios, ssdp
from scopion.wire.arp import REPLY, REQUEST, decode_arp, encode_reply, encode_request
from scopion.wire.capture import CaptureReader
from scopion.wire.ethernet import decode_header
from scopion.wire.ip import ICMPV6, IpPacket, decode_ip, decode_udp
from tests import frames
from tests.fuzz import damaged

macs = st.binary(min_size=6, max_size=6).map(MacAddress)
addresses = st.integers(0, 2**32 - 1).map(IPv4Address)
# RFC 826 by hand: who has 192.0.2.7, asked by 192.0.2.10.
REQUEST_BYTES = bytes.fromhex(
    "ffffffffffff 60f2a710000a 0806 0001 0800 06 04 0001 60f2a710000a c000020a 000000000000 c0000207"
)
TAGGED = REQUEST_BYTES[:12] + bytes.fromhex("8100 0005") + REQUEST_BYTES[12:]


def packet_of(frame: bytes) -> IpPacket:
    """The IP packet of a frame that has one."""
    header, cursor = decode_header(frame)
    packet = decode_ip(header.type, cursor)
    assert packet is not None
    return packet


class Totality(unittest.TestCase):
    def test_any_damage_gives_a_value_or_a_refusal(self) -> None:
        """Every decoder reads its samples, and whatever is done to them it neither breaks nor hangs."""
        chance = random.Random(7)
        for name, decoder in frames.DECODERS.items():
            for sample in decoder.samples:
                with self.subTest(decoder=name):
                    self.assertTrue(decoder.decode(sample))  # positive control: the corpus itself is good
            for _ in range(1500):
                data = damaged(chance.choice(decoder.samples), chance)
                with self.subTest(decoder=name, data=data.hex()), suppress(MalformedFrame):
                    decoder.decode(data)

    @given(st.sampled_from(sorted(frames.DECODERS)), st.binary(max_size=300))
    def test_noise_is_refused(self, name: str, noise: bytes) -> None:
        """Any bytes give a value, None or MalformedFrame."""
        with suppress(MalformedFrame):
            frames.DECODERS[name].decode(noise)

    def test_traps_are_seen(self) -> None:
        """A name that points at itself, counts that promise more than there is, options and lengths that overrun."""
        loop = bytes.fromhex("0000 8400 0000 0001 0000 0000 c00c 000c 0001 00000078 0002 c00c")
        giant = bytes.fromhex("0000 8400 ffff ffff ffff ffff 00 0001 0001")
        status = frames.DECODERS["netbios"].samples[1]
        traps: dict[str, Callable[[], object]] = {
            "a DNS name in a loop": lambda: dns.decode_dns(loop),
            "65,535 questions": lambda: dns.decode_dns(giant),
            "a name of 255 in 32 letters": lambda: netbios.decode_netbios(status[:12] + b"\xff" + status[13:]),
            "255 NetBIOS names": lambda: netbios.decode_netbios(status.replace(b"\x02STORAGE", b"\xffSTORAGE")),
            "an NDP option of no length": lambda: ndp.decode_ndp(
                IpPacket(frames.DESK_LOCAL, frames.DESK_LOCAL, ICMPV6, 255, b"\x87" + bytes(23) + b"\x01\x00")
            ),
            "a DHCP option that overruns": lambda: dhcp.decode_dhcp(frames.payload_of(frames.DISCOVER)[:-30]),
            "a UDP length below its header": lambda: decode_udp(bytes.fromhex("0035 0035 0007 0000")),
        }
        for what, decode in traps.items():
            with self.subTest(what), self.assertRaises(MalformedFrame):
                decode()

    def test_a_thousand_records_are_read_so_far(self) -> None:
        """One message cannot bring more records than a bound."""
        many = tuple(dns.DnsRecord("_ipp._tcp.local", "PTR", f"p{number}._ipp._tcp.local") for number in range(200))
        self.assertEqual(len(dns.decode_dns(dns.encode_answer(0, many)).records), dns.MAX_RECORDS)


class Arp(unittest.TestCase):
    @given(macs, addresses, macs, addresses)
    def test_round_trip(self, sender: MacAddress, from_: IPv4Address, asker: MacAddress, to: IPv4Address) -> None:
        """Requests and replies read back as they were meant."""
        request = decode_arp(encode_request(sender, from_, to))
        reply = decode_arp(encode_reply(sender, from_, asker, to))
        assert request and reply
        self.assertEqual((request.operation, request.sender_mac, request.sender_address), (REQUEST, sender, from_))
        self.assertEqual(request.target_address, to)
        self.assertEqual((reply.operation, reply.sender_mac, reply.target_mac), (REPLY, sender, asker))

    def test_bytes_as_the_standard_has_them(self) -> None:
        """A request is RFC 826's bytes, padded to 60; a VLAN tag does not hide it; a probe claims no address."""
        made = encode_request(
            MacAddress.parse("60:f2:a7:10:00:0a"), IPv4Address("192.0.2.10"), IPv4Address("192.0.2.7")
        )
        self.assertEqual(made, REQUEST_BYTES.ljust(60, b"\0"))
        self.assertEqual(decode_arp(TAGGED), decode_arp(REQUEST_BYTES))
        probe = decode_arp(encode_request(frames.DESK, IPv4Address(0), IPv4Address("192.0.2.7")))
        assert probe
        self.assertFalse(probe.claims_an_address)


class Neighbours(unittest.TestCase):
    def test_bytes_as_the_standard_has_them(self) -> None:
        """A solicitation written by hand from RFC 4861, 4.3, with its checksum, goes to the target's group."""
        made = ndp.encode_solicitation(frames.DESK, frames.DESK_LOCAL, frames.PRINTER_LOCAL)
        expected = bytes.fromhex(
            "3333ff207e14 60f2a710000a 86dd 60000000 0020 3a ff fe80000000000000 62f2a7fffe10000a "
            "ff0200000000000000000001ff207e14 8700 a846 00000000 fe80000000000000 26d3a1fffe207e14 0101 60f2a710000a"
        )
        self.assertEqual(made.hex(), expected.hex())

    @given(macs, st.integers(1, 2**128 - 1).map(IPv6Address), macs, st.integers(1, 2**128 - 1).map(IPv6Address))
    def test_round_trip(self, mac: MacAddress, target: IPv6Address, other: MacAddress, asker: IPv6Address) -> None:
        """An advertisement pairs its target with its sender, a solicitation its own address."""
        advertised = ndp.decode_ndp(packet_of(ndp.encode_advertisement(mac, target, other, asker)))
        assert advertised
        self.assertEqual((advertised.claimed, advertised.mac, advertised.solicited), (target, mac, True))
        solicited = ndp.decode_ndp(packet_of(ndp.encode_solicitation(mac, asker, target)))
        assert solicited
        self.assertEqual((solicited.claimed, solicited.mac, solicited.target), (asker, mac, target))

    def test_what_a_router_passed_on_is_not_believed(self) -> None:
        """Only hop limit 255 proves that the sender is on this link."""
        packet = packet_of(frames.ADVERTISEMENT)
        far = IpPacket(packet.source, packet.destination, packet.protocol, 254, packet.payload)
        self.assertIsNone(ndp.decode_ndp(far))

    def test_echoes(self) -> None:
        """Requests and replies of both versions read back."""
        for source, to in ((frames.DESK_4, frames.PRINTER_4), (frames.DESK_LOCAL, icmp.ALL_NODES)):
            for reply in (False, True):
                echo = icmp.Echo(reply, 40000, 3)
                protocol = 1 if source.version == 4 else ICMPV6
                self.assertEqual(icmp.decode_echo(protocol, icmp.encode_echo(source, to, echo)), echo)


class Dhcp(unittest.TestCase):
    def test_what_a_client_says_of_itself(self) -> None:
        """Name, class, requested options, identifier and wished-for address come out as they went in."""
        said = dhcp.decode_dhcp(frames.payload_of(frames.DISCOVER))
        assert said
        self.assertEqual((said.kind, said.mac, said.host_name), (dhcp.DhcpKind.DISCOVER, frames.TABLET, "door-tablet"))
        self.assertEqual((said.vendor_class, said.requested_address), ("tablet-dhcp-9", frames.TABLET_4))
        self.assertEqual(said.options[dhcp.REQUESTED_OPTIONS], bytes((1, 3, 6, 15)))
        self.assertEqual(said.options[dhcp.CLIENT_IDENTIFIER], b"\x01" + frames.TABLET.octets)

    def test_a_full_name_long_options_and_borrowed_fields(self) -> None:
        """A name in wire form (RFC 4702), an option in two pieces (RFC 3396), one in the file field (RFC 2132)."""
        full = dhcp.DhcpMessage(
            dhcp.DhcpKind.REQUEST, False, 1, frames.TABLET, None, None,
            {dhcp.FULL_NAME: b"\x04\x00\x00\x06window\x04kiln\x00"},
        )  # fmt: skip
        wire = dhcp.encode_dhcp(full)
        self.assertEqual(dhcp.decode_dhcp(wire).host_name, "window")  # type: ignore[union-attr]
        pieces = wire[:-1] + b"\x3c\x03abc\x3c\x03def\xff"
        self.assertEqual(dhcp.decode_dhcp(pieces).vendor_class, "abcdef")  # type: ignore[union-attr]
        borrowed = wire[:108] + b"\x3c\x03xyz\xff".ljust(128, b"\0") + wire[236:-1] + b"\x34\x01\x01\xff"
        self.assertEqual(dhcp.decode_dhcp(borrowed).vendor_class, "xyz")  # type: ignore[union-attr]


class Names(unittest.TestCase):
    def test_multicast_announcements(self) -> None:
        """Records with the flag in their class (RFC 6762, 10.2) read as those without; a name keeps its blank."""
        wire = bytearray(frames.payload_of(frames.ANNOUNCEMENT))
        plain = dns.decode_dns(bytes(wire))
        for at in range(len(wire) - 1):
            if wire[at : at + 2] == b"\x00\x01" and wire[at + 2 : at + 6] == b"\x00\x00\x00\x78":
                wire[at] = 0x80
        self.assertNotEqual(bytes(wire), frames.payload_of(frames.ANNOUNCEMENT))
        self.assertEqual(dns.decode_dns(bytes(wire)), plain)
        self.assertEqual(plain.records, frames.PRINTER_RECORDS)

    def test_questions(self) -> None:
        """A reverse question for either version; the bit that asks for a direct answer is in the class."""
        for address in (frames.PRINTER_4, frames.PRINTER_6):
            wire = dns.encode_question(3, dns.reverse_name(address), recurse=False, unicast=True)
            self.assertEqual(dns.decode_dns(wire).questions, ((address.reverse_pointer, "PTR"),))
            self.assertEqual(wire[-2:], b"\x80\x01")

    def test_a_node_status_as_the_standard_has_it(self) -> None:
        """A request is RFC 1002's bytes; a reply gives names, suffixes, groups and the MAC; a broadcast its claim."""
        request = netbios.encode_status_request(0x1234)
        self.assertEqual(request.hex(), "123400000001000000000000" + "20434b" + "41" * 30 + "00" + "00210001")
        status = netbios.NodeStatus(
            9, (netbios.NetbiosName("STORAGE", 0x20), netbios.NetbiosName("KILNS", 0, True)), frames.DESK
        )
        self.assertEqual(netbios.decode_netbios(netbios.encode_status_reply(status)), status)
        claim = netbios.decode_netbios(frames.payload_of(frames.CLAIM))
        self.assertEqual(claim, netbios.NameClaim(netbios.NetbiosName("DESK", 0)))

    def test_discovery_announcements(self) -> None:
        """An announcement gives type and software; a search says nothing of its sender."""
        said = ssdp.decode_ssdp(frames.payload_of(frames.NOTIFY))
        expected = ("urn:schemas-upnp-org:device:MediaRenderer:1", "Slateware/3 UPnP/1.1 Panel/1")
        self.assertEqual((said.target, said.server), expected)  # type: ignore[union-attr]
        self.assertIsNone(ssdp.decode_ssdp(b"M-SEARCH * HTTP/1.1\r\nST: ssdp:all\r\n\r\n"))


class Captures(unittest.TestCase):
    FRAMES = ((1_789_000_000.25, frames.DISCOVER), (1_789_000_001.5, frames.ANNOUNCEMENT), (1_789_000_002.0, b"short"))

    def test_every_form_reads_the_same(self) -> None:
        """Both byte orders, micro- and nanoseconds, and the next generation with its resolutions."""
        forms = {
            f"pcap {order} {ticks}": frames.pcap(self.FRAMES, order, ticks)
            for order in "<>"
            for ticks in (10**6, 10**9)
        } | {
            f"pcapng {order} {digits}": frames.pcapng(self.FRAMES, order, digits) for order in "<>" for digits in (6, 9)
        }
        for name, data in forms.items():
            with self.subTest(name):
                reader = CaptureReader(io.BytesIO(data))
                self.assertEqual([(frame.at, frame.data) for frame in reader], list(self.FRAMES))
                self.assertEqual((reader.frames, reader.problem), (3, ""))

    @given(st.sampled_from([frames.pcap(FRAMES), frames.pcapng(FRAMES)]), st.data())
    def test_a_cut_file_gives_what_is_whole(self, data: bytes, draw: st.DataObject) -> None:
        """Frames before the cut are read; a cut inside something is told with its place."""
        cut = draw.draw(st.integers(0, len(data) - 1))
        reader = CaptureReader(io.BytesIO(data[:cut]))
        read = [(frame.at, frame.data) for frame in reader]
        self.assertEqual(read, list(self.FRAMES[: len(read)]))
        self.assertLess(len(read), 3)
        if reader.problem:
            self.assertIn(f"offset {cut}", reader.problem)

    def test_other_link_types_are_counted(self) -> None:
        """Frames that are not Ethernet are not decoded as if they were."""
        reader = CaptureReader(io.BytesIO(frames.pcap(self.FRAMES, link_type=127)))
        self.assertEqual((list(reader), reader.skipped[127], reader.problem), ([], 3, ""))
