"""Devices as a sheet: CSV (RFC 4180) that opens well in a spreadsheet and comes back without loss.

A cell that a spreadsheet would execute is made text by an apostrophe, and one that begins with an apostrophe gets
another, so that reading removes exactly what writing added. Columns may be in any order, and columns that are not
needed may be missing; an unknown column is a mistake, because its content would be lost.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from scopion.model.device import Standing
from scopion.model.observation import Medium
from scopion.model.text import FORMULA_SIGNS, clean, plain
from scopion.roster.exchange import fields
from scopion.roster.exchange.record import MAX_RECORDS, AdapterRecord, DeviceRecord, RecordProblem, Records, duplicates

TEXTS = ("label", "owner", "place", "note", "because")
# Columns that people fill in come first; columns that are only read come last.
COLUMNS = (
    "standing", "label", "owner", "place", "note", "guest_until", "because", "essential", "macs", "addresses", "names",
    "media", "first_seen", "last_seen", "standing_since", "present", "revision", "vendor", "kind",
)  # fmt: skip
# A column more for a site that has several places: in which of them an address is.
PLACES = "places"
_GUARDED = (*FORMULA_SIGNS, "'")
_SEPARATORS = (",", ";", "\t")
_PROBLEMS_TOLD = 20


def write_sheet(records: Iterable[tuple[DeviceRecord, Mapping[str, str]]], columns: Sequence[str] = COLUMNS) -> str:
    """Return records as CSV, with what is looked up for each: vendor, kind."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\r\n")
    listed = list(records)
    if columns == COLUMNS and any(record.places for record, _ in listed):
        columns = (*COLUMNS, PLACES)
    writer.writerow(columns)
    for record, more in listed:
        cells = {**_cells(record), **more}
        writer.writerow([guarded(cells.get(column, "")) for column in columns])
    return text.getvalue()


def is_sheet(first_line: str) -> bool:
    """Tell whether a text with this first line is such a sheet."""
    columns = {cell.strip().strip('"').casefold() for cell in first_line.lstrip("\ufeff").split(_separator(first_line))}
    return "macs" in columns and bool(columns & {"standing", "label"})


def read_sheet(text: str) -> Records:
    """Read what ``write_sheet`` wrote, as a spreadsheet has saved it: with commas, semicolons or tabs."""
    plain = text.lstrip("\ufeff")
    separator = _separator(plain.split("\n", 1)[0])
    reader = csv.reader(io.StringIO(plain, newline=""), delimiter=separator, strict=True)
    records: list[DeviceRecord] = []
    problems: list[RecordProblem] = []
    header: list[str] = []
    try:
        for cells in reader:
            line = reader.line_num
            if not header:
                header, wrong = _header(cells)
                if wrong:
                    return Records((), (RecordProblem(line, wrong),))
            elif any(cell.strip() for cell in cells):
                read = _row(header, cells, line)
                if isinstance(read, RecordProblem):
                    problems.append(read)
                else:
                    records.append(read)
            if len(problems) >= _PROBLEMS_TOLD or len(records) > MAX_RECORDS:
                break
    except csv.Error as error:
        problems.append(RecordProblem(reader.line_num, f"it ends in the middle of a cell, or is not CSV ({error})"))
    return Records(tuple(records), (*problems, *duplicates(records)))


def guarded(text: str) -> str:
    """Return a cell that no spreadsheet executes."""
    text = plain(text)
    return f"'{text}" if text.startswith(_GUARDED) else text


def _unguarded(text: str) -> str:
    return text[1:] if text.startswith("'") and text[1:].startswith(_GUARDED) else text


def _separator(line: str) -> str:
    return max(_SEPARATORS, key=line.count)


def _header(cells: Sequence[str]) -> tuple[list[str], str]:
    columns = [cell.strip().casefold() for cell in cells]
    unknown = [column for column in columns if column and column not in (*COLUMNS, PLACES)]
    if unknown:
        return columns, f"there is no column {', '.join(map(repr, unknown))}: columns are {', '.join(COLUMNS)}"
    twice = [column for column in columns if column and columns.count(column) > 1]
    if twice:
        return columns, f"the column {twice[0]!r} is there twice"
    if "macs" not in columns:
        return columns, "the column 'macs' is missing: it says which device a line is about"
    return columns, ""


def _row(header: Sequence[str], cells: Sequence[str], line: int) -> DeviceRecord | RecordProblem:
    if len(cells) != len(header):
        return RecordProblem(line, f"{len(cells)} cells where the heading has {len(header)}: half a line?")
    row = {name: _unguarded(clean(cell, len(cell))) for name, cell in zip(header, cells, strict=True) if name}
    values: dict[str, Any] = {}
    for name, read in _READERS.items():
        if row.get(name):
            try:
                values[name] = read(row[name])
            except ValueError as error:
                return RecordProblem(line, f"{name}: {error}")
    standing, until = values.get("standing"), values.get("guest_until")
    if until is not None and standing not in (Standing.GUEST, None):
        return RecordProblem(line, f"guest_until goes with guest, and standing is {standing}")
    try:
        return _record(row, values, line)
    except ValueError as error:
        return RecordProblem(line, str(error))


def _record(row: Mapping[str, str], values: Mapping[str, Any], line: int) -> DeviceRecord:
    macs = values.get("macs", ())
    groups = values.get("addresses", ())
    if not macs and not groups:
        raise ValueError("neither a MAC address nor an IP address: which device is it?")
    adapters = []
    for number, mac in enumerate(macs):
        adapter = AdapterRecord(mac, addresses=groups[number] if number < len(groups) else ())
        for name, key in (("media", "medium"), ("first_seen", "first_seen"), ("last_seen", "last_seen")):
            several = values.get(name, ())
            if several and len(several) != len(macs):
                raise ValueError(f"{name}: {len(several)} given for {len(macs)} adapters")
            adapter = replace(adapter, **{key: several[number]}) if several else adapter
        adapters.append(adapter)
    if macs and len(groups) > len(macs):
        raise ValueError(f"addresses of {len(groups)} adapters are given, macs has {len(macs)}")
    texts: dict[str, Any] = {name: row[name] for name in TEXTS if name in row}
    return DeviceRecord(
        adapters=tuple(adapters),
        unpaired=groups[0] if groups and not macs else (),
        standing=values.get("standing"),
        guest_until=values.get("guest_until"),
        standing_since=values.get("standing_since"),
        names=values.get("names", ()),
        places=values.get(PLACES, {}),
        essential=values.get("essential"),
        present=values.get("present"),
        revision=values.get("revision"),
        line=line,
        **texts,
    )


def _cells(record: DeviceRecord) -> dict[str, str]:
    adapters = record.adapters
    groups = tuple(adapter.addresses for adapter in adapters) or (record.unpaired,)
    return {
        "standing": str(record.standing or ""),
        **{name: getattr(record, name) or "" for name in TEXTS},
        "guest_until": record.guest_until.isoformat() if record.guest_until else "",
        "macs": " ".join(map(str, record.macs)),
        "addresses": fields.written_groups(groups),
        "names": fields.written_names(record.names),
        PLACES: fields.written_places(record.places),
        "media": " ".join(str(adapter.medium or Medium.UNKNOWN) for adapter in adapters),
        "first_seen": fields.written_moments([adapter.first_seen for adapter in adapters]),
        "last_seen": fields.written_moments([adapter.last_seen for adapter in adapters]),
        "standing_since": fields.iso(record.standing_since) if record.standing_since else "",
        "essential": "yes" if record.essential else "no",
        "present": "" if record.present is None else "yes" if record.present else "no",
        "revision": "" if record.revision is None else str(record.revision),
    }


def _yes(text: str) -> bool:
    if text.casefold() not in ("yes", "no"):
        raise ValueError(f"{text!r} is neither yes nor no")
    return text.casefold() == "yes"


def _number(text: str) -> int:
    if not text.isdecimal() or len(text) > 9:
        raise ValueError(f"{text!r} is not a number")
    return int(text)


_READERS: Mapping[str, Callable[[str], Any]] = {
    "standing": fields.standing,
    "guest_until": fields.day,
    "macs": fields.macs,
    "addresses": fields.address_groups,
    "names": fields.names,
    PLACES: fields.places,
    "media": fields.media,
    "first_seen": fields.moments,
    "last_seen": fields.moments,
    "standing_since": fields.moment,
    "essential": _yes,
    "present": _yes,
    "revision": _number,
}
