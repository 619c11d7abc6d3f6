"""The values of the API. They belong to it: the core may change, and a script that reads these goes on working.

All moments have a time zone. Texts from the network are cleaned of control characters before they are stored.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from ipaddress import IPv4Address, IPv4Network, IPv6Address

from scopion.model.device import EventKind, Standing
from scopion.model.mac import MacAddress
from scopion.roster.wifi.lists import ListMode

Address = IPv4Address | IPv6Address


@dataclass(frozen=True, slots=True)
class Vendor:
    """The vendor of a MAC address."""

    name: str  # the organisation, or in brackets what the address is instead
    kind: str  # registered, shared, undisclosed, split, unassigned, private, multicast or broadcast
    prefix: str | None  # the hexadecimal digits that decided; None: no prefix did


@dataclass(frozen=True, slots=True)
class Device:
    """A device as the roster remembers it."""

    id: int
    called: str  # how to name it in a sentence: its label, its role, its name, or its first address
    standing: Standing
    label: str
    owner: str
    place: str
    note: str
    because: str  # the reason of its standing
    guest_until: date | None  # a guest's last day
    essential: bool
    present: bool
    own: bool  # it is this machine
    gateway: bool
    first_seen: datetime
    last_seen: datetime
    macs: tuple[MacAddress, ...]
    addresses: tuple[Address, ...]  # the present ones, else the latest
    host_names: tuple[str, ...]  # the best first
    vendor: str  # of its first adapter; empty without one
    kind: str  # guessed: "printer"; empty: not known


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened to a device."""

    at: datetime
    kind: EventKind
    sentence: str
    device_id: int
    mac: MacAddress | None
    address: Address


@dataclass(frozen=True, slots=True)
class Host:
    """A pair of address and MAC address that a scan saw."""

    address: Address
    mac: MacAddress | None  # None: it is beyond a router
    name: str  # its label or best name; empty without one
    vendor: str
    kind: str
    rtt_s: float | None  # seconds from request to answer; None: not measured
    device_id: int | None  # None: the roster does not know it
    ports: tuple[int, ...]  # TCP ports that accepted a connection, if any were tried


@dataclass(frozen=True, slots=True)
class Scan:
    """The result of a scan."""

    range: str  # what was scanned
    method: str
    started: datetime
    answered: int  # addresses that answered
    hosts: tuple[Host, ...]  # what is new first, then by address
    events: tuple[Event, ...]
    notes: tuple[str, ...]  # what a person should know of it, in sentences
    remembered: bool  # whether the roster took it in


@dataclass(frozen=True, slots=True)
class Sighting:
    """A device that a script saw, or knows from a record."""

    mac: MacAddress | str
    address: Address | str | None = None
    name: str = ""
    wireless: bool | None = None  # None: not known
    at: datetime | None = None  # None: now. A moment of a record; it makes no device present


@dataclass(frozen=True, slots=True)
class SubnetUse:
    """How many addresses of a subnet are used for what."""

    name: str  # as site.toml has it; empty without one
    subnet: IPv4Network
    in_use: int
    counts: dict[str, int]  # contested, used-now, used-lately, reserved, dhcp-pool, free, no-host
    scanned: datetime | None  # the end of the last complete scan; None: not remembered
    free: tuple[IPv4Address, ...]  # addresses that no device, no reservation and no pool has


@dataclass(frozen=True, slots=True)
class Report:
    """A look back on a period."""

    since: datetime
    until: datetime
    summary: tuple[str, ...]  # in sentences
    attention: tuple[str, ...]  # what needs a person, the most important first


@dataclass(frozen=True, slots=True)
class Import:
    """What a file changed, or would change."""

    kind: str
    added: tuple[str, ...]  # the names, or MAC addresses, of new devices
    changed: tuple[str, ...]
    unchanged: int
    problems: tuple[str, ...]  # lines of a list that prevent the import, and why
    left_out: tuple[str, ...]  # lines that are passed over, and why; of a record the first few


@dataclass(frozen=True, slots=True)
class Entry:
    """A device, or a bare MAC address, on a list of a network."""

    ssid: str
    list: ListMode  # ALLOW or DENY
    name: str  # empty: a device without a label
    macs: tuple[MacAddress, ...]
    description: str
    hours: str  # empty: always
    until: datetime | None
    in_effect: bool | None  # None: a person has typed it into a router's page, which cannot be read
    because: str  # why it has no effect now; empty if it has


@dataclass(frozen=True, slots=True)
class Listed:
    """The result of a change of lists on one network."""

    ssid: str
    names: tuple[str, ...]  # the devices that were put on the list or taken off it
    cautions: tuple[str, ...]  # what to be careful of, in sentences
    effects: tuple[str, ...]  # what it means, in sentences
    to_push: bool  # whether the network's enforcer, or the router's page, does not have it yet


@dataclass(frozen=True, slots=True)
class Push:
    """A list that an enforcer holds now, as it was read back; or a sheet that a person has to type into a page."""

    id: int
    ssid: str
    enforcer: str
    radios: tuple[str, ...]  # bands in GHz
    entries: dict[str, int]  # how many entries each radio held afterwards
    problem: str  # what was noticed and did not stop it; empty: nothing
    sheet: str = ""  # the steps for a page, as text; it waits until ``Site.done``; empty: nothing is to be typed


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that a verification looked at."""

    where: str
    what: str
    met: bool | None  # None: it could not be read
    says: str


@dataclass(frozen=True, slots=True)
class Verification:
    """Whether a network's list is in force and works."""

    ssid: str
    met: bool  # nothing contradicts the list, and at least something could be read
    checks: tuple[Check, ...]
    notes: tuple[str, ...]
