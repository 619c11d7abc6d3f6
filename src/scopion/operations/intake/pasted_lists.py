"""Pasted client lists: the context in which they are read, and the associations on the air that they tell.

A client that is on the air becomes wireless and associated, as if an access point had told it. It is kept with the time
of the list, so that it is never taken for newer than it is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.discovery.records.reading import Reading, RecordContext
from scopion.model.observation import Medium
from scopion.operations.site.open_site import Site
from scopion.roster.scans import known_subnets
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.air_stays import AirReading, note_air
from scopion.roster.wifi.associations import Association, associations, note_associations

# What stands as the access point of an association that a person pasted.
PASTED = "a pasted list"
# After this a pasted list says who was there, not who is.
CURRENT_FOR = timedelta(minutes=15)


@dataclass(frozen=True, slots=True)
class OnAir:
    """The network and the band of the rows that do not say them themselves; empty: not known."""

    ssid: str = ""
    band: str = ""  # 2.4, 5 or 6; in GHz


def record_context(site: Site, as_of: datetime) -> RecordContext:
    """Return the context for a reader of records: the time in the site's zone, and the site's subnets."""
    known = known_subnets(site.roster_for_reading())
    subnets = [each.range for each in known] + [each.range for each in site.settings.here]
    return RecordContext(site.clock.local(as_of), tuple(dict.fromkeys(subnets)))


def associations_in(reading: Reading, where: OnAir) -> tuple[list[Association], int]:
    """Return the associations that a client list tells, and how many rows lack their network."""
    found, lacking = [], 0
    for seen in reading.observations:
        client = reading.clients.get(seen.mac) if seen.mac is not None else None
        if client is None or client.medium is not Medium.WIRELESS or not client.is_current or seen.undated:
            continue
        ssid = client.ssid or where.ssid
        lacking += not ssid
        if ssid:
            since = seen.at - timedelta(seconds=client.connected_s) if client.connected_s is not None else None
            band = client.band or where.band
            found.append(Association(client.mac, ssid, PASTED, band, since, seen.at, client.signal))
    return found, lacking


def note_pasted(roster: Roster, found: Sequence[Association]) -> None:
    """Remember associations of a pasted list, unless an access point has told a later one."""
    known = associations(roster)
    newer = [each for each in found if each.mac not in known or known[each.mac].seen <= each.seen]
    note_associations(roster, newer)
    for at in sorted({each.seen for each in newer}):
        note_air(roster, [as_reading(each) for each in newer if each.seen == at], at)


def as_reading(each: Association) -> AirReading:
    """Return an association as one reading of its station."""
    return AirReading(each.mac, each.ssid, each.access_point, each.radio, each.since, each.signal)


def last_pasted(roster: Roster, ssid: str) -> list[Association]:
    """Return the associations with a network by the latest pasted list that tells any; empty without one."""
    pasted = [each for each in associations(roster).values() if each.ssid == ssid and each.access_point == PASTED]
    latest = max((each.seen for each in pasted), default=None)
    return [each for each in pasted if each.seen == latest]
