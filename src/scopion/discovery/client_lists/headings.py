"""Finds what stands between a text's records: headings of columns, and titles that hold for all that follows.

A paste may hold several lists, each with its own headings; ``Offline (3)``, ``Wi-Fi 5 GHz`` or ``DHCP reservations``
above some rows say something about each of them.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from scopion.discovery.client_lists.pieces import anchors_in, labelled
from scopion.discovery.client_lists.split_lines import Cells, Line
from scopion.discovery.client_lists.words import (
    Field,
    Kind,
    heading_field,
    kind_of,
    kinds_in,
    names_filter,
    own_heading,
)
from scopion.model.mac import mac_spans

_SIGNS = (re.compile(r"\t"), re.compile(r";"), re.compile(r"\|"), re.compile(r","), re.compile(r"\s{2,}"))
# Words for what a list holds, which titles have beside a state or a medium.
_NOUNS = re.compile(
    r"\b(?:devices?|clients?|hosts?|stations?|users?|list|table|leases?|network|geräte?|teilnehmer|appareils?|équipements?|"
    r"dispositivos?|equipos?|clientes?|dispositivi|apparaten|urządzenia|klienci|my|the|all|your|recently|of|dhcp)\b"
    r"|设备|终端|列表|デバイス|端末|一覧",
    re.I,
)
_ADDRESS = re.compile(r"(?<![\w.])\d{1,3}(?:\.\d{1,3}){3}(?![\w.])", re.ASCII)
_COUNT = re.compile(r"\(?\b\d{1,5}\b\)?\s*$")
_TELLING = frozenset({Kind.AWAY, Kind.HERE, Kind.RESERVED, Kind.WIRELESS, Kind.CABLE, Kind.BAND})


@dataclass(slots=True)
class Section:
    """The lines of one list, with its headings by column, and the titles above its lines by their numbers."""

    lines: list[Line]
    heading: str = ""  # the line of its headings; empty without
    headings: Cells = ()  # as they are split like its rows
    titles: list[tuple[int, tuple[str, ...]]] = field(default_factory=list)

    def titles_above(self, number: int) -> tuple[str, ...]:
        """Return the titles that hold for a line."""
        found: tuple[str, ...] = ()
        for at, texts in self.titles:
            if at > number:
                break
            found = texts
        return found


def sections_of(lines: Sequence[Line], *, perhaps: bool) -> list[Section]:
    """Split lines into lists: each begins with its headings. Titles are taken out of the lines."""
    lines = _labels_joined(lines, perhaps=perhaps)
    sections = [Section([])]
    for line in lines:
        if not line[1].strip() or any(anchors_in(line[1], perhaps=perhaps)):
            sections[-1].lines.append(line)
        elif is_headings(line[1]):
            sections.append(Section([(line[0], "")], line[1]))
        else:
            sections[-1].lines.append(line)
    _take_out_titles(sections, perhaps=perhaps)
    return sections


def is_headings(text: str) -> bool:
    """Tell whether a line is a row of headings: two cells or more, half of which name a field, none with a value."""
    for sign in _SIGNS:
        cells = [cell.strip(" \"'|") for cell in sign.split(text.strip()) if cell.strip(" \"'|")]
        fields = [heading_field(cell) or own_heading(cell) or None for cell in cells]
        known = {each for each in fields if each is not None}
        if len(cells) > 1 and len(known) > 1 and sum(each is not None for each in fields) * 2 >= len(cells):
            return not any(cell.endswith((":", "=")) or _valued(cell) for cell in cells)
    return False


def _valued(cell: str) -> bool:
    """Tell whether a cell has a label and its value: a row of fields, not of headings."""
    return any(label and value.strip(" \"',;") for label, value in labelled(cell))


def _labels_joined(lines: Sequence[Line], *, perhaps: bool) -> list[Line]:
    """Return lines in which a label that stands on a line of its own, above its value, is on the value's line."""
    dense = [line for line in lines if line[1].strip()]
    with_mac = [at for at, (_, text) in enumerate(dense) if any(mac_spans(text, perhaps=perhaps))]
    macs = [
        at for at in with_mac
        if at and not is_headings(dense[at - 1][1]) and heading_field(dense[at - 1][1].strip(" :")) is Field.MAC
    ]  # fmt: skip
    repeated = Counter(text.strip(" :") for _, text in dense)
    if len(macs) * 2 <= len(with_mac) or any(repeated[dense[at - 1][1].strip(" :")] < len(macs) for at in macs):
        return list(lines)
    if len(macs) < 2 and macs[0] > 1 and heading_field(dense[macs[0] - 2][1].strip(" :")) is not None:
        return list(lines)  # headings one a line, above the first client
    often = max(1, len(macs) - 1)
    names = {text for text, count in repeated.items() if count >= often and heading_field(text) is not None}
    found: list[Line] = []
    label = ""
    for number, text in lines:
        plain = text.strip(" :")
        if plain in names:
            if label:
                found.append((number, f"{label}:"))
            label = plain
        elif text.strip() and label:
            found.append((number, f"{label}: {text.strip()}"))
            label = ""
        else:
            found.append((number, text))
    return found


def _take_out_titles(sections: Sequence[Section], *, perhaps: bool) -> None:
    """Move titles out of the lines; each run of them holds until the next."""
    held: dict[str, str] = {}
    fresh = True  # the run of titles has just begun
    for section in sections:
        kept: list[Line] = []
        section.titles.append((0, tuple(held.values())))
        for at, line in enumerate(section.lines):
            before = section.lines[at - 1][1].strip() if at else ""
            after = section.lines[at + 1][1].strip() if at + 1 < len(section.lines) else ""
            if any(anchors_in(line[1], perhaps=perhaps)):
                fresh = True
            elif said := title_of(line[1], alone=not before and not after, after=after):
                if fresh:
                    held = {key: text for key, text in held.items() if key == "ssid"}
                    fresh = False
                held[said] = line[1].strip() if said == "ssid" else bare_title(line[1])
                section.titles.append((line[0], tuple(held.values())))
                kept.append((line[0], ""))
                continue
            kept.append(line)
        section.lines = kept


def bare_title(text: str) -> str:
    """Return a title without the words for what a list holds."""
    return _NOUNS.sub(" ", text).strip()


def _is_bare_mac(text: str) -> bool:
    """Tell whether a line has a MAC address and no IP address, as in a list of who may come in."""
    return any(True for _ in mac_spans(text)) and not _ADDRESS.search(text)


def title_of(text: str, *, alone: bool, after: str = "") -> str:
    """Return what a line says about the rows below it: ``ssid``, ``state``, ``where``; empty if it is no title.

    ``alone``: blank lines are around it; ``after`` is the line that follows at once.
    """
    for label, value in labelled(text):
        if heading_field(label) is Field.SSID and label and value.strip() and kind_of(value.strip()) is Kind.WORD:
            return "ssid"
    if len(text) > 60:
        return ""
    if names_filter(text) and _is_bare_mac(after):
        return "state"
    bare = bare_title(text)
    kinds = kinds_in(bare) if bare else None
    telling = (kinds or frozenset()) & _TELLING
    if not telling:
        return ""
    if bare == text.strip() and not _COUNT.search(text.strip()) and not alone and not text.rstrip().endswith(":"):
        return ""
    return "state" if telling & {Kind.AWAY, Kind.HERE, Kind.RESERVED} else "where"
