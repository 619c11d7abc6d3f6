"""Groups the lines of a text into records: which lines, above and below its MAC address, belong to one client.

Several groupings are tried - a line a record, a fixed number of lines above the address, records that begin or end
with a line that repeats - and judged by what comes out: one address and one name for each client, the same order of
fields in all of them, nothing left between them.
"""

from __future__ import annotations

import itertools
from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from ipaddress import IPv4Network

from scopion.discovery.client_lists.headings import Section
from scopion.discovery.client_lists.pieces import Cell, Contents, Record, anchors_in, contents_of, labelled
from scopion.discovery.client_lists.split_lines import Line, Splitter
from scopion.discovery.client_lists.words import Field, Kind, heading_field, kind_of
from scopion.model.mac import MacAddress

_MOST_LEAD = 9  # lines of one client above its MAC address
_MOST_TAIL = 14  # and below it
_JUDGED = 30  # records that are compared; the rest are like them
_MASK = 255 << 24


@dataclass(frozen=True, slots=True)
class Grouping:
    """The lines of each record: from the first to before the last, in the section's dense lines."""

    windows: tuple[tuple[int, int, int], ...]  # begin, the line of the MAC address, end


@dataclass(frozen=True, slots=True)
class _Dense:
    """The lines of a section that are not blank."""

    lines: tuple[Line, ...]
    gaps: frozenset[int]  # the lines before which there are blank ones
    anchors: tuple[int, ...]  # the lines that have a MAC address

    @classmethod
    def of(cls, section: Section, *, perhaps: bool) -> _Dense:
        lines: list[Line] = []
        gaps, blank = set(), False
        for line in section.lines:
            if not line[1].strip():
                blank = True
                continue
            if blank and lines:
                gaps.add(len(lines))
            blank = False
            lines.append(line)
        anchors = [at for at, (_, text) in enumerate(lines) if _has_mac(text, perhaps=perhaps)]
        return cls(tuple(lines), frozenset(gaps), tuple(anchors))


def records_of(section: Section, splitter: Splitter, subnets: Sequence[IPv4Network], *, perhaps: bool) -> list[Record]:
    """Return the records of a section, in the grouping that fits best."""
    dense = _Dense.of(section, perhaps=perhaps)
    if not dense.anchors:
        return []

    def fit(grouping: Grouping) -> float:
        judged = Grouping(grouping.windows[:_JUDGED])
        records = [_record(section, dense, splitter, window) for window in judged.windows]
        contents = [contents_of(each, perhaps=perhaps) for each in records]
        return _score(contents, dense, judged, subnets, perhaps=perhaps)

    best = max(_groupings(dense, perhaps=perhaps), key=fit)
    labels = _stacked_labels(dense, best)
    records = [_record(section, dense, splitter, window) for window in best.windows]
    return [_with_labels(each, labels) for each in records] if labels else records


def _groupings(dense: _Dense, *, perhaps: bool) -> Iterator[Grouping]:
    anchors = dense.anchors
    yield Grouping(tuple((at, at, at + 1) for at in anchors))
    first = anchors[0]
    nearest = min((b - a for a, b in itertools.pairwise(anchors)), default=_MOST_LEAD + 1)
    for lead in range(min(_MOST_LEAD, max(nearest - 1, 0), first if len(anchors) == 1 else _MOST_LEAD) + 1):
        yield _from_begins(dense, [max(0, at - lead) for at in anchors])
    yield _from_begins(dense, _after_gaps(dense))
    places_of: dict[str, list[int]] = {}
    for at, (_, text) in enumerate(dense.lines):
        places_of.setdefault(_signature(text, perhaps=perhaps), []).append(at)
    for kind in _markers(dense, perhaps=perhaps):
        places = places_of[kind]
        for shift in (0, 1):
            begins = []
            before = -1
            for anchor in anchors:
                last = bisect_right(places, anchor - shift)
                place = places[last - 1] + shift if last else -1
                begins.append(place if before < place <= anchor else anchor)
                before = anchor
            yield _from_begins(dense, begins)


def _after_gaps(dense: _Dense) -> list[int]:
    """Return begins at the first blank line between two MAC addresses, else at the address."""
    begins, before, gaps = [], -1, sorted(dense.gaps)
    for anchor in dense.anchors:
        after = bisect_right(gaps, before)
        found = after < len(gaps) and gaps[after] <= anchor
        begins.append(gaps[after] if found else (0 if before < 0 else anchor))
        before = anchor
    return begins


def _from_begins(dense: _Dense, begins: Sequence[int]) -> Grouping:
    """Return the grouping whose records begin there and end where the next begins, or as most of them end."""
    anchors = dense.anchors
    ends = [*begins[1:], len(dense.lines)]
    tails = Counter(end - at - 1 for end, at in zip(ends[:-1], anchors[:-1], strict=True))
    leads = Counter(at - begin for begin, at in zip(begins, anchors, strict=True))
    usual_tail, often = tails.most_common(1)[0] if tails else (0, 1)
    usual_lead = leads.most_common(1)[0][0]
    longest = usual_tail if often * 2 > len(anchors) - 1 else max(tails, default=0)
    windows = []
    for number, (begin, at, end) in enumerate(zip(begins, anchors, ends, strict=True)):
        if number == 0 and len(anchors) > 1:
            begin = max(begin, at - usual_lead)
        if number == len(anchors) - 1:
            gap = min((each for each in dense.gaps if each > at), default=end)
            end = min(end, at + 1 + longest if len(anchors) > 1 else max(gap, at + 1))
        end = min(end, at + 1 + (longest if often * 2 > len(anchors) - 1 else _MOST_TAIL))
        windows.append((begin, at, max(end, at + 1)))
    return Grouping(tuple(windows))


def _markers(dense: _Dense, *, perhaps: bool) -> list[str]:
    """Return the signatures of lines that stand exactly once between each two MAC addresses."""
    pairs = list(zip(dense.anchors, dense.anchors[1:], strict=False))[:_JUDGED]
    common: set[str] | None = None
    for begin, end in pairs:
        counts = Counter(_signature(dense.lines[at][1], perhaps=perhaps) for at in range(begin + 1, end))
        once = {kind for kind, count in counts.items() if count == 1 and kind}
        common = once if common is None else common & once
    return sorted(common or ())


def _signature(text: str, *, perhaps: bool) -> str:
    """Return what lines of one sort have in common: a label, or the kind of what they say; empty for words."""
    label = labelled(text)[-1][0]
    if label:
        return f"label {label.casefold()}"
    if any(anchors_in(text, perhaps=perhaps)):
        return "address"
    kind = kind_of(text.strip())
    if kind is not Kind.WORD:
        return f"{kind} {text.strip().casefold()}" if kind is Kind.FILLER else str(kind)
    return "" if any(letter.isdigit() for letter in text) else f"text {text.strip().casefold()}"


def _record(section: Section, dense: _Dense, splitter: Splitter, window: tuple[int, int, int]) -> Record:
    begin, anchor, end = window
    cells = []
    for at in range(begin, end):
        is_split = at == anchor or (splitter.columns and not splitter.positions)
        split = splitter.split(dense.lines[at][1]) if is_split else (dense.lines[at][1].strip(),)
        headings = section.headings if at == anchor or len(split) == len(section.headings) else ()
        for column, text in enumerate(split):
            label = headings[column] if column < len(headings) else ""
            cells.append(Cell(text, at - anchor, column, label))
    number = dense.lines[anchor][0]
    return Record(number, tuple(cells), section.titles_above(number))


def _score(
    contents: Sequence[Contents], dense: _Dense, grouping: Grouping, subnets: Sequence[IPv4Network], *, perhaps: bool
) -> float:
    """Return how well a grouping fits: the more clients have one address, a word and the same fields, the better."""
    total = len(contents)
    often = Counter(each.value for one in contents for each in {each.value: each for each in one.addresses}.values())
    shapes: Counter[tuple[tuple[int, str], ...]] = Counter()
    score = 0.0
    for one, (begin, _, end) in zip(contents, grouping.windows, strict=True):
        fit = {
            each.value
            for each in one.addresses
            if each.value.version == 4 and int(each.value) & _MASK != _MASK
            and (often[each.value] * 2 <= total or total < 3)
            and (not subnets or any(each.value in subnet for subnet in subnets))
        }  # fmt: skip
        score += 2.0 if len(fit) == 1 else -2.0 * max(0, len(fit) - 1)
        words = [piece for piece in one.pieces if piece.kind is Kind.WORD]
        score += 1.0 if words else 0.0
        score += 0.3 if one.pieces and one.pieces[0].kind in (Kind.WORD, Kind.NONE, Kind.HERE, Kind.AWAY) else 0.0
        labels = Counter((piece.label, piece.place[0]) for piece in one.pieces if piece.label)
        repeated = Counter(label for label, _ in labels)
        score -= sum(count - 1 for count in repeated.values())
        score -= 2.0 * (len({each.value for each in one.macs}) - 1)
        score -= 0.5 * sum(begin < gap < end for gap in dense.gaps) + 0.02 * (end - begin)
        shapes[tuple(dict.fromkeys((row, _sort(one, row)) for row in sorted({p.place[0] for p in one.pieces})))] += 1
    score += shapes.most_common(1)[0][1] if shapes else 0
    return score - _left_over(dense, grouping, subnets, perhaps=perhaps)


def _sort(contents: Contents, row: int) -> str:
    kinds = [piece.label or str(piece.kind) for piece in contents.pieces if piece.place[0] == row]
    return kinds[0] if kinds else ""


def _left_over(dense: _Dense, grouping: Grouping, subnets: Sequence[IPv4Network], *, perhaps: bool) -> float:
    """Return what lines of no record have that seems to belong to one: addresses, and words between two records."""
    last = grouping.windows[-1][2]
    within = {at for begin, _, end in grouping.windows for at in range(begin, end)}
    left = 0.0
    for at in range(min(last + 2, len(dense.lines))):
        if at in within:
            continue
        text = dense.lines[at][1]
        addresses = [each for _, _, each in anchors_in(text, perhaps=perhaps) if not isinstance(each, MacAddress)]
        left += 2.0 * any(not subnets or any(each in subnet for subnet in subnets) for each in addresses)
        if grouping.windows[0][0] < at < last:
            left += 0.4
        elif at >= last and not any(last <= gap <= at for gap in dense.gaps):
            left += 0.3
    return left


def _stacked_labels(dense: _Dense, grouping: Grouping) -> dict[int, str]:
    """Return the headings of a list with one cell a line, by the line relative to the MAC address; empty without."""
    begin, anchor, end = grouping.windows[0]
    size = end - begin
    if size < 2 or begin < size or any(each[2] - each[0] != size for each in grouping.windows):
        return {}
    texts = [dense.lines[at][1].strip() for at in range(begin - size, begin)]
    fields = [heading_field(text) for text in texts]
    if sum(field is not None for field in fields) * 2 < size or Field.MAC not in fields:
        return {}
    return {at - (anchor - begin): text for at, text in enumerate(texts)}


def _with_labels(record: Record, labels: dict[int, str]) -> Record:
    cells = tuple(replace(cell, label=labels.get(cell.row, "")) for cell in record.cells)
    return replace(record, cells=cells)


def _has_mac(text: str, *, perhaps: bool) -> bool:
    return any(isinstance(each, MacAddress) for _, _, each in anchors_in(text, perhaps=perhaps))
