"""ICMP echo for IPv4 (RFC 792) and IPv6 (RFC 4443, section 4)."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv6Address

from scopion.model.address import Address
from scopion.wire.cursor import Cursor
from scopion.wire.ip import ICMP, ICMPV6, checksum, pseudo_checksum

ALL_NODES = IPv6Address("ff02::1")  # RFC 4291, 2.7.1: all nodes of the link
_REQUEST, _REPLY = {4: 8, 6: 128}, {4: 0, 6: 129}


@dataclass(frozen=True, slots=True)
class Echo:
    """An echo request, or the reply to one."""

    reply: bool
    identifier: int
    sequence: int


def decode_echo(protocol: int, payload: bytes) -> Echo | None:
    """Return the echo in an ICMP or ICMPv6 message; None for other messages. Raises MalformedFrame if it is cut."""
    version = {ICMP: 4, ICMPV6: 6}.get(protocol)
    if version is None:
        return None
    cursor = Cursor(payload)
    kind = cursor.number(1)
    cursor.take(3)
    if kind not in (_REQUEST[version], _REPLY[version]):
        return None
    return Echo(kind == _REPLY[version], cursor.number(2), cursor.number(2))


def encode_echo(source: Address, destination: Address, echo: Echo) -> bytes:
    """Return an ICMP or ICMPv6 message with its checksum; that of IPv6 covers the addresses."""
    kinds = _REPLY if echo.reply else _REQUEST
    tail = echo.identifier.to_bytes(2) + echo.sequence.to_bytes(2)
    head = bytes((kinds[source.version], 0))
    whole = head + bytes(2) + tail
    total = checksum(whole) if source.version == 4 else pseudo_checksum(source, destination, ICMPV6, whole)
    return head + total.to_bytes(2) + tail
