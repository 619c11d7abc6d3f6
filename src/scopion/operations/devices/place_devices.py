"""Where devices are, by cable and on the air: read from the roster, for the tables, the card, alerts and ``where``."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from scopion.model.band import at_band
from scopion.model.device import Device
from scopion.model.mac import MacAddress
from scopion.model.signal import strength_of
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.associations import Association, associations
from scopion.roster.wires.switches import KnownPort, known_ports
from scopion.roster.wires.wire_stays import WireStay, present_wire_stays, wire_stays_of

if TYPE_CHECKING:
    from scopion.roster.wifi.air_sessions import AirSession
    from scopion.roster.wifi.air_stays import AirStay

# What a reading told longer ago says where an adapter was, not where it is.
_AIR_FRESH = timedelta(minutes=45)


@dataclass(frozen=True, slots=True)
class Spot:
    """A place of an adapter, for some time: a port, or an access point."""

    mac: MacAddress
    since: datetime
    until: datetime  # when it was told last
    present: bool
    port: KnownPort | None = None  # by cable: where it hangs
    vlan: int = 0
    at_edge: bool = True  # False: it is behind that port, and no switch nearer to it can be read
    access_point: str = ""  # on the air
    ssid: str = ""
    radio: str = ""
    signal: int | None = None  # dBm: the latest, else the mean
    weak: float = 0.0  # the share of readings below -80 dBm

    @property
    def on_air(self) -> bool:
        """Tell whether it is a place on the air."""
        return self.port is None

    @property
    def where(self) -> str:
        """Return it in words: ``office 3, left``, ``port 7 of workshop switch``, ``counter, 5 GHz``."""
        if self.port is None:
            return at_band(self.access_point, self.radio)
        return self.port.where if self.at_edge else f"behind {self.port.where}"

    @property
    def at_length(self) -> str:
        """Return it with the port behind a socket's name."""
        if self.port is None:
            return self.where
        return self.port.at_length if self.at_edge else f"behind {self.port.at_length}"

    @property
    def strength(self) -> str:
        """Return how strong the signal is, in a word; empty if it is not known."""
        return strength_of(self.signal) if self.signal is not None else ""


@dataclass(frozen=True, slots=True)
class PlacesNow:
    """Where all adapters are now, read once for a whole list."""

    wires: Mapping[MacAddress, Spot]
    air: Mapping[MacAddress, Spot]

    def __bool__(self) -> bool:
        """Tell whether anything is known."""
        return bool(self.wires or self.air)

    def of(self, device: Device) -> Spot | None:
        """Return where a device is: on the air if an access point tells, else by cable; None if it is not known."""
        for places in (self.air, self.wires):
            for mac in device.macs:
                if mac in places:
                    return places[mac]
        return None

    def all_of(self, device: Device) -> tuple[Spot, ...]:
        """Return where each adapter of a device is now, as far as it is known."""
        found = (self.air.get(mac) or self.wires.get(mac) for mac in device.macs)
        return tuple(each for each in found if each is not None)

    def socket_of(self, device: Device) -> str:
        """Return the socket at which a device hangs by cable; empty if it has no name, or other devices pass it on."""
        spots = (self.wires[mac] for mac in device.macs if mac in self.wires and mac not in self.air)
        return next((each.port.socket for each in spots if each.port is not None and each.at_edge), "")


def places_now(roster: Roster, now: datetime) -> PlacesNow:
    """Return where all adapters are, as far as switches and access points tell."""
    stays = present_wire_stays(roster)
    ports = known_ports(roster) if stays else {}
    wires = {mac: _wire_spot(stay, ports[stay.port]) for mac, stay in stays.items() if stay.port in ports}
    air = {mac: _met_spot(each) for mac, each in associations(roster).items() if now - each.seen <= _AIR_FRESH}
    return PlacesNow(wires, air)


def spots_of(roster: Roster, macs: Sequence[MacAddress], since: datetime, now: datetime) -> list[Spot]:
    """Return the places of some adapters that were not over by a moment, the present and latest first.

    The latest of each adapter is among them, however old it is.
    """
    from scopion.roster.wifi.air_sessions import sessions_since  # a table of all devices needs neither
    from scopion.roster.wifi.air_stays import air_stays_of

    ports = known_ports(roster)
    found = [_wire_spot(stay, ports[stay.port]) for stay in wire_stays_of(roster, macs, since) if stay.port in ports]
    met = associations(roster)
    on_air = air_stays_of(roster, macs, since)
    found += [_air_spot(stay, met.get(stay.mac), now) for stay in on_air]
    told = {(stay.mac, stay.access_point) for stay in on_air}
    by_accounting = [each for those in sessions_since(roster, since).values() for each in those if each.mac in macs]
    found += [_session_spot(each) for each in by_accounting if (each.mac, each.access_point) not in told]
    seen = {spot.mac for spot in found if spot.on_air}
    found += [
        _met_spot(met[mac], present=now - met[mac].seen <= _AIR_FRESH) for mac in macs if mac in met and mac not in seen
    ]
    return sorted(found, key=lambda spot: (spot.present, spot.until), reverse=True)


def others_at(
    roster: Roster, spot: Spot, devices: Iterable[Device], but: Sequence[MacAddress]
) -> tuple[list[str], int]:
    """Return what shares its port with a device: the names of those that have one, and how many others there are."""
    if spot.port is None:
        return [], 0
    there = [mac for mac, stay in present_wire_stays(roster).items() if stay.port == spot.port.id and mac not in but]
    names = {mac: device.called for device in devices if device.label for mac in device.macs}
    named = sorted({names[mac] for mac in there if mac in names})
    unnamed = max(len(there), spot.port.adapters - 1) - sum(mac in names for mac in there)
    return named, max(0, unnamed)


def _wire_spot(stay: WireStay, port: KnownPort) -> Spot:
    return Spot(stay.mac, stay.since, stay.until, stay.present, port=port, vlan=stay.vlan, at_edge=stay.at_edge)


def _air_spot(stay: AirStay, met: Association | None, now: datetime) -> Spot:
    present = stay.present and now - stay.until <= _AIR_FRESH
    latest = met.signal if met is not None and present and met.access_point == stay.access_point else None
    return Spot(
        stay.mac, stay.since, stay.until, present, access_point=stay.access_point, ssid=stay.ssid, radio=stay.radio,
        signal=latest if latest is not None else stay.signal, weak=stay.weak / stay.heard if stay.heard else 0.0,
    )  # fmt: skip


def _session_spot(each: AirSession) -> Spot:
    return Spot(each.mac, each.since, each.until, each.present, access_point=each.access_point, ssid=each.ssid)


def _met_spot(each: Association, *, present: bool = True) -> Spot:
    return Spot(
        each.mac, each.since or each.seen, each.seen, present, access_point=each.access_point, ssid=each.ssid,
        radio=each.radio, signal=each.signal,
    )  # fmt: skip
