"""Devices as the roster remembers them, their standing, and events."""

from __future__ import annotations

from dataclasses import field
from datetime import UTC, date, datetime
from enum import StrEnum

from scopion.model.address import Address, by_number
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Source, Trait, TraitKind
from scopion.model.value import value


class Standing(StrEnum):
    """What the administrator thinks of a device. It is not an entry on a list."""

    NEW = "new"
    KNOWN = "known"
    GUEST = "guest"
    UNWANTED = "unwanted"


# In this order they need attention.
BY_URGENCY = (Standing.UNWANTED, Standing.NEW, Standing.GUEST, Standing.KNOWN)


class EventKind(StrEnum):
    """A change worth remembering."""

    JOINED = "joined"
    RETURNED = "returned"
    LEFT = "left"
    READDRESSED = "readdressed"
    CONTESTED = "contested"  # one address, two MAC addresses
    GATEWAY_CHANGED = "gateway-changed"
    RENAMED = "renamed"  # it has another name than before
    UNWANTED_PRESENT = "unwanted-present"
    GUEST_OVERSTAYED = "guest-overstayed"
    UNLISTED_PRESENT = "unlisted-present"  # it is wireless and on no allow list, and an allow list is in force
    NETWORK_DOWN = "network-down"  # no device of a subnet answers; an event of the gateway, else of this machine
    NETWORK_BACK = "network-back"
    SHEET_DUE = "sheet-due"  # time has changed a list that a person types in; an event of the gateway, as well
    MISSING = "missing"  # it must be here, and has been silent for longer than it may be
    MISSING_BACK = "missing-back"
    REFUSED_ATTEMPT = "refused-attempt"  # it is refused on the air, and asked to associate
    SENSOR_LOST = "sensor-lost"  # a sensor says nothing any more; an event of a device of its place
    SENSOR_BACK = "sensor-back"
    USES_MUCH = "uses-much"  # more of the line than a limit of site.toml says
    MOVED = "moved"  # site.toml says that it does not move, and it is at another port or access point


# Which source of names is the best: the administrator's DNS, then the device itself, then servers and lists.
NAME_ORDER = (
    Source.DNS, Source.MDNS, Source.DHCP, Source.LEASES, Source.NETBIOS, Source.LLMNR, Source.CLIENT_LIST,
    Source.SSDP, Source.LISTING,
)  # fmt: skip


def short_name(name: str) -> str:
    """Return the first label of a host name: ``till`` of ``till.kilnhaven.example``."""
    return name.partition(".")[0] or name


# The moment of a device that only undated records tell of: before every real moment.
NEVER = datetime.fromtimestamp(0, UTC)


@value
class Stay:
    """An unbroken presence of an adapter at an address; ``until`` is when it was last seen there."""

    mac: MacAddress | None  # None: a host beyond a router whose MAC address is not known
    address: Address
    since: datetime
    until: datetime
    present: bool
    source: Source | None = None  # the source that told it first; None: not remembered
    place: str = ""  # empty: the only place, which has no name

    @property
    def dated(self) -> bool:
        """Tell whether the time of the stay is known; a record may give an address only."""
        return self.until != NEVER


@value
class KnownTrait:
    """A trait, and the first and last time that it was heard."""

    trait: Trait
    first_seen: datetime
    last_seen: datetime


@value
class Adapter:
    """A network card, identified by its MAC address."""

    mac: MacAddress
    medium: Medium
    first_seen: datetime
    last_seen: datetime
    stays: tuple[Stay, ...] = ()  # the present stays, else the latest ones
    medium_evidence: str = ""  # the evidence for the medium; empty if the interface itself says so
    traits: tuple[KnownTrait, ...] = ()  # the latest first

    @property
    def present(self) -> bool:
        """Tell whether the adapter has an open stay."""
        return any(stay.present for stay in self.stays)


@value
class Device:
    """A thing with one or more adapters, and what people said of it."""

    id: int
    standing: Standing
    first_seen: datetime
    label: str = ""
    owner: str = ""
    place: str = ""
    note: str = ""
    guest_until: date | None = None
    standing_since: datetime | None = None  # None: no person has set it yet
    because: str = ""  # the reason that a person gave
    revision: int = field(default=0, compare=False)  # grows with every change by people
    own: bool = False  # one of its adapters belongs to this machine
    gateway: bool = False  # one of its adapters is the gateway of a subnet of this machine's place
    adapters: tuple[Adapter, ...] = ()
    unpaired: tuple[Stay, ...] = ()  # its stays while its MAC address was not known
    unpaired_traits: tuple[KnownTrait, ...] = ()
    essential: bool = False  # it must never be refused on the air
    gateway_in: tuple[str, ...] = ()  # the other places in which one of its adapters is a subnet's gateway

    @property
    def stays(self) -> tuple[Stay, ...]:
        """Return the stays of its adapters, and those without a MAC address."""
        if len(self.adapters) == 1 and not self.unpaired:
            return self.adapters[0].stays
        return (*(stay for adapter in self.adapters for stay in adapter.stays), *self.unpaired)

    @property
    def present(self) -> bool:
        """Tell whether it is at any address now."""
        stays = self.stays
        return stays[0].present if len(stays) == 1 else any(stay.present for stay in stays)

    @property
    def last_seen(self) -> datetime:
        """Return when it was last seen or heard."""
        if len(self.adapters) == 1 and not self.unpaired:
            return self.adapters[0].last_seen
        moments = [adapter.last_seen for adapter in self.adapters] + [stay.until for stay in self.unpaired]
        return max(moments, default=self.first_seen)

    def stays_in(self, place: str) -> tuple[Stay, ...]:
        """Return its stays in a place, as ``stays`` has them."""
        return tuple([stay for stay in self.stays if stay.place == place])

    def last_seen_in(self, place: str) -> datetime:
        """Return when it was last seen in a place, as far as ``stays`` tells."""
        stays = self.stays_in(place)
        if len(stays) == len(self.stays):
            return self.last_seen
        return max((stay.until for stay in stays), default=self.first_seen)

    @property
    def macs(self) -> tuple[MacAddress, ...]:
        """Return the MAC addresses of its adapters."""
        return tuple([adapter.mac for adapter in self.adapters])

    @property
    def addresses(self) -> tuple[Address, ...]:
        """Return its present addresses, else the latest ones: IPv4, then IPv6 with a wide scope, then link-local."""
        stays = self.stays
        if len(stays) == 1:
            return (stays[0].address,)
        here = {stay.address for stay in stays if stay.present}
        return tuple(sorted(here or {stay.address for stay in stays}, key=by_number))

    @property
    def places(self) -> tuple[str, ...]:
        """Return the places where it is now, else where it was last; none if the only place has no name."""
        stays = self.stays
        if len(stays) == 1:
            return (stays[0].place,) if stays[0].place else ()
        here = {stay.place for stay in stays if stay.present}
        if not here and stays:
            here = {max(stays, key=lambda stay: stay.until).place}
        return tuple(sorted(here - {""}))

    @property
    def traits(self) -> tuple[KnownTrait, ...]:
        """Return everything that was heard of it, the latest first."""
        if len(self.adapters) == 1 and not self.unpaired_traits:
            return self.adapters[0].traits
        every = [*(each for adapter in self.adapters for each in adapter.traits), *self.unpaired_traits]
        return tuple(sorted(every, key=lambda known: known.last_seen, reverse=True))

    @property
    def host_names(self) -> tuple[Trait, ...]:
        """Return its host names, the best first: by source, then by time. Its label is not among them."""
        names = [known.trait for known in self.traits if known.trait.kind is TraitKind.NAME]
        if len(names) < 2:
            return tuple(names)
        return tuple(sorted(names, key=lambda name: NAME_ORDER.index(name.source)))

    @property
    def name(self) -> str:
        """Return its label, else its best short name; empty if it has none."""
        names = self.host_names
        return self.label or (short_name(names[0].value) if names else "")

    @property
    def called(self) -> str:
        """Return how to name it in a sentence: label, role (this machine, gateway), name, MAC or address."""
        role = "this machine" if self.own else "the gateway" if self.gateway else ""
        if not role and self.gateway_in:
            role = f"the gateway of {self.gateway_in[0]}"
        known_by = [str(adapter.mac) for adapter in self.adapters] + [str(stay.address) for stay in self.unpaired]
        return self.label or role or self.name or (known_by[0] if known_by else f"device {self.id}")


@value
class Event:
    """Something that happened to a device. The ``was`` fields hold the state before, depending on the kind."""

    kind: EventKind
    at: datetime
    device_id: int
    mac: MacAddress | None  # None: a host whose MAC address is not known
    address: Address
    was_address: Address | None = None  # readdressed, returned: its address before
    away_since: datetime | None = None  # returned, missing: when it was seen last; sheet-due: since when
    other_mac: MacAddress | None = None  # contested: the other adapter; gateway-changed: the gateway before
    # renamed: the new name; network-down, network-back: the subnet; sheet-due, refused-attempt: SSID; missing: shared;
    # sensor-lost, sensor-back: the sensor; moved: where it is;
    # uses-much: how much
    name: str = ""
    # renamed: the old name; network-down, missing: the reason, if known; sheet-due: page; refused-attempt: access
    # point; moved: where it was
    was_name: str = ""
    place: str = ""  # where it happened; empty: the only place, which has no name
    id: int = field(default=0, compare=False)
