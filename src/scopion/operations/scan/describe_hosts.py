"""Hosts as rows: what one scan saw at an address, with what is known and guessed of the device there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address

from scopion.alerts.news import ORDER
from scopion.discovery.kinds import Guess, Kinds
from scopion.model.address import Address, by_number
from scopion.model.device import NAME_ORDER, Device, Event, EventKind, Standing, short_name
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, Trait, TraitKind
from scopion.model.text import whole_number
from scopion.operations.devices.identify_device import guess
from scopion.vendors.registry import Vendor, Vendors


@dataclass(frozen=True, slots=True)
class Host:
    """One pair of address and MAC that was seen, with what is known of it."""

    address: Address
    mac: MacAddress | None  # None: beyond a router, and no source has told it
    vendor: Vendor | None  # None without a MAC
    rtt_s: float | None
    device: Device | None  # None: the roster does not know it
    own: bool
    gateway: bool
    news: EventKind | None = None
    also: tuple[Address, ...] = ()  # the adapter's IPv6 addresses, which have no row of their own
    names: tuple[Trait, ...] = ()  # the best first; its label is not among them
    traits: tuple[Trait, ...] = ()  # all that it said, and that was said of it
    guess: Guess = field(default_factory=Guess)

    @property
    def name(self) -> str:
        """Return its label, else its best short name; empty if it has none."""
        label = self.device.label if self.device else ""
        return label or (short_name(self.names[0].value) if self.names else "")

    @property
    def ports(self) -> tuple[int, ...]:
        """Return the TCP ports that accepted connections, if any were tried."""
        said = (whole_number(trait.value, 65_535) for trait in self.traits if trait.kind is TraitKind.PORT)
        return tuple(sorted(port for port in said if port is not None))

    @property
    def weight(self) -> int:
        """Return where the eye should go first: unwanted devices, then news by importance, then the rest."""
        if self.device is not None and self.device.standing is Standing.UNWANTED:
            return -1
        return ORDER.index(self.news) if self.news is not None else len(ORDER)


class Describer:
    """Makes rows, and holds what does not change from host to host."""

    def __init__(
        self, vendors: Vendors, kinds: Kinds, devices: Iterable[Device], gateways: Iterable[Address | None]
    ) -> None:
        self._vendors = vendors
        self._kinds = kinds
        self._gateways = set(gateways)
        known = list(devices)
        self._of_mac = {mac: device for device in known for mac in device.macs}
        self._of_address = {stay.address: device for device in known for stay in device.unpaired}

    def host(self, group: Sequence[Observation], news: EventKind | None = None, also: Sequence[Address] = ()) -> Host:
        """Return the row for the observations of one pair of address and MAC; the first one identifies it."""
        first = group[0]
        assert first.address is not None
        device = self._of_mac.get(first.mac) if first.mac else self._of_address.get(first.address)
        vendor = self._vendors.of(first.mac) if first.mac else None
        gateway = first.address in self._gateways
        heard = [trait for seen in group for trait in seen.traits]
        known = [each.trait for each in device.traits] if device else []
        traits = tuple(dict.fromkeys((*heard, *known)))
        own = any(seen.source is Source.OWN for seen in group)
        return Host(
            address=first.address,
            mac=first.mac,
            vendor=vendor,
            rtt_s=next((seen.rtt_s for seen in group if seen.rtt_s is not None), None),
            device=device,
            own=own,
            gateway=gateway,
            news=news,
            also=tuple(sorted(also, key=by_number)),
            names=best_names(traits),
            traits=traits,
            guess=guess(self._kinds, None if own else first.mac, vendor, traits, gateway=gateway),
        )

    def hosts(self, seen: Sequence[Observation], events: Sequence[Event]) -> list[Host]:
        """Return the rows of a scan: unwanted devices and those with news first, then by address."""
        news: dict[MacAddress | Address, EventKind] = {}
        for event in events:  # a return to another address is two events: the return comes first, and is the news
            news.setdefault(event.mac or event.address, event.kind)
        rows = []
        unplaced: dict[MacAddress | Address | None, list[Observation]] = {}
        for each in seen:
            if each.address is None:  # what an adapter said before it had an address
                unplaced.setdefault(each.mac, []).append(each)
        for key, groups in _grouped(seen).items():
            in_rows: list[Address] = [address for address in groups if isinstance(address, IPv4Address)] or [
                min(groups, key=lambda address: (address.is_link_local, by_number(address)))
            ]
            also = [address for address in groups if address not in in_rows]
            shared = [each for address in also for each in groups[address]]  # what it said by IPv6 holds for it, too
            shared += unplaced.get(key, ())
            for address in in_rows:
                rows.append(self.host([*groups[address], *shared], news.get(key), also))
        return sorted(rows, key=lambda row: (row.weight, by_number(row.address), str(row.mac)))


def best_names(traits: Iterable[Trait]) -> tuple[Trait, ...]:
    """Return the names among some traits, the best source first."""
    names = [trait for trait in traits if trait.kind is TraitKind.NAME]
    return tuple(sorted(names, key=lambda name: NAME_ORDER.index(name.source)))


def _grouped(seen: Sequence[Observation]) -> Mapping[MacAddress | Address, dict[Address, list[Observation]]]:
    """Group by adapter (by address without a MAC address) and address."""
    found: dict[MacAddress | Address, dict[Address, list[Observation]]] = {}
    for each in seen:
        if each.address is not None:
            found.setdefault(each.mac or each.address, {}).setdefault(each.address, []).append(each)
    return found
