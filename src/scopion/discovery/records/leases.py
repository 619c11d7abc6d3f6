"""Lease files of DHCP servers: dnsmasq, ISC dhcpd (dhcpd.leases(5)) and Kea's memfile for IPv4 and IPv6."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime

from scopion.discovery.records.reading import Reading, RecordContext, RecordKind
from scopion.discovery.said import host_name
from scopion.model.address import parse_address
from scopion.model.errors import InvalidMacAddress
from scopion.model.mac import MacAddress
from scopion.model.observation import Source, Trait, TraitKind
from scopion.model.text import clean

# Blanks, not line ends: a file of empty lines is read once.
_LEASE = re.compile(r"^[ \t]*lease[ \t]+(\S{1,64})[ \t]*\{", re.MULTILINE)
_LEASE_END = re.compile(r"^[ \t]*\}", re.MULTILINE)
_LONGEST_LEASE = 8192  # characters; a lease with all its options has some hundred
_KEA_ASSIGNED = "0"


def read_dnsmasq(text: str, context: RecordContext) -> Reading:
    """Read one lease a line: expiry, MAC, address, name or ``*``, client identifier. IPv6 leases have no MAC address.

    The file tells when a lease ends, not when it began: a record counts as of the file's time, or of the end if that is
    earlier.
    """
    reading = Reading(RecordKind.DNSMASQ, about="leases of dnsmasq")
    for number, line in enumerate(text.splitlines(), 1):
        fields = line.split()
        if not fields or fields[0] == "duid":
            continue
        try:
            expiry, mac, address = int(fields[0]), _mac(fields[1]), parse_address(fields[2])
        except (ValueError, IndexError):
            reading.trouble(f"line {number}", "not a lease", line)
            continue
        name = fields[3] if len(fields) > 3 and fields[3] != "*" else ""
        identifier = fields[4] if len(fields) > 4 and fields[4] != "*" else ""
        at = min(context.as_of, _moment(expiry) or context.as_of) if expiry else context.as_of
        if not reading.add(at, Source.LEASES, mac, address, (_name(name), _client(identifier))):
            reading.trouble(f"line {number}", "no MAC address of a host", line)
    return reading


def read_isc_dhcpd(text: str, context: RecordContext) -> Reading:
    """Read blocks ``lease ADDRESS { ... }``; the time is the client's last transaction, else the lease's start."""
    reading = Reading(RecordKind.ISC_DHCPD, about="leases of ISC dhcpd")
    for line, address_text, body in _blocks(text, reading):
        said = dict(_statements(body))
        try:
            address = parse_address(address_text)
            mac = _mac(said.get("hardware ethernet", ""))
        except ValueError:
            reading.trouble(f"line {line}", "a lease without a MAC address or with a wrong address", address_text)
            continue
        at = _isc_moment(said.get("cltt", "")) or _isc_moment(said.get("starts", "")) or context.as_of
        vendor = said.get("set vendor-class-identifier", "")
        traits = (
            _name(_unquoted(said.get("client-hostname", ""))),
            _client(_octal(_unquoted(said.get("uid", ""))).hex()),
            Trait(TraitKind.VENDOR_CLASS, clean(_unquoted(vendor), 200), Source.LEASES) if vendor else None,
        )
        if not reading.add(min(at, context.as_of), Source.LEASES, mac, address, traits):
            reading.trouble(f"line {line}", "no MAC address of a host", address_text)
    return reading


def read_kea(text: str, context: RecordContext) -> Reading:
    """Read Kea's memfile: CSV with a header; a lease began at its expiry less its lifetime."""
    reading = Reading(RecordKind.KEA, about="leases of Kea")
    rows = csv.DictReader(text.splitlines())
    try:
        for number, row in enumerate(rows, 2):
            _add_kea(reading, number, row, context.as_of)
    except csv.Error as error:  # a field without end
        reading.trouble(f"line {rows.line_num + 1}", f"not CSV: {error}")
    return reading


def _add_kea(reading: Reading, number: int, row: dict[str, str], as_of: datetime) -> None:
    if row.get("state", _KEA_ASSIGNED) not in (_KEA_ASSIGNED, "2"):  # 1: declined, no client has it; 2: expired
        return
    try:
        expiry, lifetime = int(row["expire"] or ""), int(row["valid_lifetime"] or "")
        mac, address = _mac(row.get("hwaddr") or ""), parse_address(row["address"] or "")
    except (ValueError, KeyError, TypeError):
        reading.trouble(f"line {number}", "not a lease", ",".join(filter(None, map(str, row.values()))))
        return
    at = _moment(expiry - lifetime) or as_of
    traits = (_name(row.get("hostname") or ""), _client(row.get("client_id") or ""))
    if not reading.add(min(at, as_of), Source.LEASES, mac, address, traits):
        reading.trouble(f"line {number}", "no MAC address of a host", str(row.get("address")))


def _blocks(text: str, reading: Reading) -> Iterator[tuple[int, str, str]]:
    """Yield the leases: line, address, body; one that is not closed is the file's cut end."""
    line, counted_to = 1, 0
    end: re.Match[str] | None = None
    for match in _LEASE.finditer(text):
        if end is None or end.start() < match.end():  # else both begin before the same end: it is looked for once
            end = _LEASE_END.search(text, match.end())
        line += text.count("\n", counted_to, match.start(1))
        counted_to = match.start(1)
        if end is None:
            reading.trouble(f"line {line}", "the file ends in the middle of a lease", match[1])
            return
        body = text[match.end() : min(end.start(), match.end() + _LONGEST_LEASE)]
        another = _LEASE.search(body)  # within one that is not closed
        yield line, match[1], body[: another.start()] if another else body


def _statements(body: str) -> Iterator[tuple[str, str]]:
    for statement in _parted(body):
        words = " ".join(statement.split())
        for key in ("hardware ethernet", "client-hostname", "uid", "starts", "cltt", "set vendor-class-identifier"):
            if words.startswith(key + " "):
                yield key, words[len(key) :].lstrip(" =")


def _parted(body: str) -> Iterator[str]:
    """Yield the statements, each up to its ; or brace outside of quotes. Reads the text once, even with open quotes."""
    begin, quoted, escaped = 0, False, False
    for at, each in enumerate(body):
        if escaped:
            escaped = False
        elif quoted:
            quoted, escaped = each != '"', each == "\\"
        elif each == '"':
            quoted = True
        elif each in ";{}":
            yield body[begin:at]
            begin = at + 1


def _isc_moment(text: str) -> datetime | None:
    """Read ``1 2026/09/14 08:10:00`` in UTC, or ``epoch 1789373400``."""
    with suppress(ValueError, OverflowError, IndexError):
        if text.startswith("epoch"):
            return _moment(int(text.split()[1].rstrip(";")))
        return datetime.strptime(text.partition(" ")[2], "%Y/%m/%d %H:%M:%S").replace(tzinfo=UTC)
    return None


def _moment(seconds: int) -> datetime | None:
    try:
        return datetime.fromtimestamp(seconds, UTC) if seconds > 0 else None
    except (ValueError, OverflowError, OSError):
        return None


def _mac(text: str) -> MacAddress | None:
    """Read a MAC address as lease files write it, perhaps after the number of its kind; None if empty. Raises
    ValueError.
    """
    if not text:
        return None
    plain = re.sub(r"^[0-9a-f]{2}-(?=(?:[0-9a-f]{2}:){5})", "", text.casefold())
    try:
        return MacAddress.parse(plain)
    except InvalidMacAddress:
        if text.isdecimal():  # an IPv6 lease has a number in this place
            return None
        raise


def _name(text: str) -> Trait | None:
    return host_name(text, Source.LEASES) if text else None


def _client(text: str) -> Trait | None:
    digits = text.replace(":", "").casefold()
    return Trait(TraitKind.CLIENT_ID, digits[:200], Source.LEASES) if re.fullmatch(r"[0-9a-f]{4,}", digits) else None


def _unquoted(text: str) -> str:
    return text[1:-1] if len(text) >= 2 and text[0] == text[-1] == '"' else text


def _octal(text: str) -> bytes:
    r"""Return a string with octal escapes, ``\001|\244``, as bytes."""
    if re.fullmatch(r"(?:[0-9a-f]{1,2}:)+[0-9a-f]{1,2}", text):
        return bytes(int(part, 16) for part in text.split(":"))
    plain = re.sub(r"\\([0-7]{3})", lambda match: chr(int(match[1], 8) & 0xFF), text)
    return plain.replace('\\"', '"').encode("latin-1", "replace")
