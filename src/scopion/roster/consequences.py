"""Events that follow from what people said of devices: who is unwanted and here, which guest has outstayed.

Part of folding: called inside its transaction.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import date, datetime
from sqlite3 import Connection

from scopion.model.address import by_number
from scopion.model.device import Event, EventKind, Standing
from scopion.roster.stored import stored_address, stored_mac

_ARRIVALS = (EventKind.JOINED, EventKind.RETURNED)


def unwanted_present(db: Connection, events: Sequence[Event]) -> list[Event]:
    """Those among the arrivals who are unwanted: told beside their arrival, once each."""
    arrived = {event.device_id: event for event in events if event.kind in _ARRIVALS}
    marks = ",".join("?" * len(arrived))
    unwanted = db.execute(
        f"SELECT id FROM device WHERE standing = ? AND id IN ({marks})", (Standing.UNWANTED, *arrived)
    ).fetchall()
    return [replace(arrived[row["id"]], kind=EventKind.UNWANTED_PRESENT) for row in unwanted]


def guests_overstayed(db: Connection, today: date, at: datetime) -> list[Event]:
    """Guests whose last day is over and who are here: told once for each time that they were made guests."""
    rows = db.execute(
        "SELECT device.id, adapter.mac, stay.address FROM device JOIN adapter ON adapter.device = device.id "
        "JOIN stay ON stay.mac = adapter.mac AND stay.present "
        "WHERE standing = ?1 AND guest_until < ?2 AND NOT EXISTS (SELECT 1 FROM event WHERE event.device = device.id "
        "AND event.kind = ?3 AND event.at >= coalesce(device.standing_since, 0) "
        "AND date(event.at / 1000, 'unixepoch') >= device.guest_until)",
        (Standing.GUEST, today.isoformat(), EventKind.GUEST_OVERSTAYED),
    )
    found: dict[int, Event] = {}
    for row in sorted(rows, key=lambda row: by_number(stored_address(row["address"])), reverse=True):
        mac, address = stored_mac(row["mac"]), stored_address(row["address"])
        found[row["id"]] = Event(EventKind.GUEST_OVERSTAYED, at, row["id"], mac, address)
    return list(found.values())
