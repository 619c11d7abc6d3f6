"""Splits lines into cells: by the sign that separates them, by blanks, or by the positions of fixed columns.

The sign is the one that leaves the MAC address alone in its cell on most lines; no layout is known here.
"""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass

from scopion.discovery.client_lists.pieces import anchors_in, labelled
from scopion.discovery.client_lists.words import Kind, heading_field, kind_of

Line = tuple[int, str]  # its number, from 1, and its text
Cells = tuple[str, ...]
_USUAL_SIGNS = ("\t", ";", "|", ",")  # the first of equals is taken
_OTHER_SIGNS = "~^#!*<>&@/\\+$%"
_BLANKS = re.compile(r"\s{2,}|\t")
_BOX = str.maketrans({"│": "|", "┃": "|", "║": "|", "｜": "|"})
_RULE = re.compile(r"[\s\-=_+|:*#~·.┌┐└┘├┤┬┴┼─━═╔╗╚╝╠╣╦╩╬]+")
MOST_CELLS = 64
_LONGEST_LINE = 2_000  # letters; a row of a page has a few hundred
_STATES = frozenset({Kind.AWAY, Kind.HERE, Kind.RESERVED, Kind.WIRELESS, Kind.CABLE, Kind.NONE})
_LOOKED_AT = 60  # lines that tell how all are separated


@dataclass(frozen=True, slots=True)
class Splitter:
    """How lines are split into cells."""

    form: str  # in words, for the person who pasted it
    split: Callable[[str], Cells]
    columns: bool = True  # cells of one number belong together
    positions: bool = False  # by positions on the line: only lines with a MAC address are laid out so


def clean_lines(text: str) -> list[Line]:
    """Return the lines of a text; lines that only draw a box are blank."""
    found = []
    for number, line in enumerate(text.translate(_BOX).splitlines(), 1):
        found.append((number, "" if _RULE.fullmatch(line) else line[:_LONGEST_LINE].rstrip()))
    return found


def choose_splitter(lines: Sequence[Line], *, perhaps: bool) -> Splitter:
    """Return how the lines that have a MAC address are split best."""
    sample = [line for _, line in lines][:_LOOKED_AT]
    candidates = [_by_sign(sign) for sign in (*_USUAL_SIGNS, *_OTHER_SIGNS) if any(sign in line for line in sample)]
    fixed = _fixed_columns(sample, perhaps=perhaps)
    candidates += [fixed] if fixed is not None else []
    candidates.append(Splitter("in columns", _by_blanks))
    best, alone = Splitter("lines of text", lambda line: (line.strip(),), columns=False), 0
    for each in candidates:
        found = sum(_mac_alone(each.split(line), perhaps=perhaps) for line in sample)
        if found > alone and found * 2 > len(sample):
            best, alone = each, found
    return best


def _by_sign(sign: str) -> Splitter:
    form = {"\t": "tab-separated", "|": "with bars", ",": "CSV", ";": "CSV"}.get(sign, f"separated by {sign}")

    def split(line: str) -> Cells:
        stripped = line.strip(" ") if sign == "\t" else line.strip()
        if sign == "|":
            stripped = stripped.removeprefix("|").removesuffix("|")
        with suppress(csv.Error):
            for row in csv.reader([stripped], delimiter=sign, skipinitialspace=True):
                return tuple(cell.strip() for cell in row[:MOST_CELLS])
        return tuple(cell.strip() for cell in stripped.split(sign)[:MOST_CELLS])

    return Splitter(form, split)


def _by_blanks(line: str) -> Cells:
    return tuple(_BLANKS.split(line.strip())[:MOST_CELLS])


def _mac_alone(cells: Cells, *, perhaps: bool) -> bool:
    """Tell whether a line's MAC address has a cell of its own, and there are other cells."""
    if len([cell for cell in cells if cell and not (cell.endswith((":", "=")) or heading_field(cell))]) < 2:
        return False
    for cell in cells:
        text = labelled(cell)[-1][1].strip(" \"'()[]{},;=")
        for begin, end, found in anchors_in(text, perhaps=perhaps):
            if not hasattr(found, "version"):
                return begin == 0 and end == len(text)
    return False


def _fixed_columns(lines: Sequence[str], *, perhaps: bool) -> Splitter | None:
    """Return the columns that begin at the same position on every line, if the MAC addresses do; else None.

    Names may have blanks, and cells may be empty: a boundary is where all lines are blank.
    """
    starts: Counter[tuple[int, int]] = Counter()
    spans = []
    for line in lines:
        found = [(begin, end) for begin, end, each in anchors_in(line, perhaps=perhaps) if not hasattr(each, "version")]
        spans += found[:1]
        starts.update(found[:1])
    if len(lines) < 2 or not starts or starts.most_common(1)[0][1] < len(lines):
        return None
    width = max(map(len, lines))
    blank = [all(at >= len(line) or line[at] == " " for line in lines) for at in range(width)]
    edges, at = [0], 0
    while at < width:
        end = at
        while end < width and blank[end]:
            end += 1
        beside_anchor = any(end == begin or at == stop for begin, stop in starts) or any(
            end < len(line) and line[end].isdigit() and re.match(r"\d{1,3}\.\d{1,3}\.", line[end:]) for line in lines
        )
        known = end > at and all(kind_of(line[edges[-1] : at].strip()) in _STATES for line in lines)
        if end - at >= 2 or (end > at and (beside_anchor or known)):
            edges.append(end)
        at = max(end, at + 1)
    bounds = list(dict.fromkeys(edges))[:MOST_CELLS]
    if len(bounds) < 2:
        return None

    def split(line: str) -> Cells:
        return tuple(line[begin:end].strip() for begin, end in zip(bounds, [*bounds[1:], None], strict=True))

    return Splitter("in fixed columns", split, positions=True)
