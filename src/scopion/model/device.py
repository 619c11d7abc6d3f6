"""Devices as the roster remembers them, their standing, and the events that are worth remembering."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime
from enum import StrEnum
from ipaddress import IPv4Address

from scopion.model.mac import MacAddress
from scopion.model.observation import Medium


class Standing(StrEnum):
    """What we think of a device. It is not an entry on a list."""

    NEW = "new"
    KNOWN = "known"
    GUEST = "guest"
    UNWANTED = "unwanted"


class EventKind(StrEnum):
    """A change worth remembering."""

    JOINED = "joined"
    RETURNED = "returned"
    LEFT = "left"
    READDRESSED = "readdressed"


@dataclass(frozen=True, slots=True)
class Stay:
    """An unbroken presence of an adapter at an address; ``until`` is when it was last seen there."""

    mac: MacAddress
    address: IPv4Address
    since: datetime
    until: datetime
    present: bool


@dataclass(frozen=True, slots=True)
class Adapter:
    """A network card, by its MAC address."""

    mac: MacAddress
    medium: Medium
    first_seen: datetime
    last_seen: datetime
    stays: tuple[Stay, ...] = ()  # the present ones, else the latest

    @property
    def present(self) -> bool:
        """Whether the adapter has an open stay."""
        return any(stay.present for stay in self.stays)


@dataclass(frozen=True, slots=True)
class Device:
    """A thing with one or more adapters and what people said of it."""

    id: int
    standing: Standing
    first_seen: datetime
    label: str = ""
    owner: str = ""
    place: str = ""
    note: str = ""
    guest_until: date | None = None
    own: bool = False  # one of its adapters is this machine's
    gateway: bool = False  # one of its adapters is a subnet's gateway
    adapters: tuple[Adapter, ...] = ()

    @property
    def present(self) -> bool:
        """Whether any of its adapters is present."""
        return any(adapter.present for adapter in self.adapters)

    @property
    def last_seen(self) -> datetime:
        """When any of its adapters was last seen."""
        return max((adapter.last_seen for adapter in self.adapters), default=self.first_seen)

    @property
    def macs(self) -> tuple[MacAddress, ...]:
        """The MAC addresses of its adapters."""
        return tuple(adapter.mac for adapter in self.adapters)

    @property
    def addresses(self) -> tuple[IPv4Address, ...]:
        """Where it is now, or where it was last, in order."""
        here = {stay.address for adapter in self.adapters for stay in adapter.stays if stay.present}
        return tuple(sorted(here or {stay.address for adapter in self.adapters for stay in adapter.stays}))

    @property
    def called(self) -> str:
        """What to call it in a sentence: its label, else what it is to us, else its MAC address."""
        role = "this machine" if self.own else "the gateway" if self.gateway else ""
        return self.label or role or (str(self.adapters[0].mac) if self.adapters else f"device {self.id}")


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened to a device; ``was`` is the address or the moment before, by kind."""

    kind: EventKind
    at: datetime
    device_id: int
    mac: MacAddress
    address: IPv4Address
    was_address: IPv4Address | None = None  # readdressed, returned: where it was before
    away_since: datetime | None = None  # returned: when it was last seen before
    id: int = field(default=0, compare=False)
