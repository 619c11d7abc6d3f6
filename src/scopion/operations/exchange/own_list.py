"""A list that a person keeps: MAC addresses with words, in a table, a text or a mail; told from a router's list.

People's words are labels, owners, places and notes. They are no evidence for what a device is, and they make no device
present.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from itertools import zip_longest

from scopion.discovery.client_lists.clients import Presence, medium_of_heading
from scopion.discovery.client_lists.headings import Section, sections_of
from scopion.discovery.client_lists.pieces import anchors_in, bare
from scopion.discovery.client_lists.read import looks_like_markup, read_client_list
from scopion.discovery.client_lists.split_lines import Line, choose_splitter, clean_lines
from scopion.discovery.client_lists.words import own_heading
from scopion.discovery.records.reading import RecordContext
from scopion.model.errors import UsageError
from scopion.model.mac import MacAddress, mac_spans, without_macs
from scopion.model.observation import Medium
from scopion.model.text import clean
from scopion.roster.exchange.record import AdapterRecord, DeviceRecord, RecordProblem, Records

_QUOTED = re.compile(r"^(?:\s{0,3}>){1,5}\s?")
_SAMPLES = 3
# Owners repeat: with this many rows a column of half as many different words names them.
_FEW_ROWS = 4


class ColumnUse(StrEnum):
    """What a column of a person's list is taken for."""

    LABEL = "label"
    OWNER = "owner"
    PLACE = "place"
    NOTE = "note"
    KIND = "kind"
    MAC = "mac"
    NOTHING = "-"


@dataclass(frozen=True, slots=True)
class OwnColumn:
    """One column, what it is taken for, and its first texts."""

    heading: str
    use: ColumnUse
    samples: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class _OwnRow:
    line: int
    macs: tuple[tuple[int, MacAddress], ...]  # with the column that each stands in
    cells: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class OwnList:
    """A person's list, taken apart, with a proposal for its columns."""

    rows: tuple[_OwnRow, ...]
    columns: tuple[OwnColumn, ...]
    unread: tuple[RecordProblem, ...]  # lines that hold a MAC address and are not understood

    def with_columns(self, wanted: Sequence[str]) -> OwnList:
        """Return the list with its columns taken for these, in their order. Raises UsageError."""
        uses = [each.strip().casefold() for each in wanted]
        known = [str(each) for each in ColumnUse]
        wrong = next((each for each in uses if each not in known), None)
        if wrong is not None:
            raise UsageError(f"{wrong!r} is nothing that a column can be: write {', '.join(known)} with commas between")
        if len(uses) != len(self.columns):
            raise UsageError(f"the list has {len(self.columns)} columns, {len(uses)} are named: name each, - for none")
        twice = next((each for each in uses if each in ("label", "kind") and uses.count(each) > 1), None)
        if twice:
            raise UsageError(f"two columns cannot both be the {twice}: take - or note for one of them")
        columns = tuple(replace(each, use=ColumnUse(use)) for each, use in zip(self.columns, uses, strict=True))
        return replace(self, columns=columns)


def is_own_list(text: str, context: RecordContext) -> bool:
    """Tell whether a text is a person's list: MAC addresses with words, without what only a router knows."""
    if looks_like_markup(text):
        return False
    perhaps = _perhaps(text)
    lines = _lines(text)
    own = {own_heading_use(each) for section in sections_of(lines, perhaps=perhaps) for each in _headings(section)}
    says_whose = bool(own & {ColumnUse.OWNER, ColumnUse.PLACE, ColumnUse.NOTE})
    anchors = [each for _, line in lines for _, _, each in anchors_in(line, perhaps=perhaps)]
    macs = sum(isinstance(each, MacAddress) for each in anchors)
    if (len(anchors) - macs) * 2 >= macs and not says_whose:  # each has its address: a router's, as most lists are
        return False
    reading = read_client_list(text, context)
    clients = list(reading.clients.values())
    if not clients:
        return False
    of_router = sum(
        each.presence in (Presence.HERE, Presence.AWAY)
        or each.signal is not None
        or each.medium is not Medium.UNKNOWN
        or bool(each.rate or each.lease)
        for each in clients
    )
    if of_router * 3 > len(clients):
        return False
    return says_whose or any(any(row.cells) for row in read_own_list(text).rows)


def read_own_list(text: str) -> OwnList:
    """Take a person's list apart, and propose what its columns are."""
    perhaps = _perhaps(text)
    rows: list[_OwnRow] = []
    headings: tuple[str, ...] = ()
    unread: list[RecordProblem] = []
    for section in sections_of(_lines(text), perhaps=perhaps):
        with_mac = [line for line in section.lines if any(mac_spans(line[1], perhaps=perhaps))]
        if not with_mac:
            continue
        splitter = choose_splitter(with_mac, perhaps=perhaps)
        if section.heading and splitter.columns and not headings:
            headings = splitter.split(section.heading)
        for number, line in with_mac:
            cells = splitter.split(line) if splitter.columns else _around(line, perhaps=perhaps)
            rows.append(_row(number, cells, perhaps=perhaps))
    width = max((len(row.cells) for row in rows), default=0)
    rows = [replace(row, cells=(*row.cells, *[""] * (width - len(row.cells)))) for row in rows]
    kept = [row for row in rows if not any(mac.is_multicast or not mac.number for _, mac in row.macs)]
    unread += [RecordProblem(row.line, "no MAC address of a device") for row in rows if row not in kept]
    return OwnList(tuple(kept), _proposed(kept, headings, width), tuple(unread))


def own_records(listed: OwnList) -> Records:
    """Return what the list says of each device, by what its columns are taken for."""
    by_first: dict[MacAddress, DeviceRecord] = {}
    problems: list[RecordProblem] = []
    for row in listed.rows:
        texts: dict[ColumnUse, list[str]] = {}
        for column, cell in zip(listed.columns, row.cells, strict=True):
            if cell:
                texts.setdefault(column.use, []).append(cell)
        if not any(each.heading for each in listed.columns) and ColumnUse.LABEL not in texts:
            # A text without columns: what stands beside the MAC address is the name, before or after it.
            texts[ColumnUse.LABEL] = texts.pop(ColumnUse.NOTE, [])[:1]
        macs = tuple(AdapterRecord(mac, medium_of_heading(listed.columns[at].heading)) for at, mac in row.macs)
        record = DeviceRecord(
            adapters=macs,
            label=_one(texts, ColumnUse.LABEL, " "),
            owner=_one(texts, ColumnUse.OWNER, ", "),
            place=_one(texts, ColumnUse.PLACE, ", "),
            note=_one(texts, ColumnUse.NOTE, "; "),
            kind=_one(texts, ColumnUse.KIND, " "),
            line=row.line,
        )
        twice = next((each for each in record.macs if each in by_first), None)
        if twice is None:
            by_first.update(dict.fromkeys(record.macs, record))
        elif by_first[twice] != record:
            first = by_first[twice].line
            problems.append(RecordProblem(row.line, f"{twice} stands in line {first} already, with other words"))
    return Records(tuple(dict.fromkeys(by_first.values())), tuple(problems), listed.unread)


def own_heading_use(heading: str) -> ColumnUse | None:
    """Return what a heading of a person's list says of its column; None if it says nothing."""
    use = own_heading(heading)
    return ColumnUse(use) if use else None


def _lines(text: str) -> list[Line]:
    """Return the lines, without the marks of a quoted mail."""
    return clean_lines("\n".join(_QUOTED.sub("", line) for line in text.splitlines()))


def _perhaps(text: str) -> bool:
    return not any(mac_spans(text))


def _headings(section: Section) -> list[str]:
    return re.split(r"[\t;|,]", section.heading) if section.heading else []


def _around(line: str, *, perhaps: bool) -> tuple[str, ...]:
    """Return the words before and after the MAC addresses of a line, with them as a cell between."""
    spans = list(mac_spans(line, perhaps=perhaps))
    return line[: spans[0][0]], line[spans[0][0] : spans[-1][1]], line[spans[-1][1] :]


def _row(number: int, cells: Sequence[str], *, perhaps: bool) -> _OwnRow:
    macs: list[tuple[int, MacAddress]] = []
    texts = []
    for at, cell in enumerate(cells):
        spans = list(mac_spans(cell, perhaps=perhaps))
        macs += [(at, mac) for _, _, mac in spans]
        rest = without_macs(cell, spans) if spans else cell
        if any(anchors_in(rest, perhaps=False)) and not re.search(r"[^\W\d_]{2}", rest):
            rest = ""  # an IP address alone
        texts.append(bare(clean(rest)))
    return _OwnRow(number, tuple(dict.fromkeys(macs)), tuple(texts))


def _proposed(rows: Sequence[_OwnRow], headings: Sequence[str], width: int) -> tuple[OwnColumn, ...]:
    """Propose what each column is: by its heading; else by its words, of which those that differ are labels."""
    texts = [[row.cells[at] for row in rows if row.cells[at]] for at in range(width)]
    with_mac = Counter(at for row in rows for at, _ in row.macs)
    uses: list[ColumnUse | None] = []
    for at, (heading, _) in enumerate(zip_longest(headings[:width], range(width), fillvalue="")):
        use = own_heading_use(str(heading)) if heading else None
        use = ColumnUse.MAC if with_mac[at] and not texts[at] else use
        uses.append(ColumnUse.NOTHING if use is None and not texts[at] else use)
    open_ = [at for at in range(width) if uses[at] is None]
    if ColumnUse.LABEL not in uses and open_:
        best = max(open_, key=lambda at: (len(set(texts[at])), len(texts[at]), -at))
        uses[best] = ColumnUse.LABEL
        open_.remove(best)
    for at in open_:
        repeats = len(rows) >= _FEW_ROWS and len(set(texts[at])) * 2 <= len(texts[at])
        free = ColumnUse.OWNER not in uses and repeats
        numbers = all(text.isdecimal() for text in texts[at])
        uses[at] = ColumnUse.NOTHING if numbers else ColumnUse.OWNER if free else ColumnUse.NOTE
    return tuple(
        OwnColumn(headings[at] if at < len(headings) else "", use or ColumnUse.NOTHING, tuple(texts[at][:_SAMPLES]))
        for at, use in enumerate(uses)
    )


def _one(texts: dict[ColumnUse, list[str]], use: ColumnUse, between: str) -> str | None:
    return between.join(texts[use]) if texts.get(use) else None
