"""Folds what switches tell into the roster: their ports, and where each adapter hangs. Queues what is worth telling."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

from scopion.discovery.wires.locate_adapters import Wiring, locate
from scopion.model.errors import NotFound, ScopionError
from scopion.model.wires import Port, SwitchPort, SwitchReading
from scopion.operations.intake.count_octets import port_counts, take_counts
from scopion.operations.intake.take_in import TakenIn
from scopion.operations.intake.tell_moved import tell_moved
from scopion.operations.site.open_site import Site
from scopion.operations.stations.list_stations import look_at_stations
from scopion.operations.wires.read_switches import read_switches
from scopion.roster.folding.note_moved import Move
from scopion.roster.wires.sockets import sockets
from scopion.roster.wires.switches import (
    KnownPort,
    forget_switches,
    known_ports,
    note_ports,
    note_switch,
    note_unread,
)
from scopion.roster.wires.wire_stays import Hung, hung_last, note_hanging


def look_now(site: Site) -> None:
    """Read the switches and the access points now: what cannot be read is remembered with its reason.

    Raises NotFound if there is nothing to read.
    """
    if site.settings.switch:
        look_at_wires(site)
    elif not site.settings.enforcer:
        raise NotFound("nothing can be asked: write a [[switch]] or an [[enforcer]] into site.toml")
    if site.settings.enforcer:
        look_at_stations(site)


def look_at_wires(site: Site) -> TakenIn:
    """Read all switches now and fold what they tell. Raises NotFound if there is none; one that cannot be read is
    remembered with its reason.
    """
    read = read_switches(site)
    readings = {name: each for name, each in read.items() if isinstance(each, SwitchReading)}
    with site.roster.transaction():
        for name, error in read.items():
            if isinstance(error, ScopionError):
                note_unreadable(site, name, str(error))
        return fold_wires(site, readings, readings.keys())


def note_unreadable(site: Site, name: str, problem: str) -> None:
    """Remember that a switch cannot be read, and why."""
    note_unread(site.roster, name, problem, site.clock.now())


def fold_wires(site: Site, readings: Mapping[str, SwitchReading], fresh: Collection[str]) -> TakenIn:
    """Fold the latest readings of all switches, of which some are ``fresh``: what they tell is as of now.

    The others help to decide which port is at the edge.
    """
    roster, now = site.roster, site.clock.now()
    with roster.transaction():
        named = [each.name for each in site.settings.switch]
        forget_switches(roster, named)
        before = known_ports(roster)
        wiring = locate(
            list(readings.values()),
            led_before={each.port: each.leads_to for each in before.values() if each.leads_to in named},
            hung_before={mac: before[port].port for mac, port in hung_last(roster).items() if port in before},
            addresses={each.name: (each.address,) for each in site.settings.switch},
        )
        by_port = {each.port: each for each in before.values()}
        numbers = {each.port: each.id for each in by_port.values()}
        for name in fresh:
            reading = readings[name]
            note_switch(roster, name, reading.name, now, reading.remarks)
            ports = [_as_known(Port(name, each.name), each, wiring) for each in reading.ports]
            if reading.neighbours is None:
                ports = [_as_heard_before(each, by_port.get(each.port)) for each in ports]
            numbers |= note_ports(roster, name, ports, now)
            take_counts(site, port_counts(reading, numbers, wiring, sockets(roster)))
        hanging = [
            Hung(mac, numbers[each.port], each.vlan, each.at_edge)
            for mac, each in wiring.hanging.items()
            if each.port.switch in fresh and each.port in numbers
        ]
        down = [numbers[Port(name, each.name)] for name in fresh for each in readings[name].ports if each.up is False]
        moved = note_hanging(roster, hanging, now, down)
        if not moved:
            return TakenIn()
        known = known_ports(roster)
        # What seemed to hang at a port because the switch behind it had not been read has not moved.
        linked = {each.id for each in known.values() if each.port in wiring.leads_to and each.up is not False}
        where = {number: port.at_length for number, port in known.items()}
        return tell_moved(
            site,
            [
                Move(each.mac, where.get(each.was, "a port that is gone"), where[each.now])
                for each in moved
                if each.was not in linked
            ],
        )


def _as_known(port: Port, now: SwitchPort, wiring: Wiring) -> KnownPort:
    behind = wiring.behind.get(port)
    return KnownPort(
        id=0,
        port=port,
        number=now.number,
        alias=now.alias,
        speed_mbit=now.speed_mbit,
        up=now.up,
        leads_to=wiring.leads_to.get(port, ""),
        behind=(behind.name or "another device") if behind is not None else "",
        radio=behind is not None and behind.radio,
        adapters=wiring.sharing.get(port, 0),
    )


def _as_heard_before(port: KnownPort, before: KnownPort | None) -> KnownPort:
    """Return it with the neighbour that was heard there before: the switch does not tell its neighbours now."""
    return replace(port, behind=before.behind, radio=before.radio) if before is not None and not port.leads_to else port
