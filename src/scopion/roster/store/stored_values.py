"""How moments and addresses are written in the roster's tables, and read from there.

Moments are milliseconds since 1970 in UTC, addresses their usual text. A list has the same ones many times - one scan
gives its moment to a device, its adapter, its stay and its traits - so each is made once.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv6Address
from socket import AF_INET, inet_pton
from typing import TypeVar

from scopion.model.address import Address
from scopion.model.bounded_cache import BoundedCache
from scopion.model.errors import DamagedRoster, InvalidMacAddress
from scopion.model.mac import MacAddress

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)  # before every moment that a roster keeps
_MOST = 65_536  # remembered at a time: 10 MB
Word = TypeVar("Word")
# What SQLite raises for a damaged file; the text that it quotes may be no text at all.
UNREADABLE = (sqlite3.DatabaseError, UnicodeDecodeError)
ADVICE = "scopion roster check shows what is wrong, scopion roster restore goes back to a copy"


class NotOurs(DamagedRoster):
    """A table holds something that we would not have written. ``Roster.guarded`` adds the file."""

    def __init__(self, what: str) -> None:
        super().__init__(f"the roster is damaged: {what}; {ADVICE}")
        self.what = what


@contextmanager
def as_written(what: str) -> Iterator[None]:
    """Read something that was written here: every error in it becomes ``NotOurs``. It is also a decorator."""
    try:
        yield
    except NotOurs:
        raise
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError, RecursionError) as error:
        raise NotOurs(f"{what} cannot be read ({type(error).__name__})") from None


def stored_words(kind: Callable[[str], Word]) -> BoundedCache[object, Word]:
    """Return the words of a kind by their texts; a text that is none of them raises NotOurs."""

    def read(text: object) -> Word:
        try:
            return kind(text)  # type: ignore[arg-type]  # a column may hold anything
        except ValueError:
            raise NotOurs(f"{text!r:.40} is not a known {getattr(kind, '__name__', 'word').lower()}") from None

    return BoundedCache(read, 1_024)


def _moment(ms: int) -> datetime:
    try:
        return datetime.fromtimestamp(ms / 1000, UTC)
    except (TypeError, ValueError, OverflowError, OSError):
        raise NotOurs(f"{ms!r:.40} is not a moment") from None


def _mac(text: str) -> MacAddress:
    try:
        return MacAddress.parse(text)
    except (InvalidMacAddress, TypeError, AttributeError):
        raise NotOurs(f"{text!r:.40} is not a MAC address") from None


def to_ms(moment: datetime) -> int:
    """Return a moment as the roster keeps it."""
    return round(moment.timestamp() * 1000)


# The same in SQL, of a row of the table.
UNPAIRED_SUBJECT = "address || CASE place WHEN '' THEN '' ELSE '@' || place END"


def unpaired_subject(place: str, address: str) -> str:
    """Return the subject of what was said of a host that is known by its address only: an address of its place."""
    return f"{address}@{place}" if place else address


def stored_address(text: str) -> Address:
    """Return an address that the roster kept. It is in its usual text, so the system's own reader suffices. Raises
    NotOurs.
    """
    try:
        return IPv6Address(text) if ":" in text else IPv4Address(int.from_bytes(inet_pton(AF_INET, text)))
    except (OSError, ValueError, TypeError):
        raise NotOurs(f"{text!r:.40} is not an address") from None


# A moment that the roster kept, in UTC, and a MAC address.
from_ms: Callable[[int], datetime] = BoundedCache(_moment, _MOST).__getitem__
stored_mac: Callable[[str], MacAddress] = BoundedCache(_mac, _MOST).__getitem__
