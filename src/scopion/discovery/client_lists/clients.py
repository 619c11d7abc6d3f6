"""What each record says of its client: name, address, MAC address, how and since when it is connected, and whether.

Columns are judged together: a name is in the column whose words differ most, an address that all rows share is the
gateway's, and a list that says of some rows that they are online says of the others that they are not.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum
from ipaddress import IPv4Network
from itertools import pairwise
from typing import cast

from scopion.discovery.client_lists.pieces import Anchor, Contents, Piece, Place
from scopion.discovery.client_lists.times import moment_of, span_of
from scopion.discovery.client_lists.words import Field, Kind, heading_field, kind_of, kinds_in, says_ago, says_yes
from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium

_MASK = 255 << 24
_BAND = re.compile(r"(?<![\d.,])(2[.,]4|5|6)\s?g(?:hz)?(?![^\W\d_])|(?<!\d)(2\.4|5|6)(?=\s?ghz)", re.I)
_ROW_NUMBER = re.compile(r"(\d{1,5})\s+(?=\S)")
_SIGNAL = re.compile(r"(-\d{2,3})(?!\d)")
_OF_ANOTHER = re.compile(r"\b(?:ap|bssid|router|gateway|access point|node|mesh|parent|host ap|uplink)\b", re.I)
_STATES = (Kind.AWAY, Kind.HERE, Kind.RESERVED)
_NO_NAMES = frozenset({Field.OTHER, Field.MAKER, Field.SSID, Field.KIND, Field.SIGNAL, Field.RATE, Field.BAND})


class Presence(StrEnum):
    """What a row says about whether its client is there."""

    HERE = "here"
    AWAY = "away"  # offline, expired, released, blocked
    RESERVED = "reserved"  # only an address is kept for it
    UNSAID = "unsaid"


@dataclass(frozen=True, slots=True)
class Client:
    """What a row says. The texts are those of the row, for the person who pasted it."""

    line: int
    mac: MacAddress
    address: Address | None = None
    name: str = ""
    medium: Medium = Medium.UNKNOWN
    band: str = ""  # 2.4, 5 or 6; in GHz
    ssid: str = ""
    interface: str = ""
    presence: Presence = Presence.UNSAID
    state: str = ""
    lease: str = ""
    left_s: float | None = None  # of its lease
    lease_s: float | None = None  # how long its lease is in all
    ends: datetime | None = None  # when its lease ends
    ago_s: float | None = None  # how long ago it was there
    seen: datetime | None = None  # when it was there last
    connected_s: float | None = None
    signal: int | None = None  # dBm
    rate: str = ""
    written: bool = False  # its MAC address stands within a sentence of a person

    @property
    def is_current(self) -> bool:
        """Tell whether its row is about now, and does not say that it is away."""
        past = self.ago_s is not None or self.seen is not None
        return self.presence is Presence.HERE or (self.presence is Presence.UNSAID and not past)


@dataclass(frozen=True, slots=True)
class Clients:
    """The clients of one list, and the columns that were taken for what."""

    rows: tuple[Client, ...]
    name_from: str = ""  # the heading of the names, or "column 2"; empty without names
    unclear: tuple[tuple[int, str], ...] = ()  # lines that were not read, and why
    others: frozenset[MacAddress] = frozenset()  # MAC addresses of access points and the like, beside the clients' own


def clients_of(contents: Sequence[Contents], subnets: Sequence[IPv4Network], as_of: datetime) -> Clients:
    """Return what the records of one list say."""
    unclear: list[tuple[int, str]] = []
    contents = _without_row_numbers(contents)
    macs = _chosen_macs(contents)
    known: list[tuple[Contents, MacAddress]] = []
    for each, mac in zip(contents, macs, strict=True):
        if mac is None:
            unclear.append((each.line, "several MAC addresses in one place"))
        else:
            known.append((each, mac))
    addresses = _chosen_addresses([each for each, _ in known], subnets)
    places, told = _name_places([each for each, _ in known])
    rows = []
    for (each, mac), address in zip(known, addresses, strict=True):
        name_piece = _name_piece(each, places)
        rows.append(_client(each, mac, address, name_piece, as_of))
    others = {anchor.value for each, mac in known for anchor in each.macs if anchor.value != mac}
    return Clients(tuple(rows), told, tuple(unclear), frozenset(others))


def _without_row_numbers(contents: Sequence[Contents]) -> Sequence[Contents]:
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


def _chosen_macs(contents: Sequence[Contents]) -> list[MacAddress | None]:
    """Return the client's MAC address of each record: not the access point's, which all rows share."""
    shared = _shared(Counter(mac for each in contents for mac in {anchor.value for anchor in each.macs}), len(contents))
    found: list[MacAddress | None] = []
    for each in contents:
        distinct = {anchor.value for anchor in each.macs}
        if len(distinct) > 1:
            own = [
                anchor for anchor in each.macs if anchor.value not in shared and not _OF_ANOTHER.search(anchor.label)
            ] or [*each.macs]
            named = [anchor for anchor in own if heading_field(anchor.label) is Field.MAC] or own
            cells = {anchor.place[:2] for anchor in named if anchor.value != named[0].value}
            distinct = {named[0].value} if named[0].place[:2] not in cells else distinct
        found.append(distinct.pop() if len(distinct) == 1 else None)
    return found


def _shared(counts: Counter[MacAddress] | Counter[Address], total: int) -> set[object]:
    """Return what more than half of several rows have in common."""
    return {each for each, count in counts.items() if total > 2 and count * 2 > total}


def _chosen_addresses(contents: Sequence[Contents], subnets: Sequence[IPv4Network]) -> list[Address | None]:
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


def _name_places(contents: Sequence[Contents]) -> tuple[list[tuple[str, Place]], str]:
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
    told = repr(label) if label else f"column {place[1] + 1}" if place[1] else "the words beside the MAC address"
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
    return piece.kind is Kind.WORD and field not in _NO_NAMES


def _counts_up(texts: Sequence[str]) -> bool:
    return len(texts) > 1 and all(text.isdecimal() for text in texts)


def _name_piece(contents: Contents, places: Sequence[tuple[str, Place]]) -> Piece | None:
    for place in places:
        for piece in contents.pieces:
            if _key(piece) == place and _may_be_name(piece):
                return piece
    return None


def _client(
    contents: Contents, mac: MacAddress, address: Address | None, named: Piece | None, as_of: datetime
) -> Client:
    client = Client(contents.line, mac, address, named.text if named else "")
    said: dict[bool, list[Presence]] = {True: [], False: []}  # by the row itself, and by the titles above it
    media: list[Medium] = []
    interface: list[str] = []
    for piece in (*_of_titles(contents.titles), *contents.pieces):
        if piece is named or piece.field is Field.OTHER:
            continue
        of_row = piece.place != _TITLE
        presence = _presence(piece)
        if presence is not None:
            said[of_row].append(presence)
            client = replace(client, state=piece.text)
        medium = _medium(piece)
        if medium is not None:
            media.append(medium)
            interface.append(piece.text)
        elif piece.field is Field.INTERFACE and piece.kind is not Kind.NONE:
            interface.append(piece.text)
        client = _with_measures(client, piece, as_of)
    order = (Presence.AWAY, Presence.HERE, Presence.RESERVED)
    presence = next((each for each in order if each in (said[True] or said[False])), Presence.UNSAID)
    words = [piece for piece in contents.pieces if piece.kind is Kind.WORD]
    one_cell = len({piece.place[:2] for piece in contents.pieces}) <= 1 and not any(each.label for each in words)
    if client.signal is not None and address is None and client.connected_s is None:
        # A table of stations has no leases: its time is that of the connection.
        client = replace(client, connected_s=client.left_s, lease="", left_s=None)
    return replace(
        client,
        presence=presence,
        medium=_one_medium(media, client),
        interface=", ".join(dict.fromkeys(interface)),
        written=one_cell and sum(len(piece.text.split()) for piece in words) > 1 and address is None,
    )


_TITLE: Place = (-999, 0, 0)


def _of_titles(titles: Sequence[str]) -> list[Piece]:
    """Return what the titles above a row say, as pieces of it."""
    from scopion.discovery.client_lists.pieces import labelled, split_value

    found = []
    for title in titles:
        for label, value in labelled(title):
            plain = re.sub(r"\(?\d{1,5}\)?:?$", "", value.strip()) if not label else value
            found += [Piece(_TITLE, text, kind, label) for kind, text in split_value(plain, loose=True)]
    return found


def _presence(piece: Piece) -> Presence | None:
    """Return what a piece says of the client's presence; None if nothing."""
    field = piece.field
    if field in (Field.NAME, Field.MAKER, Field.KIND, Field.SSID) and piece.kind is not Kind.RESERVED:
        return None
    by_label = kinds_in(piece.label) if piece.label else None
    answer = says_yes(piece.text)
    if answer is not None and by_label:
        if Kind.AWAY in by_label:
            return Presence.AWAY if answer else None
        if Kind.HERE in by_label or field is Field.STATE:
            return Presence.HERE if answer else Presence.AWAY
        return Presence.RESERVED if answer and Kind.RESERVED in by_label else None
    if answer is not None and field is Field.STATE:
        return Presence.HERE if answer else Presence.AWAY
    if piece.kind in _STATES:
        return Presence(str(piece.kind))
    return None


def _medium(piece: Piece) -> Medium | None:
    """Return the medium that a piece names; None if it names none."""
    if piece.field in (Field.NAME, Field.MAKER):
        return None
    kinds = kinds_in(piece.text) or frozenset()
    if piece.kind is Kind.WORD:
        return Medium.WIRELESS if piece.field is Field.SSID else None
    if says_yes(piece.text) is not None and piece.label:
        kinds = (kinds_in(piece.label) or frozenset()) if says_yes(piece.text) else frozenset()
    if {Kind.WIRELESS, Kind.CABLE} <= kinds:
        return None
    if Kind.CABLE in kinds and Kind.RATE not in kinds:
        return Medium.CABLE
    if kinds & {Kind.WIRELESS, Kind.BAND}:
        return Medium.WIRELESS
    return Medium.CABLE if Kind.CABLE in kinds else None


def _one_medium(media: Sequence[Medium], client: Client) -> Medium:
    if client.signal is not None and Medium.CABLE not in media:
        return Medium.WIRELESS
    # A row's own word comes after that of a title above it.
    return media[-1] if media else Medium.UNKNOWN


def _with_measures(client: Client, piece: Piece, as_of: datetime) -> Client:
    """Return the client with what a piece measures: band, signal, rate, times."""
    field, text, kind = piece.field, piece.text, piece.kind
    if field is Field.SSID and kind not in (Kind.NONE, Kind.BAND, Kind.NUMBER):
        return replace(client, ssid=text)
    if (band := _BAND.search(text)) and kind is not Kind.WORD:
        client = replace(client, band=(band[1] or band[2]).replace(",", "."))
    elif field is Field.BAND and re.fullmatch(r"(2[.,]4|5|6)\D*", text):
        client = replace(client, band=re.sub(r"[^\d.]", "", text.replace(",", ".")))
    if (kind is Kind.SIGNAL or field is Field.SIGNAL or kind in _STATES or kind is Kind.WIRELESS) and "-" in text:
        signal = _SIGNAL.search(text)
        client = replace(client, signal=int(signal[1])) if signal and client.signal is None else client
    if kind is Kind.SIGNAL or field is Field.SIGNAL:
        bare = re.fullmatch(r"(\d{2,3})\s*dbm", text, re.I)  # the sign was cut off with the dashes beside it
        return replace(client, signal=-int(bare[1])) if bare and client.signal is None else client
    if kind is Kind.RATE or field is Field.RATE:
        return replace(client, rate=text)
    return _with_times(client, piece, as_of)


def _with_times(client: Client, piece: Piece, as_of: datetime) -> Client:
    field, text, kind = piece.field, piece.text, piece.kind
    span, moment = span_of(text), moment_of(text, as_of)
    if says_ago(text) and span is not None:
        return replace(client, ago_s=span)
    if field is Field.SEEN:
        if span is not None and ":" not in text:
            return replace(client, ago_s=span)
        return replace(client, seen=moment) if moment is not None and moment <= as_of else client
    if kind in _STATES:
        return client
    if field is Field.LEASE_LENGTH:
        return replace(client, lease_s=span)
    if field is Field.SINCE:
        return replace(client, connected_s=span)
    if field is Field.LEASE or (field is None and kind in (Kind.TIME, Kind.FOREVER) and not client.lease):
        dated = moment if moment is not None and span is None else None
        return replace(client, lease=text, left_s=span, ends=dated)
    return client


Reader = Callable[[Sequence[Contents]], Clients]


def usual_lease(texts: Sequence[str]) -> float | None:
    """Return the length of all leases, where a page says it beside its list: ``Lease time: 24 hours``."""
    from scopion.discovery.client_lists.pieces import labelled

    for text in texts:
        for label, value in labelled(text):
            if label and heading_field(label) in (Field.LEASE, Field.LEASE_LENGTH):
                minutes = re.search(r"min", label, re.I) and re.fullmatch(r"\s*(\d{1,6})\s*", value)
                span = int(minutes[1]) * 60 if minutes else span_of(value)
                if span:
                    return float(span)
    return None


def granted(client: Client, lease_s: float | None, as_of: datetime) -> datetime | None:
    """Return when a client got its lease, from what is left of it and its length; None if that is not known."""
    length = client.lease_s or lease_s
    if length is None:
        return None
    left = (
        client.left_s if client.left_s is not None else (client.ends - as_of).total_seconds() if client.ends else None
    )
    if left is None or not 0 <= left <= length:
        return None
    return as_of - timedelta(seconds=length - left)
