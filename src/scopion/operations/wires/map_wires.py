"""The map of the wires: the switches as a tree, their ports, and what hangs at each."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from scopion.model.device import Device
from scopion.model.errors import NotFound
from scopion.model.mac import MacAddress
from scopion.model.usage import UsageSource
from scopion.operations.devices.list_devices import devices
from scopion.operations.devices.place_devices import PlacesNow, places_now
from scopion.operations.site.open_site import Site
from scopion.operations.wires.fold_wires import look_now
from scopion.roster.store.open_roster import Roster
from scopion.roster.usage.history import used_since
from scopion.roster.wires.switches import KnownPort, KnownSwitch, known_ports, known_switches
from scopion.roster.wires.wire_stays import by_port, present_wire_stays

_ERRORS_OF = timedelta(hours=24)


@dataclass(frozen=True, slots=True)
class Hanger:
    """Something at a port."""

    mac: MacAddress
    device: Device | None  # None: it is no device of the roster
    on_air: bool  # it is a station of an access point there

    @property
    def called(self) -> str:
        """Return how to name it."""
        return self.device.called if self.device is not None else str(self.mac)


@dataclass(frozen=True, slots=True)
class MappedPort:
    """A port, and all that is known to hang there."""

    port: KnownPort
    hangers: tuple[Hanger, ...]  # by name, those on cable first
    unknown: int  # how many more the switch knows there
    errors: int = 0  # damaged frames that it has counted in the last day
    leads: MappedSwitch | None = None  # the switch behind it, drawn here

    @property
    def is_free(self) -> bool:
        """Tell whether nothing hangs there: it has no link."""
        return self.port.up is False and not self.hangers

    @property
    def is_uplink(self) -> bool:
        """Tell whether it leads to a switch that is drawn elsewhere."""
        return bool(self.port.leads_to) and self.leads is None


@dataclass(frozen=True, slots=True)
class MappedSwitch:
    """A switch with its ports."""

    switch: KnownSwitch
    ports: tuple[MappedPort, ...]
    by: str = ""  # its own port by which it hangs at the switch above

    @property
    def free(self) -> list[MappedPort]:
        """Return the free ports."""
        return [each for each in self.ports if each.is_free]


def map_wires(site: Site, *, look: bool = False) -> tuple[MappedSwitch, ...]:
    """Return the switches that are at the top, with all that hangs below; ``look`` reads them first.

    Raises NotFound if none was read.
    """
    if look and site.settings.switch:
        look_now(site)
    roster = site.roster_for_reading()
    known = {each.name for each in site.settings.switch}
    tried = {name: each for name, each in known_switches(roster).items() if name in known}
    switches = {name: each for name, each in tried.items() if each.read is not None}
    if not switches:
        problem = next((each.problem for each in tried.values() if each.problem), "")
        raise NotFound(
            problem or "no switch was read yet: --now reads them, and scopion watch all the time"
            if known
            else "no switch is known: write a [[switch]] into site.toml, with its name, its address and its community"
        )
    everybody = devices(site)
    owner = {mac: device for device in everybody for mac in device.macs}
    stays = by_port(present_wire_stays(roster))
    now, errors = places_now(roster, site.clock.now()), errors_lately(roster, site.clock.now())
    ports: dict[str, list[MappedPort]] = {name: [] for name in switches}
    for port in known_ports(roster).values():
        if port.port.switch in ports:
            there = _hangers([stay.mac for stay in stays.get(port.id, ()) if stay.at_edge], owner, now)
            unknown = max(0, port.adapters - len(there)) if port.up is not False else 0
            ports[port.port.switch].append(MappedPort(port, tuple(there), unknown, errors.get(port.id, 0)))
    return _trees(switches, ports, owner)


def errors_lately(roster: Roster, now: datetime) -> dict[int, int]:
    """Return how many damaged frames each port has counted in the last day, by its number in the roster."""
    told = used_since(roster, now - _ERRORS_OF)
    return {int(each.subject): each.errors for each in told if each.source is UsageSource.PORT and each.errors}


def _hangers(macs: Sequence[MacAddress], owner: Mapping[MacAddress, Device], now: PlacesNow) -> list[Hanger]:
    found = [Hanger(mac, owner.get(mac), mac in now.air) for mac in macs]
    return sorted(found, key=lambda each: (each.on_air, each.device is None, each.called.casefold()))


def _trees(
    switches: Mapping[str, KnownSwitch],
    ports: Mapping[str, Sequence[MappedPort]],
    owner: Mapping[MacAddress, Device],
) -> tuple[MappedSwitch, ...]:
    """Put each switch below the one that it hangs at; the one with the gateway is at the top, else the largest."""
    top = sorted(
        switches,
        key=lambda name: (
            not any(each.device is not None and each.device.gateway for port in ports[name] for each in port.hangers),
            -sum(bool(port.port.leads_to) for port in ports[name]),
            name,
        ),
    )
    drawn: set[str] = set()

    def tree(name: str, above: str) -> MappedSwitch:
        drawn.add(name)
        found = []
        for each in ports[name]:
            below = each.port.leads_to
            # Each is drawn once: wires in a ring, or a table that says so, end here.
            leads = tree(below, name) if below in switches and below not in drawn else None
            found.append(replace(each, leads=leads))
        by = next((each.port.short for each in ports[name] if each.port.leads_to == above), "") if above else ""
        return MappedSwitch(switches[name], tuple(found), by)

    return tuple(tree(name, "") for name in top if name not in drawn)
