"""Everything that a report tells, as plain values: gathered once, then drawn as a page, tables, figures, a mail.

Moments are on the site's clock, without a time zone. Texts are clean and not escaped.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from enum import StrEnum

from scopion.reports.address_use import SubnetUse
from scopion.reports.count_hours import WeekOf
from scopion.reports.status_lines import StatusLine

# This many notable events are on a page; the others are counted, and the table has all of them.
HAPPENINGS = 100
# Busy hours are told from this many days with scans on: each weekday once.
LEAST_DAYS = 7


class Part(StrEnum):
    """The parts of a report, in the order in which they are told."""

    ATTENTION = "attention"
    DEVICES = "devices"
    COMINGS = "comings"
    HOURS = "hours"
    BUSY_HOURS = "busy-hours"
    NEW_DEVICES = "new-devices"
    VENDORS = "vendors"
    ADDRESSES = "addresses"
    WIRES = "wires"
    USAGE = "usage"
    WIRELESS = "wireless"
    AUDIT = "audit"


class Weight(StrEnum):
    """How much something needs attention."""

    HIGH = "high"
    MEDIUM = "medium"
    LOW = "low"


@dataclass(frozen=True, slots=True)
class Concern:
    """Something to look at, and the command that goes on from there."""

    weight: Weight
    says: str
    command: str = ""


@dataclass(frozen=True, slots=True)
class DeviceLine:
    """A device as the report lists it."""

    number: int
    name: str  # its name in the report
    standing: str
    role: str  # "this machine", "gateway" or empty
    present: bool  # at the end of the period
    addresses: tuple[str, ...]
    macs: tuple[str, ...]
    private: bool
    vendor: str
    vendor_place: str
    kind: str
    owner: str
    place: str  # where people say that it stands
    socket: str  # the socket at which it hangs now
    places: tuple[str, ...]  # of the site, in which it was at the end; empty: the only one
    essential: bool
    first_seen: datetime
    last_seen: datetime | None  # None: never; only records know of it
    days_here: int  # of the period
    joined: bool  # first seen in the period
    comings: int  # how often it joined or returned in the period
    usually: str  # a rule in words; empty if there is none
    week: WeekOf
    unusual: str  # hours of the last week in which it was here and never is
    missed: str  # hours of the last week in which it was away and nearly always is here


@dataclass(frozen=True, slots=True)
class Happening:
    """One notable event, in a sentence."""

    at: datetime
    kind: str
    device: int
    says: str


@dataclass(frozen=True, slots=True)
class DayOfComings:
    """How many devices came and went on a day."""

    day: date
    looked: bool  # whether any scan looked; on other days nothing could be seen
    present: int  # devices that were here at any time
    joined: int
    returned: int
    left: int


@dataclass(frozen=True, slots=True)
class WeekOfNew:
    """New devices of a week, by their standing now."""

    monday: date
    by_standing: Mapping[str, int]

    @property
    def total(self) -> int:
        """Return the number of all of them."""
        return sum(self.by_standing.values())


@dataclass(frozen=True, slots=True)
class Group:
    """Devices that have a vendor or a kind in common."""

    name: str
    devices: int
    present: int


@dataclass(frozen=True, slots=True)
class SubnetLine:
    """A subnet's addresses."""

    name: str
    use: SubnetUse
    pool_known: bool
    place: str  # empty: the only place, which has no name


@dataclass(frozen=True, slots=True)
class WirePort:
    """A port of a switch, and what hangs there."""

    switch: str
    name: str
    number: int
    socket: str
    up: bool | None  # None: not told
    speed_mbit: int  # 0: not told
    leads_to: str  # the switch behind it; empty: none
    radio: bool  # an access point is there
    devices: tuple[str, ...]  # by cable, by name
    stations: tuple[str, ...]  # on the air behind it
    unknown: int  # how many more adapters the switch knows there
    errors: int  # damaged frames of the last day


@dataclass(frozen=True, slots=True)
class WireSwitch:
    """A switch of the site."""

    name: str
    above: str  # where it hangs, in words; empty: at the top
    ports: tuple[WirePort, ...]
    problem: str  # why it cannot be read; empty: it can


@dataclass(frozen=True, slots=True)
class UsageLine:
    """What one device, or several at one port, have used."""

    name: str
    device: int | None
    where: str  # who counted, in words
    counted_by: str
    down: int  # octets to it, in the period
    up: int  # octets from it
    hours: tuple[int, ...]  # octets both ways, hour by hour, of the last week


@dataclass(frozen=True, slots=True)
class PlaceLine:
    """A place of the site."""

    name: str
    devices: int  # that were there in the period
    present: int  # at its end
    new: int  # of the devices, those that no person has reviewed


@dataclass(frozen=True, slots=True)
class NetworkLine:
    """A wireless network, its lists, and whether they are known to work."""

    ssid: str
    mode: str
    allowed: int
    denied: int
    enforcers: tuple[str, ...]  # those that site.toml names; empty: the router's page
    pushed: str  # the last push in words; empty: never
    pushed_at: datetime | None
    pending: bool  # entries or the mode were changed after it
    due_since: datetime | None  # since when time asks for another list than was typed in; None: it does not
    to_type: str  # the sheet that waits to be said done, in short: "1 to remove"; empty: none waits
    verified: str  # the last verification in words; empty: never
    verified_at: datetime | None
    works: bool | None  # its result; None: never verified, or nothing could be read


@dataclass(frozen=True, slots=True)
class AuditLine:
    """One finding about a wireless network."""

    ssid: str
    grade: str
    where: str
    about: str
    says: str
    do: str


@dataclass(frozen=True, slots=True)
class Report:
    """Everything; parts that were not asked for are empty."""

    site: str
    since: datetime
    until: datetime
    memory_since: datetime | None  # when the roster begins, if that is in the period
    parts: tuple[Part, ...]
    summary: tuple[str, ...]
    status: tuple[StatusLine, ...]  # how the site is looked after when the report is made
    attention: tuple[Concern, ...]
    devices: tuple[DeviceLine, ...]
    days: tuple[DayOfComings, ...]
    happenings: tuple[Happening, ...]  # the latest ones, in the order of time
    happenings_left_out: int
    busy: tuple[tuple[float, ...], ...]  # devices at a time, by weekday and hour; nan where no scan looked
    new: tuple[WeekOfNew, ...]
    vendors: tuple[Group, ...]
    kinds: tuple[Group, ...]
    subnets: tuple[SubnetLine, ...]
    places: tuple[PlaceLine, ...]  # empty if the site has only one
    networks: tuple[NetworkLine, ...]
    audit: tuple[AuditLine, ...]
    place: str = ""  # the only one that it is about; empty: it is about all
    switches: tuple[WireSwitch, ...] = ()  # in the order in which they hang at each other
    usage: tuple[UsageLine, ...] = ()  # who has used most first
    usage_since: datetime | None = None  # when the counts begin that the usage is about

    def has(self, part: Part) -> bool:
        """Tell whether a part was asked for."""
        return part in self.parts

    @property
    def tells_busy_hours(self) -> bool:
        """Tell whether enough was seen to say which hours are busy: one Tuesday says nothing about Tuesdays."""
        seen = sum(day.looked for day in self.days)
        return seen >= LEAST_DAYS and self.until - self.since >= timedelta(days=LEAST_DAYS)
