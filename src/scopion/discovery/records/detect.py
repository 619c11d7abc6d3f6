"""Tells by its content what kind of record something is, and reads it."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from datetime import datetime
from io import BufferedReader

from scopion.attachment.neighbour_text import MAC_TEXT, read_neighbours
from scopion.discovery.records.captures import read_capture
from scopion.discovery.records.client_list import read_client_list
from scopion.discovery.records.leases import read_dnsmasq, read_isc_dhcpd, read_kea
from scopion.discovery.records.listings import read_listing
from scopion.discovery.records.reading import Reading, RecordKind
from scopion.model.errors import NotFound, UsageError
from scopion.wire.capture import is_capture

# A lease file of a large site has a few megabytes; a text that is longer than this is something else.
MAX_TEXT_BYTES = 32 << 20
_LOOKED_AT = 64 << 10
_DNSMASQ_LINE = re.compile(r"^\d{1,12} (?:\d{2}-)?(?:[0-9a-f]{2}:){5}[0-9a-f]{2} \S+ \S+ \S+$", re.M | re.I)
_ISC_LEASE = re.compile(r"^[ \t]*lease[ \t]+[0-9a-f.:]+[ \t]*\{", re.M | re.I)
_LISTING_MARKS = re.compile(
    r"\blladdr\b|\) at |\bnud\b|HWtype|Linklayer Address|Physical Address|Physische Adresse", re.I
)

_READERS: Mapping[RecordKind, Callable[[str, datetime], Reading]] = {
    RecordKind.CLIENT_LIST: read_client_list,
    RecordKind.DNSMASQ: read_dnsmasq,
    RecordKind.ISC_DHCPD: read_isc_dhcpd,
    RecordKind.KEA: read_kea,
    RecordKind.NEIGHBOURS: read_listing,
}


def read_record(stream: BufferedReader, as_of: datetime, kind: RecordKind | None = None) -> Reading:
    """Read a record of a kind, or of the kind that its content shows. Raises UsageError, NotFound.

    ``as_of`` is the time of a record that tells none itself.
    """
    beginning = stream.peek(4)[:4]
    if kind is RecordKind.CAPTURE or (kind is None and is_capture(beginning)):
        if not is_capture(beginning):
            raise UsageError("this is no capture: it begins neither as pcap nor as pcapng")
        return read_capture(stream, as_of)
    data = stream.read(MAX_TEXT_BYTES + 1)
    if len(data) > MAX_TEXT_BYTES:
        raise UsageError(f"more than {MAX_TEXT_BYTES >> 20} MB of text: that is no list of devices")
    text = _text(data)
    if not text.strip():
        raise UsageError("there is nothing to read: it is empty")
    reading = _READERS[kind or detect(text)](text, as_of)
    if not reading.observations and not reading.unread:
        raise NotFound("no MAC address was found in it: is this the page or file that lists the devices?")
    return reading


def detect(text: str) -> RecordKind:
    """The kind of a text, by its beginning."""
    start = text[:_LOOKED_AT]
    header = start.lstrip().splitlines()[0].casefold() if start.strip() else ""
    if {"address", "hwaddr", "expire"} <= set(header.split(",")):
        return RecordKind.KEA
    if _ISC_LEASE.search(start):
        return RecordKind.ISC_DHCPD
    lines = [line for line in start.splitlines() if MAC_TEXT.search(line)]
    if lines and len(_DNSMASQ_LINE.findall(start)) * 2 > len(lines):
        return RecordKind.DNSMASQ
    if _LISTING_MARKS.search(start) and any(read_neighbours(start)):
        return RecordKind.NEIGHBOURS
    return RecordKind.CLIENT_LIST


def _text(data: bytes) -> str:
    """Text in whatever encoding a browser or an editor saved it."""
    for mark, encoding in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig")):
        if data.startswith(mark):
            return data.decode(encoding, "replace")
    if b"\0" in data[:1024]:
        raise UsageError("this is neither text nor a capture (pcap, pcapng)")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("latin-1")
