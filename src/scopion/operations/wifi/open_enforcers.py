"""Opens the enforcers of the site's networks, and reads their stations."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.attachment.ports import Shell
from scopion.model.band import point_words
from scopion.model.errors import ScopionError
from scopion.operations.intake.pasted_lists import CURRENT_FOR, PASTED, as_reading, last_pasted
from scopion.operations.intake.take_in import TakenIn
from scopion.operations.intake.tell_moved import tell_moved
from scopion.operations.pages.held_by import reached, settings_of
from scopion.operations.pages.typed_lists import last_published
from scopion.operations.site.open_site import Site
from scopion.operations.site.reach_machine import ssh_access
from scopion.roster.folding.note_moved import Move
from scopion.roster.wifi.air_stays import note_air
from scopion.roster.wifi.associations import Association, associations, note_associations, note_links
from scopion.wireless.enforcer_settings import EnforcerSettings
from scopion.wireless.enforcers.enforcer import Enforcer, Located, Readings, Station
from scopion.wireless.enforcers.registry import Reach, type_of

NO_STATIONS = "it knows no stations"


@dataclass(frozen=True, slots=True)
class Unread:
    """A radio, or a whole enforcer, that could not be read, and why."""

    enforcer: str
    radio: str  # empty: all of them
    problem: str


@contextmanager
def enforcers(site: Site, ssid: str, name: str | None = None) -> Iterator[list[Enforcer]]:
    """Open the enforcers of a network, or the one of this name, for the block. Raises NotFound."""
    opened = [open_enforcer(site, each) for each in settings_of(site, ssid, name)]
    try:
        yield opened
    finally:
        for each in opened:
            each.close()


Read = dict[str, Readings | ScopionError]  # by access point, what was read, or why it could not be


def read_once(site: Site, settings: EnforcerSettings, read: Read) -> Readings:
    """Return what an access point holds, from ``read`` if it was read or tried already. Raises ScopionError."""
    if settings.name not in read:
        with closing(open_enforcer(site, settings)) as enforcer:
            try:
                read[settings.name] = enforcer.read()
            except ScopionError as error:
                read[settings.name] = error
    found = read[settings.name]
    if isinstance(found, ScopionError):
        raise found
    return found


def open_enforcer(site: Site, settings: EnforcerSettings) -> Enforcer:
    """Return an enforcer; nothing is reached before it is asked something."""
    reach = Reach(
        lambda: _opened_shell(site, settings),
        lambda: last_published(site.roster_for_reading(), settings.network, settings.name),
        lambda: site.answering(settings.network),
    )
    return type_of(settings).open(settings, reach)


def _opened_shell(site: Site, settings: EnforcerSettings) -> Shell:
    if settings.via:
        from scopion.attachment.orders.sensor_shell import SensorShell  # only where a sensor has hands

        return SensorShell(site.order_line(settings.via), settings.name)
    return site.shells.open(ssh_access(site.folder, settings.ssh) if settings.ssh is not None else None)


def read_stations(
    site: Site,
    ssid: str | None = None,
    *,
    pasted_within: timedelta = CURRENT_FOR,
    read: Read | None = None,
) -> tuple[list[Located], list[Unread]]:
    """Return the stations of the site's networks, or of one, and what could not be read.

    Of a network without an access point that tells them, those of the latest pasted list, if it is not older than
    ``pasted_within``. Access points that were ``read`` just now are not read again.
    """
    read = {} if read is None else read
    found: list[Located] = []
    unread: list[Unread] = []
    told: set[str] = set()  # the networks of which an access point tells the stations
    for settings in reached(site, ssid):
        if not open_enforcer(site, settings).traits.reads_stations:
            unread.append(Unread(settings.name, "", NO_STATIONS))
            continue
        told.add(settings.network)
        try:
            readings = read_once(site, settings, read)
        except ScopionError as error:
            unread.append(Unread(settings.name, "", str(error)))
            continue
        for radio, reading in readings.items():
            if isinstance(reading, ScopionError):
                unread.append(Unread(settings.name, radio, str(reading)))
                continue
            found += reading.located(settings.network, site.clock.now())
    roster = site.roster_for_reading()
    for name in sorted({each.ssid for each in associations(roster).values()} - told):
        if ssid in (None, name):
            pasted = last_pasted(roster, name)
            if pasted and site.clock.now() - pasted[0].seen <= pasted_within:
                found += [located(each) for each in pasted]
            elif pasted:
                at = site.clock.local(pasted[0].seen)
                unread.append(
                    Unread(
                        PASTED,
                        "",
                        f"that of {name!r} is from {at:%A %Y-%m-%d, %H:%M}: scopion import - takes a new one",
                    )
                )
    return found, unread


def located(each: Association) -> Located:
    """Return a remembered association as a station."""
    connected = (each.seen - each.since).total_seconds() if each.since is not None else None
    station = Station(each.mac, signal=each.signal, connected_s=None if connected is None else round(connected))
    return Located(station, each.ssid, each.access_point, each.radio, each.seen)


def remember_stations(
    site: Site, found: Sequence[Located], read: Collection[str] = (), at: datetime | None = None
) -> TakenIn:
    """Remember the stations, so that a device's card knows the access point and the medium.

    Those of a pasted list are remembered already, as of its time. ``read`` are the access points that were read as a
    whole ``at`` a moment. Who does not move and is on another access point is told by the first that reads it. Returns
    the events of that.
    """
    roster = site.roster
    found = [each for each in found if each.access_point != PASTED]
    for each in found:
        if each.station.links:
            note_links(roster, each.station.mac, each.station.links, each.at)
    met = [
        Association(mac, each.ssid, each.access_point, each.radio, each.since, each.at, each.station.signal)
        for each in found
        for mac in (each.station.mac, *each.station.links)
    ]
    note_associations(roster, met)
    at = max((each.at for each in found), default=at)
    if at is None:
        return TakenIn()
    roamed = note_air(roster, [as_reading(each) for each in met], at, read)
    return tell_moved(site, [Move(each.mac, point_words(each.was), point_words(each.now)) for each in roamed])
