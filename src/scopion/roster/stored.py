"""How moments and addresses stand in the roster's tables, and how they are read from there.

Moments are milliseconds since 1970 in UTC, addresses their usual text. Reading a list meets the same ones again and
again - one scan gives its moment to a device, its adapter, its stay and its traits - so that they are made once.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv6Address
from socket import AF_INET, inet_pton
from typing import TypeVar

from scopion.model.address import Address
from scopion.model.mac import MacAddress

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)  # before anything that a roster keeps
_MOST = 65_536  # remembered at a time: 10 MB

_Key = TypeVar("_Key")
_Value = TypeVar("_Value")


class _MadeOnce(dict[_Key, _Value]):
    """Makes a value when it is first asked for. Quicker than ``lru_cache``, for which a list asks 70,000 times."""

    def __init__(self, make: Callable[[_Key], _Value]) -> None:
        super().__init__()
        self._make = make

    def __missing__(self, key: _Key) -> _Value:
        if len(self) >= _MOST:
            self.clear()
        value = self[key] = self._make(key)
        return value


def to_ms(moment: datetime) -> int:
    """A moment as the roster keeps it."""
    return round(moment.timestamp() * 1000)


def _moment(ms: int) -> datetime:
    return datetime.fromtimestamp(ms / 1000, UTC)


def stored_address(text: str) -> Address:
    """An address that the roster kept: as it was written, so that the system's own reader will do."""
    if ":" in text:
        return IPv6Address(text)
    return IPv4Address(inet_pton(AF_INET, text))


# A moment that the roster kept, in UTC, and a MAC address.
from_ms: Callable[[int], datetime] = _MadeOnce(_moment).__getitem__
stored_mac: Callable[[str], MacAddress] = _MadeOnce(MacAddress.parse).__getitem__
