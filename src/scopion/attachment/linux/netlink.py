"""Asks the Linux kernel for interfaces, addresses, routes and neighbours over rtnetlink (rtnetlink(7), RFC 3549).

Our own hundred lines, because the libraries for it take a third of a second at every start. Only dumps, which need no
privilege. The kernel sends them in portions; the attributes are parsed here and nowhere else.
"""

from __future__ import annotations

import os
import socket
import struct
import sys
from collections.abc import Iterator
from dataclasses import dataclass

from scopion.model.errors import ScopionError

RTM_GETLINK, RTM_GETADDR, RTM_GETROUTE, RTM_GETNEIGH = 18, 22, 26, 30
NLMSG_ERROR, _NLMSG_DONE = 2, 3
NLM_F_REQUEST, _NLM_F_DUMP, _NLM_F_DUMP_INTR = 0x1, 0x300, 0x10
_HEADER = struct.Struct("=IHHII")  # length, type, flags, sequence, port
_ATTRIBUTE = struct.Struct("=HH")  # length, type
# The size of the fixed part after the header: ifinfomsg, ifaddrmsg, rtmsg, ndmsg.
_FIXED = {RTM_GETLINK: 16, RTM_GETADDR: 8, RTM_GETROUTE: 12, RTM_GETNEIGH: 12}
_NESTED = 0x3FFF  # the two highest bits of an attribute's type are flags
_PORTION = 1 << 17  # bytes; the kernel fills at most 32 KiB a portion
_TRIES = 5  # a table that changes while it is read is read again


@dataclass(frozen=True, slots=True)
class NetlinkMessage:
    """One entry of a dump: its fixed part, and its attributes by number (a later one replaces an earlier one)."""

    fixed: bytes
    attributes: dict[int, bytes]


class _Interrupted(Exception):
    """The table changed during the dump."""


def dump(kind: int, family: int, index: int = 0) -> list[NetlinkMessage]:
    """Return all records of one kind: links, addresses, routes or neighbours (of interface ``index`` if given)."""
    for _ in range(_TRIES):
        try:
            return list(_dumped(kind, family, index))
        except _Interrupted:
            continue
    raise ScopionError("the kernel's tables change faster than they can be read: try again")


def attributes(data: bytes) -> dict[int, bytes]:
    """Return the attributes in ``data`` by number; a cut one is left out."""
    found: dict[int, bytes] = {}
    at = 0
    while at + _ATTRIBUTE.size <= len(data):
        length, kind = _ATTRIBUTE.unpack_from(data, at)
        if length < _ATTRIBUTE.size or at + length > len(data):
            break
        found[kind & _NESTED] = data[at + _ATTRIBUTE.size : at + length]
        at += length + 3 & ~3
    return found


def _dumped(kind: int, family: int, index: int) -> Iterator[NetlinkMessage]:
    body = bytearray(_FIXED[kind])
    body[0] = family
    if kind == RTM_GETNEIGH:
        # An ndmsg and the attribute NDA_IFINDEX (8): then the kernel sends only the entries of this interface.
        body += struct.pack("=HHI", 8, 8, index) if index else b""
    with socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, socket.NETLINK_ROUTE) as channel:
        channel.settimeout(5.0)
        channel.bind((0, 0))
        channel.send(message(kind, NLM_F_REQUEST | _NLM_F_DUMP, bytes(body)))
        while True:
            for told, flags, payload in messages(channel.recv(_PORTION)):
                if flags & _NLM_F_DUMP_INTR:
                    raise _Interrupted
                if told == _NLMSG_DONE:
                    return
                if told == NLMSG_ERROR:
                    code = -int.from_bytes(payload[:4], sys.byteorder, signed=True)
                    raise ScopionError(f"the kernel refused to give its tables: {os.strerror(code)}")
                size = _FIXED[kind]
                yield NetlinkMessage(payload[:size], attributes(payload[size:]))


def message(kind: int, flags: int, payload: bytes) -> bytes:
    """Return a request of ours with its header."""
    return _HEADER.pack(_HEADER.size + len(payload), kind, flags, 1, 0) + payload


def messages(portion: bytes) -> Iterator[tuple[int, int, bytes]]:
    """Yield type, flags and payload of each message in what the kernel has sent; a cut one ends it."""
    at = 0
    while at + _HEADER.size <= len(portion):
        length, kind, flags, _, _ = _HEADER.unpack_from(portion, at)
        if length < _HEADER.size:
            return
        yield kind, flags, portion[at + _HEADER.size : at + length]
        at += length + 3 & ~3
