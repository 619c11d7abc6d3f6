"""Capture files: classic pcap in both byte orders with micro- and nanoseconds, and pcapng.

Sources: the IETF drafts "PCAP Capture File Format" (opsawg-pcap) and "PCAP Next Generation" (opsawg-pcapng). The reader
takes an open stream, holds one block at a time, and is total: a damaged file gives the frames before the damage, and
``problem`` says where the damage is.
"""

from __future__ import annotations

import struct
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from typing import BinaryIO

from scopion.model.errors import MalformedFrame
from scopion.model.text import counted
from scopion.wire.cursor import Cursor

ETHERNET = 1
# Linux writes these for the pseudo-device "any": the sender's address without the receiver's (link types 113 and 276 of
# the registry of link-layer header types).
COOKED, COOKED_2 = 113, 276
_TO_BROADCAST, _TO_GROUP = 1, 2
_ETHERNET_HARDWARE = 1
_CLASSIC = {  # the magic number as it stands in the file: byte order, ticks a second
    bytes.fromhex("a1b2c3d4"): (">", 1_000_000),
    bytes.fromhex("d4c3b2a1"): ("<", 1_000_000),
    bytes.fromhex("a1b23c4d"): (">", 1_000_000_000),
    bytes.fromhex("4d3cb2a1"): ("<", 1_000_000_000),
}
# All versions that were ever written (opsawg-pcap, 4; opsawg-pcapng, 4.1): they have the same form.
_VERSIONS, _SECTION_VERSIONS = ((2, 2), (2, 3), (2, 4)), ((1, 0), (1, 2))
_SECTION, _INTERFACE, _SIMPLE, _ENHANCED = 0x0A0D0D0A, 1, 3, 6
_BYTE_ORDER = {bytes.fromhex("1a2b3c4d"): ">", bytes.fromhex("4d3c2b1a"): "<"}
_TIME_RESOLUTION, _TIME_OFFSET = 9, 14
# The largest snapshot length that programs write is 262,144; more is damage, and would fill the memory.
_MAX_FRAME = 262_144
_MAX_BLOCK = 16 << 20
_MAX_INTERFACES = 1024


@dataclass(frozen=True, slots=True)
class CapturedFrame:
    """A frame and its time, in seconds since 1970 (UTC); None if the file gives no time."""

    at: float | None
    data: bytes


@dataclass(frozen=True, slots=True)
class _Interface:
    link_type: int
    ticks: int = 1_000_000  # ticks a second
    offset: int = 0  # seconds

    def seconds(self, ticks: int) -> float:
        return float(Fraction(ticks, self.ticks) + self.offset)


def is_capture(beginning: bytes) -> bool:
    """Tell whether a file with this beginning is a capture."""
    return beginning[:4] in _CLASSIC or beginning[:4] == _SECTION.to_bytes(4)


def uncooked(data: bytes, link_type: int) -> bytes | None:
    """Return a frame of the pseudo-device "any" as an Ethernet frame; None if it is cut or not from Ethernet.

    The receiver is not recorded. Here it is the broadcast address, a group, or all zeros.
    """
    if link_type == COOKED:
        if len(data) < 16:
            return None
        way, hardware, length, address, protocol = struct.unpack(">HHH8sH", data[:16])
        rest = data[16:]
    else:
        if len(data) < 20:
            return None
        protocol, _, _, hardware, way, length, address = struct.unpack(">HHIHBB8s", data[:20])
        rest = data[20:]
    if hardware != _ETHERNET_HARDWARE or length != 6:
        return None
    source: bytes = address[:6]
    group = b"\x33\x33" if protocol == 0x86DD else b"\x01\x00"
    to = {_TO_BROADCAST: b"\xff" * 6, _TO_GROUP: group + bytes(4)}.get(way, bytes(6))
    return to + source + int(protocol).to_bytes(2) + rest


class CaptureReader:
    """Iterates over the Ethernet frames of a capture, those of Linux's pseudo-device "any" among them.

    ``frames`` counts them; ``skipped`` counts frames of other link types by their number; ``problem`` says what was
    damaged, and is empty for a sound file.
    """

    def __init__(self, stream: BinaryIO) -> None:
        self._stream = stream
        self._at = 0
        self._order = ">"
        self._interfaces: list[_Interface] = []
        self.frames = 0
        self.skipped: Counter[int] = Counter()
        self.problem = ""

    def __iter__(self) -> Iterator[CapturedFrame]:
        try:
            magic = self._take(4)
            yield from self._classic(*_CLASSIC[magic]) if magic in _CLASSIC else self._next_generation(magic)
        except MalformedFrame as error:
            self.problem = f"{error}, after {counted(self.frames, 'frame')}"

    def _classic(self, order: str, ticks: int) -> Iterator[CapturedFrame]:
        major, minor, *_, link_type = struct.unpack(order + "HHiIII", self._take(20))
        if (major, minor) not in _VERSIONS:
            raise MalformedFrame(f"it says version {major}.{minor} of pcap, which does not exist")
        interface = _Interface(link_type & 0x0FFFFFFF, ticks)  # the upper bits describe frame check sequences
        while head := self._take(16, may_end=True):
            seconds, fraction, kept, whole = struct.unpack(order + "IIII", head)
            if kept > _MAX_FRAME or kept > whole or fraction >= ticks:
                said = f"a frame of {kept} of {whole} bytes, {fraction} ticks after a second, at offset {self._at - 16}"
                raise MalformedFrame(f"{said}: the file is damaged there")
            yield from self._frame(interface, self._take(kept), seconds * ticks + fraction)

    def _next_generation(self, magic: bytes) -> Iterator[CapturedFrame]:
        head: bytes | None = magic + self._take(4)
        while head:
            body = self._block(head)
            kind = struct.unpack(self._order + "I", head[:4])[0]
            if kind == _INTERFACE:
                self._add_interface(body)
            elif kind == _ENHANCED:
                yield from self._enhanced(body)
            elif kind == _SIMPLE and self._interfaces:
                length = struct.unpack(self._order + "I", body.take(4))[0]
                yield from self._frame(self._interfaces[0], body.take(min(length, body.left)), None)
            head = self._take(8, may_end=True)

    def _block(self, head: bytes) -> Cursor:
        """Return the body of the block that begins with ``head``; a section's header gives its byte order."""
        start = self._at - 8
        order = b""
        if head[:4] == _SECTION.to_bytes(4):
            order = self._take(4)
            if order not in _BYTE_ORDER:
                raise MalformedFrame(f"a section without a byte order at offset {start}")
            self._order = _BYTE_ORDER[order]
            self._interfaces.clear()
        length = struct.unpack(self._order + "I", head[4:])[0]
        if not 12 + len(order) <= length <= _MAX_BLOCK or length % 4:
            raise MalformedFrame(f"a block of {length} bytes at offset {start}: the file is damaged there")
        body = self._take(length - 12 - len(order))
        if self._take(4) != head[4:]:
            raise MalformedFrame(f"a block at offset {start} whose two lengths differ: the file is damaged there")
        if order:
            version = struct.unpack(self._order + "HH", body[:4].ljust(4, b"\xff"))
            if version not in _SECTION_VERSIONS:
                raise MalformedFrame(f"it says version {version[0]}.{version[1]} of pcapng, which does not exist")
        return Cursor(body)

    def _add_interface(self, body: Cursor) -> None:
        if len(self._interfaces) >= _MAX_INTERFACES:
            raise MalformedFrame(f"more than {_MAX_INTERFACES} interfaces in one section")
        link_type = struct.unpack(self._order + "H", body.take(2))[0]
        body.take(6)
        ticks, offset = 1_000_000, 0
        while body.left >= 4:
            code, length = struct.unpack(self._order + "HH", body.take(4))
            value = body.take(length)
            body.take(min(-length % 4, body.left))
            if code == _TIME_RESOLUTION and length == 1:
                # The top bit says whether the rest is a negative power of two or of ten.
                ticks = 2 ** (value[0] & 0x7F) if value[0] & 0x80 else 10 ** min(value[0], 30)
            elif code == _TIME_OFFSET and length == 8:
                offset = struct.unpack(self._order + "q", value)[0]
        self._interfaces.append(_Interface(link_type, ticks, offset))

    def _enhanced(self, body: Cursor) -> Iterator[CapturedFrame]:
        number, high, low, kept, whole = struct.unpack(self._order + "IIIII", body.take(20))
        if kept > whole:
            raise MalformedFrame(f"a frame of {kept} of {whole} bytes at offset {self._at}: the file is damaged there")
        if number >= len(self._interfaces):
            raise MalformedFrame(f"a frame of interface {number}, which the file does not describe")
        yield from self._frame(self._interfaces[number], body.take(kept), high << 32 | low)

    def _frame(self, interface: _Interface, data: bytes, ticks: int | None) -> Iterator[CapturedFrame]:
        if interface.link_type in (COOKED, COOKED_2):
            cooked = uncooked(data, interface.link_type)
            if cooked is None:
                self.skipped[interface.link_type] += 1
                return
            data = cooked
        elif interface.link_type != ETHERNET:
            self.skipped[interface.link_type] += 1
            return
        self.frames += 1
        yield CapturedFrame(interface.seconds(ticks) if ticks is not None else None, data)

    def _take(self, count: int, *, may_end: bool = False) -> bytes:
        data = self._stream.read(count)
        if len(data) < count and not (may_end and not data):
            raise MalformedFrame(f"the file ends at offset {self._at + len(data)}, in the middle of something")
        self._at += len(data)
        return data
