"""How moments and addresses stand in the roster's tables, and how they are read from there.

Moments are milliseconds since 1970 in UTC, addresses their usual text. Reading a list meets the same ones again and
again - one scan gives its moment to a device, its adapter, its stay and its traits - so that they are made once.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv6Address
from socket import AF_INET, inet_pton

from scopion.model.address import Address
from scopion.model.errors import InvalidMacAddress
from scopion.model.kept import Kept
from scopion.model.mac import MacAddress

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)  # before anything that a roster keeps
_MOST = 65_536  # remembered at a time: 10 MB


class NotOurs(Exception):
    """What stands in a table is nothing that we would have written there. ``Roster.guarded`` tells in which file."""


def _moment(ms: int) -> datetime:
    return datetime.fromtimestamp(ms / 1000, UTC)


def _mac(text: str) -> MacAddress:
    try:
        return MacAddress.parse(text)
    except InvalidMacAddress as error:
        raise NotOurs(str(error)) from None


def to_ms(moment: datetime) -> int:
    """A moment as the roster keeps it."""
    return round(moment.timestamp() * 1000)


def stored_address(text: str) -> Address:
    """An address that the roster kept: as it was written, so that the system's own reader will do. Raises NotOurs."""
    try:
        return IPv6Address(text) if ":" in text else IPv4Address(int.from_bytes(inet_pton(AF_INET, text)))
    except (OSError, ValueError):
        raise NotOurs(f"{text!r} is no address") from None


# A moment that the roster kept, in UTC, and a MAC address.
from_ms: Callable[[int], datetime] = Kept(_moment, _MOST).__getitem__
stored_mac: Callable[[str], MacAddress] = Kept(_mac, _MOST).__getitem__
