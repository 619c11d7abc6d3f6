"""Outages of a whole subnet: each is told once and remembered, so that a restart is silent.

Events belong to devices, so an outage is an event of the gateway's device, or of this machine if there is no gateway.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from ipaddress import IPv4Network
from sqlite3 import Row

from scopion.model.device import Event, EventKind
from scopion.roster.folding.write_rows import record
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import EPOCH, from_ms, stored_address, stored_mac


def down_since(roster: Roster, subnet: IPv4Network, place: str | None = None) -> datetime | None:
    """Return since when a subnet of a place is down, as was told; None if it is not. The place is this machine's for
    None, as everywhere here.
    """
    with roster.guarded():
        row = roster.db.execute(
            "SELECT kind, at FROM event WHERE kind IN (?, ?) AND name = ? AND place = ? ORDER BY at DESC, id DESC "
            "LIMIT 1",
            (EventKind.NETWORK_DOWN, EventKind.NETWORK_BACK, str(subnet), roster.placed(place)),
        ).fetchone()
        return from_ms(row["at"]) if row and row["kind"] == EventKind.NETWORK_DOWN else None


def note_down(
    roster: Roster, subnet: IPv4Network, at: datetime, why: str = "", place: str | None = None
) -> list[Event]:
    """Record that no device of a subnet answers; nothing if that is known, or no device is known to tell it of."""
    with roster.transaction() as db:
        teller = _teller(roster, subnet, roster.placed(place))
        if teller is None or down_since(roster, subnet, place) is not None:
            return []
        return record(db, [replace(teller, kind=EventKind.NETWORK_DOWN, at=at, name=str(subnet), was_name=why)])


def note_back(roster: Roster, subnet: IPv4Network, at: datetime, place: str | None = None) -> list[Event]:
    """Record that a subnet answers again; nothing if it was not down."""
    with roster.transaction() as db:
        since = down_since(roster, subnet, place)
        teller = _teller(roster, subnet, roster.placed(place)) if since is not None else None
        if teller is None:
            return []
        kind = EventKind.NETWORK_BACK
        return record(db, [replace(teller, kind=kind, at=at, name=str(subnet), away_since=since)])


def note_sensor(roster: Roster, name: str, place: str, at: datetime, since: datetime, *, lost: bool) -> list[Event]:
    """Record that a sensor is silent since a moment, or is back after that; an event of any device of its place, or of
    this machine.
    """
    with roster.transaction() as db:
        teller = _teller_of_sensor(roster, name, place, lost=lost)
        if teller is None:
            return []
        kind = EventKind.SENSOR_LOST if lost else EventKind.SENSOR_BACK
        return record(db, [replace(teller, kind=kind, at=at, name=name, away_since=since, place=place)])


def _teller_of_sensor(roster: Roster, name: str, place: str, *, lost: bool) -> Event | None:
    """Return the same for a sensor: that it is back is an event of the device that told that it was lost."""
    if not lost:
        row = roster.db.execute(
            "SELECT device, mac, address FROM event WHERE kind = ? AND name = ? ORDER BY at DESC, id DESC LIMIT 1",
            (EventKind.SENSOR_LOST, name),
        ).fetchone()
        if row is not None:
            return _event_of(row, place)
    anywhere = IPv4Network("0.0.0.0/0")
    return _teller(roster, anywhere, place) or _teller(roster, anywhere, roster.home)


def _teller(roster: Roster, subnet: IPv4Network, place: str) -> Event | None:
    """Return an event, yet without its kind and time, of the subnet's gateway; else of this machine in its own place,
    and of the device that is known for longest in another.
    """
    row = roster.db.execute(
        "SELECT device, mac, gateway AS address FROM subnet JOIN adapter ON mac = gateway_mac "
        "WHERE place = ? AND range = ? AND gateway NOTNULL",
        (place, str(subnet)),
    ).fetchone()
    if row is None:
        row = roster.db.execute(
            "SELECT device, mac, (SELECT address FROM stay WHERE stay.mac = adapter.mac AND place = ?1 "
            "AND address NOT LIKE '%:%' ORDER BY until DESC LIMIT 1) AS address FROM adapter "
            "WHERE (own OR ?1 <> ?2) AND address NOTNULL ORDER BY first_seen LIMIT 1",
            (place, roster.home),
        ).fetchone()
    return _event_of(row, place) if row is not None else None


def _event_of(row: Row, place: str) -> Event:
    mac = stored_mac(row["mac"]) if row["mac"] else None
    return Event(EventKind.NETWORK_DOWN, EPOCH, row["device"], mac, stored_address(row["address"]), place=place)
