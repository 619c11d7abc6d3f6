"""The kinds of records: how each is recognised by its content, and read.

A new kind is a reader and an entry here: ``docs/extending.md`` has one from beginning to end.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from io import BufferedReader

from scopion.attachment.neighbour_text import read_neighbours
from scopion.discovery.client_lists.read import read_client_list
from scopion.discovery.records.captures import read_capture
from scopion.discovery.records.leases import read_dnsmasq, read_isc_dhcpd, read_kea
from scopion.discovery.records.listings import read_listing
from scopion.discovery.records.reading import Reading, RecordContext, RecordKind
from scopion.model.errors import NotFound, UsageError
from scopion.model.mac import mac_spans
from scopion.wire.capture import is_capture

# A lease file of a large site has a few megabytes; a longer text is something else.
MAX_TEXT_BYTES = 32 << 20
# A page with a thousand clients has less than one megabyte, with its scripts.
MAX_PASTE_BYTES = 10 << 20
_LOOKED_AT = 64 << 10
_DNSMASQ_LINE = re.compile(r"^\d{1,12} (?:\d{2}-)?(?:[0-9a-f]{2}:){5}[0-9a-f]{2} \S+ \S+ \S+$", re.M | re.I)
_ISC_LEASE = re.compile(r"^[ \t]*lease[ \t]+[0-9a-f.:]+[ \t]*\{", re.M | re.I)
_LISTING_MARKS = re.compile(
    r"\blladdr\b|\) at |\bnud\b|HWtype|Linklayer Address|Physical Address|Physische Adresse", re.I
)


@dataclass(frozen=True, slots=True)
class RecordType:
    """One kind of record that is text."""

    name: str  # as ``import --as`` takes it
    read: Callable[[str, RecordContext], Reading]  # it never raises
    fits: Callable[[str], bool]  # whether the beginning of a text shows this kind


_TYPES: dict[str, RecordType] = {}


def register(entry: RecordType) -> None:
    """Add a kind; it is recognised before those that were there."""
    rest = {name: each for name, each in _TYPES.items() if name != entry.name}
    _TYPES.clear()
    _TYPES.update({entry.name: entry, **rest})


def record_types() -> tuple[RecordType, ...]:
    """Return all kinds, in the order in which a text is tried."""
    return tuple(_TYPES.values())


def read_record(stream: BufferedReader, context: RecordContext, kind: str | None = None) -> Reading:
    """Read a record of a kind, or of the kind that its content shows. Raises UsageError, NotFound."""
    beginning = stream.peek(4)[:4]
    if kind == RecordKind.CAPTURE or (kind is None and is_capture(beginning)):
        if not is_capture(beginning):
            raise UsageError("this is not a capture: it begins neither as pcap nor as pcapng")
        return read_capture(stream, context.as_of)
    data = stream.read(MAX_TEXT_BYTES + 1)
    if len(data) > MAX_TEXT_BYTES:
        raise UsageError(f"more than {MAX_TEXT_BYTES >> 20} MB of text: that is not a list of devices")
    text = decoded_text(data)
    if not text.strip():
        raise UsageError("there is nothing to read: it is empty")
    if kind is not None and kind not in _TYPES:
        raise UsageError(f"there is no kind of record {kind!r}: {', '.join(_TYPES)} or {RecordKind.CAPTURE}")
    name = kind or detect(text)
    if name == RecordKind.CLIENT_LIST and len(data) > MAX_PASTE_BYTES:
        raise UsageError(
            f"this is no lease file or known listing, and a pasted list has at most {MAX_PASTE_BYTES >> 20} MB: "
            "copy only the table of the devices"
        )
    reading = _TYPES[name].read(text, context)
    if not reading.observations and not reading.unread:
        if name != RecordKind.CLIENT_LIST:
            raise NotFound(f"no MAC address was found in it, read as {name}")
        raise NotFound(
            "no MAC address was found in it: open the router's page that lists the connected devices with their MAC "
            "addresses (often under Status, Network or DHCP), and copy the table as a whole"
        )
    return reading


def detect(text: str) -> str:
    """Return the kind of a text, by its beginning."""
    start = text[:_LOOKED_AT]
    return next(each.name for each in _TYPES.values() if each.fits(start))


def _is_kea(start: str) -> bool:
    header = start.lstrip().splitlines()[0].casefold() if start.strip() else ""
    return {"address", "hwaddr", "expire"} <= set(header.split(","))


def _is_dnsmasq(start: str) -> bool:
    lines = [line for line in start.splitlines() if any(mac_spans(line))]
    return bool(lines) and len(_DNSMASQ_LINE.findall(start)) * 2 > len(lines)


def _is_listing(start: str) -> bool:
    return bool(_LISTING_MARKS.search(start)) and any(read_neighbours(start))


def decoded_text(data: bytes) -> str:
    """Return a text in the encoding in which a browser or an editor saved it. Raises UsageError for what is no text."""
    for mark, encoding in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig")):
        if data.startswith(mark):
            return data.decode(encoding, "replace")
    if b"\0" in data[:1024]:
        raise UsageError("this is neither text nor a capture (pcap, pcapng)")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


# The first registered is tried last: a text that fits no other kind is taken for a client list.
for _entry in (
    RecordType(RecordKind.CLIENT_LIST, read_client_list, lambda start: True),
    RecordType(RecordKind.NEIGHBOURS, read_listing, _is_listing),
    RecordType(RecordKind.DNSMASQ, read_dnsmasq, _is_dnsmasq),
    RecordType(RecordKind.ISC_DHCPD, read_isc_dhcpd, lambda start: bool(_ISC_LEASE.search(start))),
    RecordType(RecordKind.KEA, read_kea, _is_kea),
):
    register(_entry)
