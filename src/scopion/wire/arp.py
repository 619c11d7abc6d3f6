"""ARP for IPv4 over Ethernet (RFC 826; probes and announcements: RFC 5227)."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from ipaddress import IPv4Address

from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.wire.ethernet import BROADCAST, TYPE_ARP, decode_header, encode_frame

REQUEST = 1
REPLY = 2
_FIXED = bytes.fromhex("0001 0800 06 04")  # Ethernet, IPv4, and their address lengths
_NOBODY = MacAddress(bytes(6))
_TYPE = TYPE_ARP.to_bytes(2)
# Destination, source, type; hardware and protocol with their lengths, operation; MAC and IP address of sender and
# target.
_PLAIN = struct.Struct("!6s6s2s6sH6s4s6s4s")
_UNSPECIFIED = IPv4Address(0)


@dataclass(frozen=True, slots=True)
class ArpPacket:
    """One ARP packet. ``frame_source`` is the Ethernet sender; proxies and forged packets have another one."""

    operation: int
    sender_mac: MacAddress
    sender_address: IPv4Address
    target_mac: MacAddress
    target_address: IPv4Address
    frame_source: MacAddress

    @property
    def claims_an_address(self) -> bool:
        """Tell whether the sender says that it uses an address; a probe (RFC 5227, 2.1.1) does not."""
        return self.sender_address != _UNSPECIFIED and not self.sender_mac.is_multicast


PLAIN_TARGET = slice(38, 42)  # the octets of a frame without a VLAN tag that are asked for


def is_plain_arp(frame: bytes) -> bool:
    """Tell whether a frame is ARP without a VLAN tag, by its type alone."""
    return frame[12:14] == _TYPE


def decode_arp(frame: bytes) -> ArpPacket | None:
    """Return the ARP packet of a frame, or None if it carries something else.

    Raises MalformedFrame if it claims to be ARP and is cut or not Ethernet and IPv4; never anything else.
    """
    if is_plain_arp(frame) and len(frame) >= _PLAIN.size:
        # A flood consists of these frames, and tens of thousands a second have to be read: one step instead of twelve.
        _, source, _, fixed, operation, sender, address, target, wanted = _PLAIN.unpack_from(frame)
        if fixed == _FIXED and operation in (REQUEST, REPLY):
            addresses = IPv4Address(address), MacAddress(target), IPv4Address(wanted)
            return ArpPacket(operation, MacAddress(sender), *addresses, MacAddress(source))
    header, cursor = decode_header(frame)
    if header.type != TYPE_ARP:
        return None
    fixed = cursor.take(6)
    if fixed != _FIXED:
        raise MalformedFrame(f"ARP for other hardware or protocol: {fixed.hex()}")
    operation = cursor.number(2)
    if operation not in (REQUEST, REPLY):
        return None  # reverse ARP and others (RFC 903) share the type of packet, not its meaning
    return ArpPacket(
        operation=operation,
        sender_mac=MacAddress(cursor.take(6)),
        sender_address=IPv4Address(cursor.take(4)),
        target_mac=MacAddress(cursor.take(6)),
        target_address=IPv4Address(cursor.take(4)),
        frame_source=header.source,
    )


def encode_request(
    sender_mac: MacAddress, sender_address: IPv4Address, wanted: IPv4Address, to: MacAddress = BROADCAST
) -> bytes:
    """Return a frame that asks all hosts who holds ``wanted``, or the adapter ``to`` alone (RFC 1122, 2.3.2.1)."""
    return encode_frame(
        to,
        sender_mac,
        TYPE_ARP,
        _FIXED + _body(REQUEST, sender_mac, sender_address, _NOBODY, wanted),
    )


def encode_reply(
    sender_mac: MacAddress, sender_address: IPv4Address, asker: MacAddress, asker_address: IPv4Address
) -> bytes:
    """Return a frame that tells ``asker`` the holder of ``sender_address``."""
    body = _body(REPLY, sender_mac, sender_address, asker, asker_address)
    return encode_frame(asker, sender_mac, TYPE_ARP, _FIXED + body)


def _body(
    operation: int, sender: MacAddress, sender_address: IPv4Address, target: MacAddress, wanted: IPv4Address
) -> bytes:
    return b"".join((operation.to_bytes(2), sender.octets, sender_address.packed, target.octets, wanted.packed))
