"""IPv4 (RFC 791) and IPv6 (RFC 8200) packets, and the UDP datagrams (RFC 768) in them.

Fragments are not reassembled: no message that is decoded here is that long.
"""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address

from scopion.model.address import Address
from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.wire.cursor import Cursor
from scopion.wire.ethernet import encode_frame

TYPE_IPV4 = 0x0800
TYPE_IPV6 = 0x86DD
ICMP, UDP, ICMPV6 = 1, 17, 58
_HOP_BY_HOP, _ROUTING, _DESTINATION = 0, 43, 60
_FRAGMENT = 44
# RFC 8200 has six kinds of extension header; a packet with more is meant to waste our time.
_MAX_EXTENSIONS = 8
_MORE_OR_OFFSET = 0x3FFF


@dataclass(frozen=True, slots=True)
class IpPacket:
    """Sender, receiver and content of a packet. ``hop_limit`` is IPv4's time to live."""

    source: Address
    destination: Address
    protocol: int
    hop_limit: int
    payload: bytes


@dataclass(frozen=True, slots=True)
class UdpDatagram:
    """A UDP datagram without its checksum: network cards fill that in after a capture has seen the frame."""

    source_port: int
    destination_port: int
    payload: bytes


def decode_ip(ethertype: int, cursor: Cursor) -> IpPacket | None:
    """Return the packet at the cursor, unpadded; None for other types and fragments. Raises MalformedFrame."""
    if ethertype == TYPE_IPV4:
        return _decode_ipv4(cursor)
    return _decode_ipv6(cursor) if ethertype == TYPE_IPV6 else None


def decode_udp(payload: bytes) -> UdpDatagram:
    """Return the datagram in a packet's payload. Raises MalformedFrame."""
    cursor = Cursor(payload)
    source, destination, length = cursor.number(2), cursor.number(2), cursor.number(2)
    cursor.take(2)
    if length < 8:
        raise MalformedFrame(f"a UDP datagram of {length} bytes: its header alone has 8")
    return UdpDatagram(source, destination, cursor.take(length - 8))


def encode_ip(
    ends: tuple[MacAddress, MacAddress], source: Address, destination: Address, protocol: int, payload: bytes, hops: int
) -> bytes:
    """Return a frame from the first of ``ends`` to the second that carries ``payload``."""
    if isinstance(source, IPv4Address):
        head = b"\x45\x00" + (20 + len(payload)).to_bytes(2) + bytes(4) + bytes((hops, protocol)) + bytes(2)
        head += source.packed + destination.packed
        head = head[:10] + checksum(head).to_bytes(2) + head[12:]
        return encode_frame(ends[1], ends[0], TYPE_IPV4, head + payload)
    head = b"\x60\x00\x00\x00" + len(payload).to_bytes(2) + bytes((protocol, hops))
    return encode_frame(ends[1], ends[0], TYPE_IPV6, head + source.packed + destination.packed + payload)


def encode_udp(
    ends: tuple[MacAddress, MacAddress],
    source: tuple[Address, int],
    destination: tuple[Address, int],
    payload: bytes,
    hops: int = 64,
) -> bytes:
    """Return a frame with a UDP datagram between addresses and ports."""
    length = (8 + len(payload)).to_bytes(2)
    head = source[1].to_bytes(2) + destination[1].to_bytes(2) + length
    total = pseudo_checksum(source[0], destination[0], UDP, head + bytes(2) + payload) or 0xFFFF
    body = head + total.to_bytes(2) + payload
    return encode_ip(ends, source[0], destination[0], UDP, body, hops)


def checksum(data: bytes) -> int:
    """Return the Internet checksum (RFC 1071)."""
    padded = data + b"\0" if len(data) % 2 else data
    total = sum(int.from_bytes(padded[at : at + 2]) for at in range(0, len(padded), 2))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def pseudo_checksum(source: Address, destination: Address, protocol: int, payload: bytes) -> int:
    """Return the checksum of a payload with the addresses that it travels between (RFC 768; RFC 8200, 8.1)."""
    if isinstance(source, IPv4Address):
        pseudo = bytes((0, protocol)) + len(payload).to_bytes(2)
    else:
        pseudo = len(payload).to_bytes(4) + bytes((0, 0, 0, protocol))
    return checksum(source.packed + destination.packed + pseudo + payload)


def _decode_ipv4(cursor: Cursor) -> IpPacket | None:
    start = cursor.at
    first = cursor.number(1)
    length = (first & 0x0F) * 4
    if first >> 4 != 4 or length < 20:
        raise MalformedFrame(f"an IPv4 header that begins with {first:#04x}")
    cursor.take(1)
    total = cursor.number(2)
    cursor.take(2)
    fragment = cursor.number(2)
    hops, protocol = cursor.number(1), cursor.number(1)
    cursor.take(2)
    source, destination = IPv4Address(cursor.take(4)), IPv4Address(cursor.take(4))
    cursor.take(length - 20)
    if total < length:
        raise MalformedFrame(f"an IPv4 packet of {total} bytes with a header of {length}")
    payload = cursor.take(total - (cursor.at - start))
    return None if fragment & _MORE_OR_OFFSET else IpPacket(source, destination, protocol, hops, payload)


def _decode_ipv6(cursor: Cursor) -> IpPacket | None:
    first = cursor.number(4)
    if first >> 28 != 6:
        raise MalformedFrame(f"an IPv6 header that begins with {first >> 24:#04x}")
    length, protocol, hops = cursor.number(2), cursor.number(1), cursor.number(1)
    source, destination = IPv6Address(cursor.take(16)), IPv6Address(cursor.take(16))
    body = Cursor(cursor.take(length))
    for _ in range(_MAX_EXTENSIONS):
        if protocol == _FRAGMENT:
            return None
        if protocol not in (_HOP_BY_HOP, _ROUTING, _DESTINATION):
            return IpPacket(source, destination, protocol, hops, body.take(body.left))
        protocol = body.number(1)
        body.take(body.number(1) * 8 + 6)
    raise MalformedFrame(f"an IPv6 packet with more than {_MAX_EXTENSIONS} extension headers")
