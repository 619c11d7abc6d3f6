"""Takes a record's cells apart: MAC addresses, IP addresses, and pieces of text with what they are.

A cell may hold one field, several that were merged into one, or fields with their labels before a colon. The anchors
are what cannot be mistaken: MAC and IP addresses; the text around them is split by what its words say.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Generic, TypeVar

from scopion.discovery.client_lists.words import Field, Kind, begins_heading, heading_field, kind_of, kinds_in
from scopion.model.address import Address, is_of_a_host, parse_address
from scopion.model.mac import MacAddress, mac_spans
from scopion.model.text import clean

# Where a piece stands: the line relative to that of the MAC address, the cell, and its number within the cell.
Place = tuple[int, int, int]
Found = TypeVar("Found", MacAddress, Address)
_ADDRESS = re.compile(
    r"(?<![\w.:])(?:\d{1,3}(?:\.\d{1,3}){3}|[0-9A-Fa-f]{0,4}(?::[0-9A-Fa-f]{0,4}){2,7}(?:%\w{1,15})?)(?![\w:]|\.\d)(?:/\d{1,3}\b)?"
)
_LABEL_SIGN = re.compile(r"\s?[:=：](?!//)")
_BEFORE_LABEL = re.compile(r"[\t|;,•·{(\"]")
# In a cleaned text, which has single blanks.
_PARTS = re.compile(r" [-–—|•·/>] |[,;•·|()\[\]{}<>\"]")
_GAP = re.compile(r"\s{2,}|\t")
_ENUMERATED = re.compile(r"^(?:#?\d{1,4}[.)]|#\d{1,4})(?=\s|$)\s*")
_EDGES = " \t\r\n-–—*•·|,;:()[]{}<>\"'=/\\☐☑☒□■▢"
# Kinds that end a name when they follow it without any sign between: "label printer LAN 2 infinite".
_STRONG = frozenset(
    {
        Kind.AWAY,
        Kind.HERE,
        Kind.RESERVED,
        Kind.SIGNAL,
        Kind.RATE,
        Kind.WIRELESS,
        Kind.CABLE,
        Kind.BAND,
        Kind.FOREVER,
        Kind.TIME,
    }
)
_WORDS = re.compile(r"\S+")
_LABEL_WORDS = 4
# A line has a few anchors; of one that was made to fill our time the rest is not looked at.
_MOST_ANCHORS = 100
_LONGEST_LABEL = 60
_MOST_PEELED = 10  # words at each end of a text that are tried


@dataclass(frozen=True, slots=True)
class Cell:
    """One cell of a record, or one line of it."""

    text: str
    row: int = 0  # its line, relative to the line of the MAC address
    column: int = 0
    label: str = ""  # its column's heading, its key, or the class of its element


@dataclass(frozen=True, slots=True)
class Record:
    """The cells that belong to one client."""

    line: int  # the number of the line, from 1, on which its MAC address stands
    cells: tuple[Cell, ...]
    titles: tuple[str, ...] = ()  # the latest words above it that hold for a whole section: "Offline (3)"


@dataclass(frozen=True, slots=True)
class Piece:
    """A piece of text, and what it is."""

    place: Place
    text: str
    kind: Kind
    label: str = ""

    @property
    def field(self) -> Field | None:
        """Return the field that its label names."""
        return heading_field(self.label) if self.label else None


@dataclass(frozen=True, slots=True)
class Anchor(Generic[Found]):
    """A MAC or an IP address, and where it stands."""

    place: Place
    label: str
    value: Found


@dataclass(frozen=True, slots=True)
class Contents:
    """Everything in a record."""

    line: int
    macs: tuple[Anchor[MacAddress], ...]
    addresses: tuple[Anchor[Address], ...]
    pieces: tuple[Piece, ...]
    titles: tuple[str, ...]
    second: bool = False  # it is about another MAC address of a device that has a record


def contents_of(record: Record, *, perhaps: bool) -> Contents:
    """Take a record apart. ``perhaps``: MAC addresses may be written without separators."""
    macs: list[Anchor[MacAddress]] = []
    addresses: list[Anchor[Address]] = []
    pieces: list[Piece] = []
    for cell in record.cells:
        number, at, label = 0, 0, cell.label
        anchors = sorted(anchors_in(cell.text, perhaps=perhaps), key=lambda each: each[0])
        for begin, end, found in [*anchors, (len(cell.text), len(cell.text), None)]:
            text = cell.text[at:begin]
            for label, value in labelled(text, cell.label):
                for kind, piece in split_value(value, loose=bool(anchors)):
                    pieces.append(Piece((cell.row, cell.column, number), piece, kind, label))
                    number += 1
            place = (cell.row, cell.column, number)
            if isinstance(found, MacAddress):
                macs.append(Anchor(place, label, found))
            elif found is not None:
                addresses.append(Anchor(place, label, found))
            number, at = number + 1, end
    return Contents(record.line, tuple(macs), tuple(addresses), tuple(pieces), record.titles)


def anchors_in(text: str, *, perhaps: bool) -> Iterator[tuple[int, int, MacAddress | Address]]:
    """Yield where MAC and IP addresses of hosts stand in a text, and which; first all MAC addresses."""
    taken = list(mac_spans(text, perhaps=perhaps))
    yield from taken
    for begin, end, _ in reversed(taken[:_MOST_ANCHORS]):
        text = f"{text[:begin]}{'~' * (end - begin)}{text[end:]}"
    for match in _ADDRESS.finditer(text):
        try:
            address = parse_address(match[0].partition("/")[0])
        except ValueError:
            continue
        if is_of_a_host(address) or not int(address):
            yield match.start(), match.end(), address


def labelled(text: str, label: str = "") -> list[tuple[str, str]]:
    """Return a text's values with their labels: ``Name: door Status: online``. What has none gets ``label``."""
    found: list[tuple[str, str]] = []
    at = 0
    for sign in _LABEL_SIGN.finditer(text):
        before = text[at : sign.start()]
        if not before.rstrip()[-1:].isalpha() and not before.rstrip().endswith((")", ".")):  # a time, or an address
            continue
        name = _label_at_end(before, whole=at == 0)
        if not name:
            continue
        if value := before[: len(before) - len(name)].strip():
            found.append((label, value))
        label, at = name.strip(_EDGES), sign.end()
    return [*found, (label, text[at:])]


def _label_at_end(text: str, *, whole: bool) -> str:
    """Return the words at the end of a text that name a field: the longest such label of at most four words.

    ``whole``: the text is all that stands before the sign, so that ``Client's address`` is one label.
    """
    tail = _BEFORE_LABEL.split(text[-_LONGEST_LABEL:])[-1]
    words = list(_WORDS.finditer(tail))
    whole = (whole and len(text) <= _LONGEST_LABEL) or len(tail) < min(len(text), _LONGEST_LABEL)
    for word in words[-_LABEL_WORDS:]:
        name = tail[word.start() :].strip()
        if begins_heading(name) or (whole and word is words[0] and heading_field(name) is not None):
            return tail[word.start() :]
    return ""


def split_value(text: str, *, loose: bool) -> Iterator[tuple[Kind, str]]:
    """Yield the pieces of a text with their kinds.

    ``loose``: single blanks may stand between fields, because no other sign does.
    """
    cleaned = _ENUMERATED.sub("", clean(_GAP.sub(" · ", text.strip()), 2 * len(text)))
    plain = _tidy(cleaned)
    if not plain:
        if mark := text.strip():
            yield Kind.NONE, mark
        return
    kind = kind_of(plain)
    if kind is not Kind.WORD:
        yield kind, plain
        return
    first = last = None
    covered: list[tuple[int, Kind, str]] = []
    for begin, end in _part_spans(plain):
        part = bare(plain[begin:end])
        if not part:
            continue
        of_part = kind_of(part)
        if of_part is Kind.WORD:
            first, last = begin if first is None else first, end
        else:
            covered.append((begin, of_part, part))
    if first is None or last is None:  # too long for one field, and every part of it is known
        yield from ((of_part, part) for _, of_part, part in covered)
        return
    inner = [each for each in covered if first < each[0] < last and each[1] in _STRONG]
    outer = [each for each in covered if not first < each[0] < last]
    yield from ((kind, part) for at, kind, part in outer if at < first)
    middle = plain[first:last]
    if plain[last : last + 1] == ")" and middle.count("(") > middle.count(")"):
        middle += ")"
    if inner:  # a state between two words: they are two fields
        for begin, end in _part_spans(middle):
            part = bare(middle[begin:end])
            if part:
                yield kind_of(part), part
    elif loose:
        yield from _peeled(middle)
    else:
        yield Kind.WORD, _tidy(middle)
    yield from ((kind, part) for at, kind, part in outer if at >= last)


def _part_spans(text: str) -> Iterator[tuple[int, int]]:
    at = 0
    for match in _PARTS.finditer(text):
        yield at, match.start()
        at = match.end()
    yield at, len(text)


def _peeled(text: str) -> Iterator[tuple[Kind, str]]:
    """Yield the known words at both ends of a text as pieces of their own, and what is between them as one."""
    words = text.split(" ")
    begin, end = 0, len(words)
    for count in range(min(_MOST_PEELED, len(words) - 1), 0, -1):
        found = kinds_in(" ".join(words[-count:]))
        if found and found & _STRONG:
            end -= count
            break
    for count in range(min(_MOST_PEELED, end - 1), 0, -1):
        found = kinds_in(" ".join(words[:count]))
        if found and found & _STRONG:
            begin = count
            break
    for part in (" ".join(words[:begin]), " ".join(words[begin:end]), " ".join(words[end:])):
        if plain := bare(part):
            yield kind_of(plain), _tidy(part)


def bare(text: str) -> str:
    """Return a text without signs at its ends; the sign of a negative number stays."""
    plain = text.strip(_EDGES)
    if plain[:1].isdigit():
        at = text.find(plain)
        return f"-{plain}" if at > 0 and text[at - 1] in "-−" and text[at - 2 : at - 1] in ("", " ", "(") else plain
    return plain


def _tidy(text: str) -> str:
    """Return a text without signs at its ends; a bracket that belongs to it stays."""
    plain = bare(text)
    closes = text.rstrip().endswith(")") and plain.count("(") == plain.count(")") + 1
    return plain + ")" if closes else plain
