"""Chooses what the columns of a list are: the client's own MAC addresses, its address, its name.

Columns are judged together: a name is in the column whose words differ most, an address that all rows share is the
gateway's, a MAC address that all rows share is the access point's.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from ipaddress import IPv4Network
from itertools import pairwise
from typing import cast

from scopion.discovery.client_lists.pieces import Anchor, Contents, Piece, Place
from scopion.discovery.client_lists.words import Field, Kind, heading_field, kind_of, says_yes
from scopion.model.address import Address
from scopion.model.mac import MacAddress

_MASK = 255 << 24
_OF_ANOTHER = re.compile(r"\b(?:ap|bssid|router|gateway|access point|node|mesh|parent|host ap|uplink)\b", re.I)
_NO_NAMES = frozenset({Field.OTHER, Field.MAKER, Field.SSID, Field.KIND, Field.SIGNAL, Field.RATE, Field.BAND})
_CODE = re.compile(r"0x[0-9a-fA-F]{1,16}$")  # flags
_HEADING_SHOWN = 40
_ROW_NUMBER = re.compile(r"(\d{1,5})\s+(?=\S)")


def without_row_numbers(contents: Sequence[Contents]) -> Sequence[Contents]:
    """Return records without numbers that stand before their first words and count the rows: 1 till, 2 kiln."""
    first = [next((piece for piece in each.pieces if piece.kind is Kind.WORD), None) for each in contents]
    numbers = [
        match and int(match[1]) for match in (_ROW_NUMBER.match(piece.text) if piece else None for piece in first)
    ]
    if len(numbers) < 2 or any(number is None for number in numbers):
        return contents
    if any(after - before != 1 for before, after in pairwise(cast("list[int]", numbers))):
        return contents
    return [
        replace(each, pieces=tuple(
            replace(one, text=_ROW_NUMBER.sub("", one.text)) if one is piece else one for one in each.pieces
        ))
        for each, piece in zip(contents, first, strict=True)
    ]  # fmt: skip


def own_macs(contents: Sequence[Contents]) -> list[list[Anchor[MacAddress]]]:
    """Return the client's MAC addresses of each record: not the access point's, which all rows share.

    There are several if each has a heading of its own: one for the cable, one for Wi-Fi. The list is empty if it is not
    clear which one is meant.
    """
    shared = _shared(Counter(mac for each in contents for mac in {anchor.value for anchor in each.macs}), len(contents))
    found: list[list[Anchor[MacAddress]]] = []
    for each in contents:
        own = [*{anchor.value: anchor for anchor in reversed(each.macs)}.values()][::-1]
        if len(own) > 1:
            own = [
                anchor for anchor in own if anchor.value not in shared and not _OF_ANOTHER.search(anchor.label)
            ] or own
            own = [anchor for anchor in own if heading_field(anchor.label) is Field.MAC] or own
            labels = {anchor.label for anchor in own}
            own = own if len(own) == 1 or ("" not in labels and len(labels) == len(own)) else []
        found.append(own)
    return found


def _shared(counts: Counter[MacAddress] | Counter[Address], total: int) -> set[object]:
    """Return what more than half of several rows have in common."""
    return {each for each, count in counts.items() if total > 2 and count * 2 > total}


def chosen_addresses(contents: Sequence[Contents], subnets: Sequence[IPv4Network]) -> list[Address | None]:
    """Return the client's address of each record: in a subnet of the site rather than another, IPv4 before IPv6."""
    shared = _shared(
        Counter(a for each in contents for a in {anchor.value for anchor in each.addresses}), len(contents)
    )
    shared |= {
        anchor.value for each in contents for anchor in each.addresses
        if anchor.value.version == 4 and int(anchor.value) & _MASK == _MASK
    }  # fmt: skip

    def worth(anchor: Anchor[Address]) -> tuple[bool, bool, bool, bool]:
        address = anchor.value
        inside = address.version == 4 and any(address in subnet for subnet in subnets)
        return (
            heading_field(anchor.label) is Field.OTHER if anchor.label else False,
            not inside and bool(subnets) and address.version == 4,
            address.version != 4,
            bool(getattr(address, "is_link_local", False)),
        )

    found: list[Address | None] = []
    for each in contents:
        own = [anchor for anchor in each.addresses if anchor.value not in shared and int(anchor.value)]
        best = min(own, key=worth, default=None)
        found.append(best.value if best is not None else None)
    return found


def name_places(contents: Sequence[Contents]) -> tuple[list[tuple[str, Place]], str]:
    """Return where names stand, the best place first, and what to call it.

    A place is a label, or a position in a list without labels.
    """
    words: dict[tuple[str, Place], Counter[str]] = {}
    for each in contents:
        for piece in each.pieces:
            if _may_be_name(piece):
                words.setdefault(_key(piece), Counter())[piece.text] += 1
    numbered = {key for key, texts in words.items() if _counts_up(list(texts))}
    keys = [key for key in words if key not in numbered]
    labels = any(piece.label for each in contents for piece in each.pieces)

    def worth(key: tuple[str, Place]) -> tuple[int, int, int, int, Place]:
        label, place = key
        field = heading_field(label) if label else None
        named = 2 if field is Field.NAME else 1 if not label or field in (None, Field.ADDRESS, Field.MAC) else 0
        if label and field is None and labels:
            named = 0 if not _near_name(label) else 1
        texts = words[key]
        hosts = sum(bool(re.search(r"[-'’_\d]|^[a-z]", text)) for text in texts)
        return named, len(texts), hosts, -abs(place[0]), (-place[0] if place[0] > 0 else 0, -place[1], -place[2])

    ordered = sorted((key for key in keys if worth(key)[0]), key=worth, reverse=True)
    if not ordered:
        return [], ""
    best = worth(ordered[0])[0]
    ordered = [key for key in ordered if worth(key)[0] == best][: 3 if best == 2 else 1]
    label, place = ordered[0]
    told = (
        repr(label[:_HEADING_SHOWN])
        if label
        else f"column {place[1] + 1}"
        if place[1]
        else "the words beside the MAC address"
    )
    return ordered, f"the column {told}" if label else told


def _near_name(label: str) -> bool:
    return kind_of(label) is Kind.WORD and heading_field(label) is None


def _key(piece: Piece) -> tuple[str, Place]:
    """Return what identifies the column of a piece: its label, in whatever line; else its place."""
    return (piece.label, (0, piece.place[1], 0)) if piece.label else ("", piece.place)


def _may_be_name(piece: Piece) -> bool:
    field = piece.field
    if field is Field.NAME:
        return piece.kind is not Kind.NONE and says_yes(piece.text) is None
    return piece.kind is Kind.WORD and field not in _NO_NAMES and not _CODE.match(piece.text)


def _counts_up(texts: Sequence[str]) -> bool:
    return len(texts) > 1 and all(text.isdecimal() for text in texts)


def name_piece(contents: Contents, places: Sequence[tuple[str, Place]]) -> Piece | None:
    """Return the name of a record by the places where names stand; None if it has none."""
    for place in places:
        for piece in contents.pieces:
            if _key(piece) == place and _may_be_name(piece):
                return piece
    return None
