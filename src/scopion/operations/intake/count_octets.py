"""Takes in counts of octets, by any means that reads them: what passed since the last reading becomes history."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime

from scopion.discovery.records.reading import Reading
from scopion.discovery.wires.locate_adapters import Wiring
from scopion.model.mac import MacAddress
from scopion.model.usage import FASTEST_BPS, Count, UsageSource
from scopion.model.wires import Port, SwitchPort, SwitchReading
from scopion.operations.site.open_site import Site
from scopion.roster.usage.counters import CountRead, last_counted, note_counts
from scopion.roster.wifi.air_sessions import AirSession
from scopion.roster.wires.switches import KnownPort
from scopion.wireless.enforcers.enforcer import Located

# The highest rate of any radio today; what an access point counts in 32 bits goes round in seconds at that rate, and in
# a minute at what one station really gets.
_AIR_BPS = 5e9
_PASTED = "pasted lists"


def count_stations(site: Site, found: Iterable[Located]) -> None:
    """Take in the counts of stations that were just read."""
    take_counts(site, station_counts(found))


def station_counts(found: Iterable[Located]) -> list[CountRead]:
    """Return what access points have counted of their stations, each since it associated."""
    return [
        CountRead(
            UsageSource.STATION,
            str(each.station.mac),
            each.access_point,
            Count(each.station.received, each.station.sent, each.station.connected_s, from_zero=True),
            _AIR_BPS,
        )
        for each in found
        if each.station.received is not None and each.station.sent is not None
    ]


def count_sessions(site: Site, sessions: Iterable[AirSession]) -> None:
    """Take in what access points have reported of associations, each from its beginning on, as of its last report."""
    with site.roster.transaction():
        for each in sorted(sessions, key=lambda each: each.until):
            read = CountRead(
                UsageSource.ACCOUNTING,
                str(each.mac),
                each.access_point,
                Count(each.received, each.sent, (each.until - each.since).total_seconds(), from_zero=True),
                _AIR_BPS,
                key=f"{each.mac} {each.access_point} {each.since.isoformat()}",
            )
            note_counts(site.roster, [read], min(each.until, site.clock.now()), site.clock.local)


def count_pasted(site: Site, reading: Reading, as_of: datetime) -> None:
    """Take in what a pasted list says of how much each client has used: two lists tell how much between them.

    A list that is older than the one before tells nothing.
    """
    read = [
        CountRead(UsageSource.LIST, str(mac), _PASTED, Count(client.received, client.sent))
        for mac, client in reading.clients.items()
        if client.received is not None and client.sent is not None and client.is_current
    ]
    before = last_counted(site.roster, UsageSource.LIST)
    if before is None or before < as_of:
        note_counts(site.roster, read, as_of, site.clock.local)


def port_counts(
    reading: SwitchReading, numbers: Mapping[Port, int], wiring: Wiring, names: Mapping[Port, str]
) -> list[CountRead]:
    """Return the counts of a switch's ports; those of an adapter that hangs alone at its port are its own."""
    alone = {
        each.port: mac
        for mac, each in wiring.hanging.items()
        if each.at_edge and wiring.sharing.get(each.port) == 1 and each.port not in wiring.behind
    }
    return [
        _port_count(reading, each, numbers[port], names.get(port, ""), alone.get(port))
        for each in reading.ports
        if each.counters is not None and (port := Port(reading.switch, each.name)) in numbers
    ]


def counts_of_known(
    reading: SwitchReading, ports: Mapping[int, KnownPort], alone: Mapping[int, MacAddress]
) -> list[CountRead]:
    """Return the same, by what was known before of what hangs where."""
    numbers = {each.port: number for number, each in ports.items()}
    return [
        _port_count(reading, each, number, ports[number].socket, alone.get(number))
        for each in reading.ports
        if each.counters is not None and (number := numbers.get(Port(reading.switch, each.name))) is not None
    ]


def _port_count(
    reading: SwitchReading, port: SwitchPort, number: int, socket: str, mac: MacAddress | None
) -> CountRead:
    counters = port.counters
    assert counters is not None
    return CountRead(
        UsageSource.PORT,
        str(number),
        socket or str(Port(reading.switch, port.name)),
        Count(
            counters.received,
            counters.sent,
            reading.uptime / 100 if reading.uptime else None,
            counters.bits,
            counters.errors,
        ),
        port.speed_mbit * 1e6 or FASTEST_BPS,
        also=str(mac) if mac is not None else "",
    )


def take_counts(site: Site, read: Iterable[CountRead]) -> None:
    """Add what has passed since each counter was read before."""
    note_counts(site.roster, read, site.clock.now(), site.clock.local)
