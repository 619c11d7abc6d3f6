"""Frames as made-up hosts of 192.0.2.0/24 send them, and every decoder with samples of what it reads.

The decoders' table serves the short property tests and the long run of ``make fuzz``.
"""

from __future__ import annotations

import io
import struct
from collections.abc import Callable, Mapping, Sequence
from fractions import Fraction
from ipaddress import IPv4Address, IPv6Address
from typing import Any, NamedTuple

from scopion.model.mac import MacAddress
from scopion.wire import dhcp, dns, icmp, ndp, netbios, radius
from scopion.wire.arp import decode_arp, encode_reply, encode_request
from scopion.wire.capture import CaptureReader
from scopion.wire.ethernet import BROADCAST, decode_header
from scopion.wire.ip import ICMPV6, decode_ip, decode_udp, encode_ip, encode_udp
from scopion.wire.ssdp import decode_ssdp

DESK, PRINTER, TABLET = (MacAddress.parse(text) for text in ("60f2a710000a", "24d3a1207e14", "7ca4b1330261"))
DESK_4, PRINTER_4, TABLET_4 = (IPv4Address(f"192.0.2.{number}") for number in (10, 20, 61))
PRINTER_6, PRINTER_LOCAL = IPv6Address("2001:db8::20"), IPv6Address("fe80::26d3:a1ff:fe20:7e14")
DESK_LOCAL = IPv6Address("fe80::62f2:a7ff:fe10:a")
MDNS_MAC = MacAddress.parse("01005e0000fb")


def multicast_dns(records: tuple[dns.DnsRecord, ...], mac: MacAddress, address: IPv4Address) -> bytes:
    """A frame in which a host announces its records to everybody."""
    payload = dns.encode_answer(0, records)
    return encode_udp((mac, MDNS_MAC), (address, 5353), (dns.MDNS_GROUP, 5353), payload, hops=255)


def client_message(kind: dhcp.DhcpKind, mac: MacAddress, **options: bytes) -> bytes:
    """A frame in which a DHCP client speaks to everybody; options by their names in ``wire.dhcp``."""
    numbered = {getattr(dhcp, name.upper()): value for name, value in options.items()}
    message = dhcp.DhcpMessage(kind, False, 7, mac, None, None, numbered)
    ends = (IPv4Address(0), dhcp.CLIENT_PORT), (IPv4Address("255.255.255.255"), dhcp.SERVER_PORT)
    return encode_udp((mac, BROADCAST), *ends, dhcp.encode_dhcp(message))


def server_message(
    kind: dhcp.DhcpKind, server: tuple[MacAddress, IPv4Address], client: MacAddress, granted: IPv4Address
) -> bytes:
    """A frame in which a DHCP server answers a client that has no address yet."""
    options = {dhcp.SERVER_IDENTIFIER: server[1].packed}
    message = dhcp.DhcpMessage(kind, True, 7, client, None, granted, options)
    ends = (server[1], dhcp.SERVER_PORT), (IPv4Address("255.255.255.255"), dhcp.CLIENT_PORT)
    return encode_udp((server[0], BROADCAST), *ends, dhcp.encode_dhcp(message))


PRINTER_RECORDS = (
    dns.DnsRecord("_ipp._tcp.local", "PTR", "Label Printer._ipp._tcp.local"),
    dns.DnsRecord("Label Printer._ipp._tcp.local", "SRV", "label-printer.local"),
    dns.DnsRecord("Label Printer._ipp._tcp.local", "TXT", ("txtvers=1", "ty=Clayfield LP-2")),
    dns.DnsRecord("label-printer.local", "A", PRINTER_4),
    dns.DnsRecord("label-printer.local", "AAAA", PRINTER_6),
)
DISCOVER = client_message(
    dhcp.DhcpKind.DISCOVER,
    TABLET,
    host_name=b"door-tablet",
    vendor_class=b"tablet-dhcp-9",
    requested_options=bytes((1, 3, 6, 15)),
    client_identifier=b"\x01" + TABLET.octets,
    requested_address=TABLET_4.packed,
)
ANNOUNCEMENT = multicast_dns(PRINTER_RECORDS, PRINTER, PRINTER_4)
CLAIM = encode_udp(
    (DESK, BROADCAST),
    (DESK_4, netbios.PORT),
    (IPv4Address("192.0.2.255"), netbios.PORT),
    netbios.encode_claim(netbios.NetbiosName("DESK", netbios.WORKSTATION), DESK_4.packed),
)
NOTIFY = encode_udp(
    (TABLET, MacAddress.parse("01005e7ffffa")),
    (TABLET_4, 40000),
    (IPv4Address("239.255.255.250"), 1900),
    b"NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nNT: urn:schemas-upnp-org:device:MediaRenderer:1\r\n"
    b"NTS: ssdp:alive\r\nSERVER: Slateware/3 UPnP/1.1 Panel/1\r\n\r\n",
)
LLMNR = encode_udp(
    (TABLET, DESK),
    (TABLET_4, dns.LLMNR_PORT),
    (DESK_4, 40001),
    dns.encode_answer(5, (dns.DnsRecord("61.2.0.192.in-addr.arpa", "PTR", "door-tablet"),)),
)
ADVERTISEMENT = ndp.encode_advertisement(PRINTER, PRINTER_6, DESK, DESK_LOCAL)
SOLICITATION = ndp.encode_solicitation(PRINTER, PRINTER_LOCAL, DESK_LOCAL)
ECHO_REPLY = encode_ip(
    (PRINTER, DESK),
    PRINTER_LOCAL,
    DESK_LOCAL,
    ICMPV6,
    icmp.encode_echo(PRINTER_LOCAL, DESK_LOCAL, icmp.Echo(True, 7, 1)),
    64,
)
EVERYTHING = (
    encode_request(TABLET, TABLET_4, DESK_4), encode_reply(PRINTER, PRINTER_4, DESK, DESK_4), DISCOVER,
    server_message(dhcp.DhcpKind.ACK, (DESK, DESK_4), TABLET, TABLET_4),
    ANNOUNCEMENT, CLAIM, NOTIFY, LLMNR, ADVERTISEMENT, SOLICITATION, ECHO_REPLY,
)  # fmt: skip


def pcap(frames: Sequence[tuple[float, bytes]], order: str = "<", ticks: int = 1_000_000, link_type: int = 1) -> bytes:
    """A classic capture file."""
    magic = 0xA1B2C3D4 if ticks == 1_000_000 else 0xA1B23C4D
    out = struct.pack(order + "IHHiIII", magic, 2, 4, 0, 0, 65535, link_type)
    for at, frame in frames:
        whole, fraction = divmod(round(Fraction(at) * ticks), ticks)
        out += struct.pack(order + "IIII", whole, fraction, len(frame), len(frame)) + frame
    return out


def pcapng(frames: Sequence[tuple[float, bytes]], order: str = "<", ticks_exponent: int = 6) -> bytes:
    """A capture file of the next generation: a section, an interface with its resolution, packets."""

    def block(kind: int, body: bytes) -> bytes:
        padded = body + bytes(-len(body) % 4)
        length = struct.pack(order + "I", 12 + len(padded))
        return struct.pack(order + "I", kind) + length + padded + length

    out = block(0x0A0D0D0A, struct.pack(order + "IHHq", 0x1A2B3C4D, 1, 0, -1))
    out += block(1, struct.pack(order + "HHI", 1, 0, 65535) + struct.pack(order + "HHB3x", 9, 1, ticks_exponent))
    for at, frame in frames:
        ticks = round(Fraction(at) * 10**ticks_exponent)
        fields = struct.pack(order + "IIIII", 0, ticks >> 32, ticks & 0xFFFFFFFF, len(frame), len(frame))
        out += block(6, fields + frame)
    return out


def payload_of(frame: bytes) -> bytes:
    """What a frame's UDP datagram carries."""
    header, cursor = decode_header(frame)
    packet = decode_ip(header.type, cursor)
    assert packet is not None
    return decode_udp(packet.payload).payload


def _ndp(frame: bytes) -> Any:
    header, cursor = decode_header(frame)
    packet = decode_ip(header.type, cursor)
    return packet and ndp.decode_ndp(packet)


def _ip(frame: bytes) -> Any:
    header, cursor = decode_header(frame)
    return decode_ip(header.type, cursor)


class Decoder(NamedTuple):
    """A function that must be total, and samples that it reads."""

    decode: Callable[[bytes], Any]
    samples: tuple[bytes, ...]


RADIUS_SECRET = b"made-up secret of the counter"
ACCESS_REQUEST = radius.encode_request(
    radius.Code.ACCESS_REQUEST,
    RADIUS_SECRET,
    {"User-Name": "54b1a37c0050", "Calling-Station-Id": "54-B1-A3-7C-00-50", "NAS-Port-Type": 19},
    identifier=7,
    password="54b1a37c0050",
).octets
ACCOUNTING_REQUEST = radius.encode_request(
    radius.Code.ACCOUNTING_REQUEST,
    RADIUS_SECRET,
    {"User-Name": "54b1a37c0050", "Acct-Status-Type": 1, "Acct-Session-Id": "A1"},
    identifier=8,
    signed=False,
).octets


def _radius(data: bytes) -> Any:
    message = radius.decode_radius(data, RADIUS_SECRET)
    message.reply(radius.Code.ACCESS_REJECT, {})
    return (
        message.signature(), message.has_genuine_authenticator(), message.password(), message.chap_is_one_of(["x"]),
        message.text("User-Name"), message.number("Acct-Status-Type"),
    )  # fmt: skip


DECODERS: Mapping[str, Decoder] = {
    "radius": Decoder(_radius, (ACCESS_REQUEST, ACCOUNTING_REQUEST)),
    "arp": Decoder(decode_arp, EVERYTHING[:2]),
    "ip": Decoder(_ip, EVERYTHING[2:]),
    "ndp": Decoder(_ndp, (ADVERTISEMENT, SOLICITATION)),
    "dhcp": Decoder(dhcp.decode_dhcp, (payload_of(DISCOVER), payload_of(EVERYTHING[3]))),
    "dns": Decoder(dns.decode_dns, (payload_of(ANNOUNCEMENT), payload_of(LLMNR))),
    "netbios": Decoder(
        netbios.decode_netbios,
        (
            payload_of(CLAIM),
            netbios.encode_status_reply(
                netbios.NodeStatus(9, (netbios.NetbiosName("STORAGE", 0), netbios.NetbiosName("KILNS", 0, True)), DESK)
            ),
        ),
    ),
    "ssdp": Decoder(decode_ssdp, (payload_of(NOTIFY),)),
    "capture": Decoder(
        lambda data: list(CaptureReader(io.BytesIO(data))),
        (pcap([(1.5, DISCOVER)]), pcap([(1.5, NOTIFY)], ">", 1_000_000_000), pcapng([(1.5, DISCOVER), (2.5, CLAIM)])),
    ),
}
