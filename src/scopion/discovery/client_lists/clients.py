"""What each record says of its client: name, address, MAC address, how and since when it is connected, and whether.

What a row says of itself counts before what stands above it for a whole section.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum
from ipaddress import IPv4Network

from scopion.discovery.client_lists.amounts import amount_of
from scopion.discovery.client_lists.choose_columns import (
    chosen_addresses,
    name_piece,
    name_places,
    own_macs,
    without_row_numbers,
)
from scopion.discovery.client_lists.pieces import Contents, Piece, Place, labelled, split_value
from scopion.discovery.client_lists.times import moment_of, span_of
from scopion.discovery.client_lists.words import Field, Kind, heading_field, kinds_in, says_ago, says_yes
from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium

_BAND = re.compile(r"(?<![\d.,])(2[.,]4|5|6)\s?g(?:hz)?(?![^\W\d_])|(?<!\d)(2\.4|5|6)(?=\s?ghz)", re.I)
_MAC_WORDS = re.compile(r"\bmac\b|\baddress\b|-?adresse\b|[-_]", re.I)
_SIGNAL = re.compile(r"(-\d{2,3})(?!\d)")
_SSID_OCTETS = 32  # IEEE Std 802.11-2020, 9.4.2.2
# The page's clock may be ahead of ours.
_CLOCKS_DIFFER = timedelta(minutes=10)
_STATES = (Kind.AWAY, Kind.HERE, Kind.RESERVED)


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
    received: int | None = None  # octets from it, since it connected or the page began to count
    sent: int | None = None  # octets to it
    # it stands within a person's sentence, beside another MAC address of its device, or with a time that cannot be so
    doubtful: bool = False

    @property
    def says_nothing(self) -> bool:
        """Tell whether its row has its MAC address and nothing else: it may be the router's own."""
        said = (self.name, self.state, self.interface, self.lease, self.rate, self.ssid, self.band)
        return self.address is None and self.signal is None and self.connected_s is None and not any(said)

    @property
    def is_current(self) -> bool:
        """Tell whether its row is about now, and does not say that it is away."""
        past = self.ago_s is not None or self.seen is not None
        if self.doubtful:
            return False
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
    contents = without_row_numbers(contents)
    known, others = [], set()
    for each, own in zip(contents, own_macs(contents), strict=True):
        if own:
            known += [
                replace(each, macs=(own[0],)),
                *(replace(each, macs=(more,), addresses=(), second=True) for more in own[1:]),
            ]
            others |= {anchor.value for anchor in each.macs} - {anchor.value for anchor in own}
        else:
            unclear.append((each.line, "several MAC addresses in one place"))
    addresses = chosen_addresses(known, subnets)
    places, told = name_places(known)
    rows = [
        _client(each, address, name_piece(each, places), as_of) for each, address in zip(known, addresses, strict=True)
    ]
    return Clients(tuple(rows), told, tuple(unclear), frozenset(others))


def _client(contents: Contents, address: Address | None, named: Piece | None, as_of: datetime) -> Client:
    (anchor,) = contents.macs
    client = Client(contents.line, anchor.value, address, named.text if named else "")
    said: dict[bool, list[Presence]] = {True: [], False: []}  # by the row itself, and by the titles above it
    media = [medium] if (medium := medium_of_heading(anchor.label)) is not None else []
    interface: list[str] = []
    for piece in (*_of_titles(contents.titles), *contents.pieces):
        if piece is named:
            continue
        if piece.label and (amount := amount_of(piece.label, piece.text)) is not None:
            client = replace(client, sent=amount[1]) if amount[0] else replace(client, received=amount[1])
            continue
        if piece.field is Field.OTHER:
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
    sentence = one_cell and sum(len(piece.text.split()) for piece in words) > 1 and address is None
    if client.signal is not None and address is None and client.connected_s is None:
        # A table of stations has no leases: its time is that of the connection.
        client = replace(client, connected_s=client.left_s, lease="", left_s=None)
    return replace(
        client,
        presence=presence,
        medium=_one_medium(media, client),
        interface=", ".join(dict.fromkeys(interface)),
        doubtful=client.doubtful or contents.second or sentence,
    )


_TITLE: Place = (-999, 0, 0)


def _of_titles(titles: Sequence[str]) -> list[Piece]:
    """Return what the titles above a row say, as pieces of it."""
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
    if by_label and Kind.HERE in by_label and Kind.AWAY not in by_label and span_of(piece.text) is not None:
        return Presence.HERE  # connected for: 2 hours
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


def medium_of_heading(heading: str) -> Medium | None:
    """Return the medium that a heading of MAC addresses names: ``WLAN MAC``; None if it names none."""
    kinds = kinds_in(_MAC_WORDS.sub(" ", heading).strip()) if heading else None
    if not kinds:
        return None
    return Medium.WIRELESS if Kind.WIRELESS in kinds else Medium.CABLE if Kind.CABLE in kinds else None


def _one_medium(media: Sequence[Medium], client: Client) -> Medium:
    if client.signal is not None and Medium.CABLE not in media:
        return Medium.WIRELESS
    # A row's own word comes after that of a title above it.
    return media[-1] if media else Medium.UNKNOWN


def _with_measures(client: Client, piece: Piece, as_of: datetime) -> Client:
    """Return the client with what a piece measures: band, signal, rate, times."""
    field, text, kind = piece.field, piece.text, piece.kind
    if field is Field.SSID and kind not in (Kind.NONE, Kind.BAND, Kind.NUMBER):
        if len(text.encode()) > _SSID_OCTETS:
            return client
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
        if moment is not None and moment <= as_of + _CLOCKS_DIFFER:
            return replace(client, seen=min(moment, as_of))
        return replace(client, doubtful=kind is not Kind.NONE and kind not in _STATES)  # when it was there is not clear
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


def usual_lease(texts: Sequence[str]) -> float | None:
    """Return the length of all leases, where a page says it beside its list: ``Lease time: 24 hours``."""
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
