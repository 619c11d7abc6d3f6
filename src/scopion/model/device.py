"""Devices as the roster remembers them, their standing, and the events that are worth remembering."""

from __future__ import annotations

from dataclasses import field
from datetime import UTC, date, datetime
from enum import StrEnum

from scopion.model.address import Address, by_number
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Source, Trait, TraitKind
from scopion.model.value import value


class Standing(StrEnum):
    """What we think of a device. It is not an entry on a list."""

    NEW = "new"
    KNOWN = "known"
    GUEST = "guest"
    UNWANTED = "unwanted"


# What somebody has to look at comes first.
BY_URGENCY = (Standing.UNWANTED, Standing.NEW, Standing.GUEST, Standing.KNOWN)


class EventKind(StrEnum):
    """A change worth remembering."""

    JOINED = "joined"
    RETURNED = "returned"
    LEFT = "left"
    READDRESSED = "readdressed"
    CONTESTED = "contested"  # one address, two MACs
    GATEWAY_CHANGED = "gateway-changed"
    RENAMED = "renamed"  # it calls itself otherwise
    UNWANTED_PRESENT = "unwanted-present"
    GUEST_OVERSTAYED = "guest-overstayed"
    UNLISTED_PRESENT = "unlisted-present"  # wireless, and on no allow list though one is in force
    NETWORK_DOWN = "network-down"  # of a whole subnet nobody answers; told of its gateway, else of this machine
    NETWORK_BACK = "network-back"


# Which name is the best: the administrator's own DNS, what the device calls itself, what servers and people noted.
NAME_ORDER = (
    Source.DNS, Source.MDNS, Source.DHCP, Source.LEASES, Source.NETBIOS, Source.LLMNR, Source.CLIENT_LIST,
    Source.SSDP, Source.LISTING,
)  # fmt: skip


def short_name(name: str) -> str:
    """The first label of a host name: ``till`` of ``till.kilnhaven.example``."""
    return name.partition(".")[0] or name


# When a device was last seen of which only undated records are known: before all time that counts.
NEVER = datetime.fromtimestamp(0, UTC)


@value
class Stay:
    """An unbroken presence of an adapter at an address; ``until`` is when it was last seen there."""

    mac: MacAddress | None  # None: a host beyond a router whose MAC is not known
    address: Address
    since: datetime
    until: datetime
    present: bool
    source: Source | None = None  # who told of it first; None: not remembered

    @property
    def dated(self) -> bool:
        """Whether it is known when it was; a record may tell an address only."""
        return self.until != NEVER


@value
class KnownTrait:
    """A trait, and from when to when it was heard."""

    trait: Trait
    first_seen: datetime
    last_seen: datetime


@value
class Adapter:
    """A network card, by its MAC address."""

    mac: MacAddress
    medium: Medium
    first_seen: datetime
    last_seen: datetime
    stays: tuple[Stay, ...] = ()  # the present ones, else the latest
    medium_evidence: str = ""  # why it is taken for that; empty if the interface itself said so
    traits: tuple[KnownTrait, ...] = ()  # what was heard last comes first

    @property
    def present(self) -> bool:
        """Whether the adapter has an open stay."""
        return any(stay.present for stay in self.stays)


@value
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
    standing_since: datetime | None = None  # None: nobody has said anything of it yet
    because: str = ""  # why it was marked so
    revision: int = field(default=0, compare=False)  # grows with every change of people
    own: bool = False  # one of its adapters is this machine's
    gateway: bool = False  # one of its adapters is a subnet's gateway
    adapters: tuple[Adapter, ...] = ()
    unpaired: tuple[Stay, ...] = ()  # where it was seen while its MAC was not known
    unpaired_traits: tuple[KnownTrait, ...] = ()
    essential: bool = False  # at no time may it be refused on the air

    @property
    def stays(self) -> tuple[Stay, ...]:
        """The stays of its adapters, and those without a MAC."""
        if len(self.adapters) == 1 and not self.unpaired:
            return self.adapters[0].stays
        return (*(stay for adapter in self.adapters for stay in adapter.stays), *self.unpaired)

    @property
    def present(self) -> bool:
        """Whether it is anywhere now."""
        stays = self.stays
        return stays[0].present if len(stays) == 1 else any(stay.present for stay in stays)

    @property
    def last_seen(self) -> datetime:
        """When it was last seen or heard."""
        if len(self.adapters) == 1 and not self.unpaired:
            return self.adapters[0].last_seen
        moments = [adapter.last_seen for adapter in self.adapters] + [stay.until for stay in self.unpaired]
        return max(moments, default=self.first_seen)

    @property
    def macs(self) -> tuple[MacAddress, ...]:
        """The MAC addresses of its adapters."""
        return tuple([adapter.mac for adapter in self.adapters])

    @property
    def addresses(self) -> tuple[Address, ...]:
        """Where it is now, or where it was last: IPv4, then IPv6 that reaches far, then the link's own."""
        stays = self.stays
        if len(stays) == 1:
            return (stays[0].address,)
        here = {stay.address for stay in stays if stay.present}
        return tuple(sorted(here or {stay.address for stay in stays}, key=by_number))

    @property
    def traits(self) -> tuple[KnownTrait, ...]:
        """All that was said of it, what was heard last first."""
        if len(self.adapters) == 1 and not self.unpaired_traits:
            return self.adapters[0].traits
        every = [*(each for adapter in self.adapters for each in adapter.traits), *self.unpaired_traits]
        return tuple(sorted(every, key=lambda known: known.last_seen, reverse=True))

    @property
    def host_names(self) -> tuple[Trait, ...]:
        """The names that it goes by, the best first: by source, then the latest. Its label is not one of them."""
        names = [known.trait for known in self.traits if known.trait.kind is TraitKind.NAME]
        if len(names) < 2:
            return tuple(names)
        return tuple(sorted(names, key=lambda name: NAME_ORDER.index(name.source)))

    @property
    def name(self) -> str:
        """Its label, else its best name in short; empty if it has none."""
        names = self.host_names
        return self.label or (short_name(names[0].value) if names else "")

    @property
    def called(self) -> str:
        """What to call it in a sentence: its label, else what it is to us, its name, its MAC or address."""
        role = "this machine" if self.own else "the gateway" if self.gateway else ""
        known_by = [str(adapter.mac) for adapter in self.adapters] + [str(stay.address) for stay in self.unpaired]
        return self.label or role or self.name or (known_by[0] if known_by else f"device {self.id}")


@value
class Event:
    """Something that happened to a device; ``was`` is the address or the moment before, by kind."""

    kind: EventKind
    at: datetime
    device_id: int
    mac: MacAddress | None  # None: a host whose MAC is not known
    address: Address
    was_address: Address | None = None  # readdressed, returned: where it was before
    away_since: datetime | None = None  # returned: when it was last seen before
    other_mac: MacAddress | None = None  # contested: the other claimant; gateway-changed: the one before
    name: str = ""  # renamed: what it calls itself now; network-down, network-back: the subnet
    was_name: str = ""  # renamed: before; network-down: why, if more is known than silence
    id: int = field(default=0, compare=False)
