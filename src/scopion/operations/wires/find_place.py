"""Where one device is: now, since when, and over the last week."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.model.device import Device
from scopion.model.errors import InvalidMacAddress, NotFound
from scopion.model.mac import MacAddress
from scopion.model.signal import strength_of
from scopion.operations.devices.list_devices import devices
from scopion.operations.devices.place_devices import Spot, others_at, spots_of
from scopion.operations.site.open_site import Site
from scopion.roster.resolve import resolve
from scopion.roster.wires.switches import KnownPort, KnownSwitch, known_ports, known_switches

WEEK = timedelta(days=7)


@dataclass(frozen=True, slots=True)
class Lately:
    """A place over the last week, all times there together."""

    where: str
    lasted: timedelta
    until: datetime  # when it was there last
    present: bool
    signal: int | None = None  # dBm, the mean
    weak: float = 0.0  # the share of readings below -80 dBm
    stays: int = 1  # how often it came there

    @property
    def strength(self) -> str:
        """Return the signal in a word; empty if it is not known."""
        return strength_of(self.signal) if self.signal is not None else ""


@dataclass(frozen=True, slots=True)
class FoundPlace:
    """Where an adapter is, or was last."""

    spot: Spot
    named: tuple[str, ...] = ()  # what hangs at the same port and has a label
    others: int = 0  # and how many more
    carrier: KnownPort | None = None  # on the air: the port at which the access point hangs
    switch: KnownSwitch | None = None  # the switch that told


@dataclass(frozen=True, slots=True)
class FoundDevice:
    """The answer: a device, or an adapter that is no device of the roster."""

    device: Device | None
    macs: tuple[MacAddress, ...]
    places: tuple[FoundPlace, ...]  # one of each adapter that has one, the present ones first
    lately: tuple[Lately, ...]
    problem: str = ""  # why a switch cannot be read; empty: each can, or none was tried

    @property
    def called(self) -> str:
        """Return how to name it."""
        return self.device.called if self.device is not None else str(self.macs[0])

    @property
    def is_somewhere(self) -> bool:
        """Tell whether it is known where it is now."""
        return any(each.spot.present for each in self.places)


def find_place(site: Site, which: str, *, look: bool = False) -> FoundDevice:
    """Return where a device is; ``look`` reads the switches and access points first. Raises NotFound, AmbiguousDevice.

    ``which`` may also be the MAC address of an adapter that only a switch knows.
    """
    if look:
        from scopion.operations.wires.fold_wires import look_now  # most answers come from the roster alone

        look_now(site)
    roster, now = site.roster_for_reading(), site.clock.now()
    everybody = devices(site)
    device, macs = _meant(everybody, which)
    spots = spots_of(roster, macs, now - WEEK, now)
    if not spots and device is None:
        raise NotFound(f"no device and no switch knows {which}")
    ports, switches = known_ports(roster), known_switches(roster)
    latest: dict[MacAddress, Spot] = {}
    for spot in spots:
        kept = latest.get(spot.mac)
        # An access point says more than the port at which that access point hangs.
        if kept is None or (spot.present and spot.on_air and not kept.on_air):
            latest[spot.mac] = spot
    places = []
    for spot in latest.values():
        named, others = others_at(roster, spot, everybody, macs)
        switch = switches.get(spot.port.port.switch) if spot.port is not None else None
        wire = next((each for each in spots if each.mac == spot.mac and not each.on_air and each.present), None)
        carrier = ports.get(wire.port.id) if spot.on_air and wire is not None and wire.port is not None else None
        places.append(FoundPlace(spot, tuple(named), others, carrier, switch))
    problem = next((each.problem for each in switches.values() if each.problem), "")
    return FoundDevice(device, tuple(macs), tuple(places), _lately(spots, now), problem)


def _meant(everybody: Sequence[Device], which: str) -> tuple[Device | None, Sequence[MacAddress]]:
    try:
        device = resolve(everybody, which)
    except NotFound as unknown:
        try:
            return None, (MacAddress.parse(which),)
        except InvalidMacAddress:
            raise unknown from None
    return device, device.macs


def _lately(spots: Sequence[Spot], now: datetime) -> tuple[Lately, ...]:
    """Return the places of the last week, the longest first; the port of an access point is no place of its own."""
    on_air = [(spot.since, spot.until) for spot in spots if spot.on_air]
    groups: dict[str, list[Spot]] = {}
    for spot in spots:
        if spot.until < now - WEEK:
            continue
        if not spot.on_air and any(since <= spot.until and spot.since <= until for since, until in on_air):
            continue
        groups.setdefault(spot.at_length, []).append(spot)
    found = []
    for where, group in groups.items():
        told = [spot for spot in group if spot.signal is not None]
        found.append(
            Lately(
                where,
                sum((spot.until - max(spot.since, now - WEEK) for spot in group), timedelta()),
                max(spot.until for spot in group),
                any(spot.present for spot in group),
                round(sum(spot.signal or 0 for spot in told) / len(told)) if told else None,
                max((spot.weak for spot in group), default=0.0),
                len(group),
            )
        )
    return tuple(sorted(found, key=lambda each: (each.present, each.lasted), reverse=True))
