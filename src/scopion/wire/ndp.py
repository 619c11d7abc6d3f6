"""Neighbour discovery for IPv6 (RFC 4861): which host has an address, and which are routers."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from ipaddress import IPv6Address

from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.wire.cursor import Cursor
from scopion.wire.ip import ICMPV6, IpPacket, encode_ip, pseudo_checksum

UNSPECIFIED = IPv6Address(0)
_SOURCE_LINK_ADDRESS, _TARGET_LINK_ADDRESS = 1, 2
# Only a packet that no router has forwarded still has this (sections 6.1, 7.1): no distant host can claim an address.
_FRESH_HOPS = 255
_SOLICITED = 0x40


class NdpKind(IntEnum):
    """The messages, by their ICMPv6 type."""

    ROUTER_SOLICITATION = 133
    ROUTER_ADVERTISEMENT = 134
    NEIGHBOUR_SOLICITATION = 135
    NEIGHBOUR_ADVERTISEMENT = 136


_KINDS = {int(kind): kind for kind in NdpKind}


@dataclass(frozen=True, slots=True)
class NdpMessage:
    """One message. ``claimed`` is the address that it pairs with ``mac``; None if it pairs none."""

    kind: NdpKind
    claimed: IPv6Address | None
    mac: MacAddress | None
    target: IPv6Address | None = None  # the address that a neighbour message is about
    solicited: bool = False  # an advertisement that answers a question
    routes: bool = False  # the sender wants to be a default router


def decode_ndp(packet: IpPacket) -> NdpMessage | None:
    """Return the message in a packet; None if it carries something else or comes from beyond the link.

    Raises MalformedFrame if it claims to be neighbour discovery and is cut or its options are too long.
    """
    if packet.protocol != ICMPV6 or packet.hop_limit != _FRESH_HOPS or not isinstance(packet.source, IPv6Address):
        return None
    cursor = Cursor(packet.payload)
    number = cursor.number(1)
    cursor.take(3)
    kind = _KINDS.get(number)
    if kind is None:
        return None
    head = cursor.take(12 if kind is NdpKind.ROUTER_ADVERTISEMENT else 4)
    target = None
    if kind in (NdpKind.NEIGHBOUR_SOLICITATION, NdpKind.NEIGHBOUR_ADVERTISEMENT):
        target = IPv6Address(cursor.take(16))
    source_mac, target_mac = _link_addresses(cursor)
    if kind is NdpKind.NEIGHBOUR_ADVERTISEMENT:
        return NdpMessage(kind, target, target_mac, target, solicited=bool(head[0] & _SOLICITED))
    # A solicitation from the unspecified address probes whether an address is free (RFC 4862, 5.4.3): it claims
    # nothing.
    claimed = packet.source if packet.source != UNSPECIFIED else None
    routes = kind is NdpKind.ROUTER_ADVERTISEMENT and head[2:4] != bytes(2)  # its lifetime as a default router
    return NdpMessage(kind, claimed, source_mac, target, routes=routes)


def encode_solicitation(
    mac: MacAddress, source: IPv6Address, target: IPv6Address, to: MacAddress | None = None
) -> bytes:
    """Return a frame that asks for the holder of a target: the group of its neighbours, or the one adapter ``to``.

    The latter is how a neighbour is probed that was there before (RFC 4861, 4.3).
    """
    body = bytes(4) + target.packed + bytes((_SOURCE_LINK_ADDRESS, 1)) + mac.octets
    group = solicited_group(target)
    ends, destination = ((mac, group_mac(group)), group) if to is None else ((mac, to), target)
    return _encode(ends, source, destination, NdpKind.NEIGHBOUR_SOLICITATION, body)


def encode_advertisement(mac: MacAddress, target: IPv6Address, asker_mac: MacAddress, asker: IPv6Address) -> bytes:
    """Return a frame that tells an asker that ``mac`` has ``target``."""
    body = bytes((_SOLICITED, 0, 0, 0)) + target.packed + bytes((_TARGET_LINK_ADDRESS, 1)) + mac.octets
    return _encode((mac, asker_mac), target, asker, NdpKind.NEIGHBOUR_ADVERTISEMENT, body)


def solicited_group(target: IPv6Address) -> IPv6Address:
    """Return the group that a target listens to (RFC 4291, 2.7.1)."""
    return IPv6Address(bytes.fromhex("ff0200000000000000000001ff") + target.packed[13:])


def group_mac(group: IPv6Address) -> MacAddress:
    """Return the MAC address of a group (RFC 2464, section 7)."""
    return MacAddress(b"\x33\x33" + group.packed[12:])


def _encode(
    ends: tuple[MacAddress, MacAddress], source: IPv6Address, destination: IPv6Address, kind: NdpKind, body: bytes
) -> bytes:
    total = pseudo_checksum(source, destination, ICMPV6, bytes((kind, 0, 0, 0)) + body)
    return encode_ip(ends, source, destination, ICMPV6, bytes((kind, 0)) + total.to_bytes(2) + body, _FRESH_HOPS)


def _link_addresses(cursor: Cursor) -> tuple[MacAddress | None, MacAddress | None]:
    """Return the sender's and the target's link-layer address, from the options (section 4.6)."""
    found: dict[int, MacAddress] = {}
    while cursor.left:
        kind, length = cursor.number(1), cursor.number(1)
        if length == 0:
            raise MalformedFrame("a neighbour discovery option of length 0")  # section 4.6: discard the packet
        value = cursor.take(length * 8 - 2)
        if length == 1:
            found.setdefault(kind, MacAddress(value))
    return found.get(_SOURCE_LINK_ADDRESS), found.get(_TARGET_LINK_ADDRESS)
