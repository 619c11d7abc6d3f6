"""Events that follow from what people said of devices: unwanted, unlisted, or a guest that has stayed too long.

Part of folding: called inside its transaction.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import date, datetime
from sqlite3 import Connection

from scopion.model.address import by_number
from scopion.model.device import Event, EventKind, Standing
from scopion.model.observation import Medium
from scopion.roster.store.stored_values import stored_address, stored_mac, to_ms

_ARRIVALS = (EventKind.JOINED, EventKind.RETURNED)


def unwanted_present(db: Connection, events: Sequence[Event]) -> list[Event]:
    """Return an event for each unwanted device among the arrivals, beside its arrival."""
    arrived = {event.device_id: event for event in events if event.kind in _ARRIVALS}
    marks = ",".join("?" * len(arrived))
    unwanted = db.execute(
        f"SELECT id FROM device WHERE standing = ? AND id IN ({marks})", (Standing.UNWANTED, *arrived)
    ).fetchall()
    return [replace(arrived[row["id"]], kind=EventKind.UNWANTED_PRESENT) for row in unwanted]


def unlisted_present(db: Connection, events: Sequence[Event]) -> list[Event]:
    """Return an event for each arrival over the air that no allow list in force has.

    Only if every known wireless network has its allow list on: else the device may have come by another one.
    """
    modes = {row[0] for row in db.execute("SELECT DISTINCT mode FROM network")}
    if modes != {"allow"}:
        return []
    found = []
    for event in events:
        if event.kind not in _ARRIVALS or event.mac is None:
            continue
        mac = str(event.mac)
        medium = db.execute("SELECT medium FROM adapter WHERE mac = ?", (mac,)).fetchone()
        listed = db.execute(
            "SELECT 1 FROM entry WHERE list = 'allow' AND (device = ?2 OR mac = ?3) AND CASE WHEN override_until > ?1 "
            "THEN override ELSE NOT paused AND (until IS NULL OR until > ?1) END",
            (to_ms(event.at), event.device_id, mac),
        ).fetchone()
        if medium is not None and medium["medium"] == Medium.WIRELESS and listed is None:
            found.append(replace(event, kind=EventKind.UNLISTED_PRESENT))
    return found


def guests_overstayed(db: Connection, today: date, at: datetime, place: str) -> list[Event]:
    """Return an event for each guest whose last day is over and that is in a place; once each time it was made a
    guest.
    """
    rows = db.execute(
        "SELECT device.id, adapter.mac, stay.address FROM device JOIN adapter ON adapter.device = device.id "
        "JOIN stay ON stay.mac = adapter.mac AND stay.present AND stay.place = ?4 "
        "WHERE standing = ?1 AND guest_until < ?2 AND NOT EXISTS (SELECT 1 FROM event WHERE event.device = device.id "
        "AND event.kind = ?3 AND event.at >= coalesce(device.standing_since, 0) "
        "AND date(event.at / 1000, 'unixepoch') >= device.guest_until)",
        (Standing.GUEST, today.isoformat(), EventKind.GUEST_OVERSTAYED, place),
    )
    found: dict[int, Event] = {}
    for row in sorted(rows, key=lambda row: by_number(stored_address(row["address"])), reverse=True):
        mac, address = stored_mac(row["mac"]), stored_address(row["address"])
        found[row["id"]] = Event(EventKind.GUEST_OVERSTAYED, at, row["id"], mac, address)
    return list(found.values())
