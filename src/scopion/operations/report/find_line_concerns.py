"""What needs attention about cables and signals: ports that count errors, slow links, stations hardly heard."""

from __future__ import annotations

import shlex
from collections import defaultdict
from collections.abc import Iterator, Mapping
from datetime import timedelta

from scopion.model.band import at_band
from scopion.model.device import Device
from scopion.model.mac import MacAddress
from scopion.model.text import joined
from scopion.operations.site.open_site import Site
from scopion.operations.wires.map_wires import errors_lately
from scopion.reports.content import Concern, Weight
from scopion.roster.read_devices import all_devices
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.air_stays import AirStay, air_stays_since
from scopion.roster.wires.switches import KnownPort, known_ports
from scopion.roster.wires.wire_stays import by_port, present_wire_stays

# A plug that is pulled counts a few damaged frames; a bad cable counts them all day.
_ERRORS = 50
_SLOW_MBIT = 10
_WEEK = timedelta(days=7)
_HEARD = 12  # readings, without which a week says nothing
_MOST_OF = 0.5


def line_concerns(site: Site, roster: Roster) -> Iterator[Concern]:
    """Yield them: ports first, then stations."""
    now = site.clock.now()
    owner = {mac: device for device in all_devices(roster) for mac in device.macs}
    ports = known_ports(roster)
    there = by_port(present_wire_stays(roster))
    names = {
        number: joined([_called(owner, stay.mac) for stay in stays[:3]]) for number, stays in there.items() if stays
    }
    for number, errors in sorted(errors_lately(roster, now).items(), key=lambda each: -each[1]):
        port = ports.get(number)
        if port is not None and errors >= _ERRORS:
            says = (
                f"{_at(port, names)} has counted {errors} damaged frames in the last day: a bad cable or plug, or two "
                "ends that do not agree about the speed."
            )
            yield Concern(Weight.MEDIUM, says, "scopion map --wires")
    for port in ports.values():
        if port.up and port.speed_mbit == _SLOW_MBIT:
            why = "a very old device, or a cable with a broken wire"
            says = f"{_at(port, names)} has a link of {_SLOW_MBIT} Mbit/s: {why}."
            yield Concern(Weight.MEDIUM, says, "scopion map --wires")
    yield from _hardly_heard(air_stays_since(roster, now - _WEEK), owner)


def _at(port: KnownPort, names: Mapping[int, str]) -> str:
    """Return a port with what hangs there: ``glaze scale, at glaze bench (port 7 of workshop switch),``."""
    who = f"to {port.leads_to}" if port.leads_to else names.get(port.id, "")
    return f"{who}, at {port.at_length}," if who else f"{port.at_length[:1].upper()}{port.at_length[1:]}"


def _hardly_heard(stays: list[AirStay], owner: Mapping[MacAddress, Device]) -> Iterator[Concern]:
    """Yield stations whose signal was weak most of the week."""
    of_mac: dict[MacAddress, list[AirStay]] = defaultdict(list)
    for stay in stays:
        if stay.mac in owner:
            of_mac[stay.mac].append(stay)
    for mac, those in of_mac.items():
        heard, weak = sum(each.heard for each in those), sum(each.weak for each in those)
        if heard >= _HEARD and weak > heard * _MOST_OF:
            last = max(those, key=lambda each: each.until)
            name = _called(owner, mac)
            says = (
                f"{name} is hardly heard by {at_band(last.access_point, last.radio)}: below -80 dBm most of the week. "
                "Move one of them, or a nearer access point would help."
            )
            yield Concern(Weight.LOW, says, f"scopion where {shlex.quote(owner[mac].label or str(mac))}")


def _called(owner: Mapping[MacAddress, Device], mac: MacAddress) -> str:
    return owner[mac].called if mac in owner else str(mac)
