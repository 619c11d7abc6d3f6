"""Makes devices and writes events. The only writer of events."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from sqlite3 import Connection

from scopion.model.device import Event
from scopion.roster.store.stored_values import to_ms

# A device's number is never used twice, because the record of changes refers to it.
_NEW_DEVICE = """
INSERT INTO device (id, first_seen) VALUES (1 + max(
    coalesce((SELECT max(id) FROM device), 0),
    coalesce((SELECT CAST(value AS INTEGER) FROM meta WHERE key = 'highest_device'), 0)
), ?)
"""


def make_device(db: Connection, first_seen: int) -> int:
    """Make a device of which only the first sighting (milliseconds) is known. Returns its number."""
    return db.execute(_NEW_DEVICE, (first_seen,)).lastrowid or 0


def record(db: Connection, events: Sequence[Event], scan: int | None = None) -> list[Event]:
    """Write events. Returns them with their numbers."""
    return [_recorded(db, event, scan) for event in events]


def _recorded(db: Connection, event: Event, scan: int | None) -> Event:
    row = db.execute(
        "INSERT INTO event (at, kind, device, mac, address, was_address, away_since, other_mac, name, was_name, scan, "
        "place) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            to_ms(event.at),
            event.kind,
            event.device_id,
            str(event.mac) if event.mac else "",
            str(event.address),
            str(event.was_address) if event.was_address else None,
            to_ms(event.away_since) if event.away_since else None,
            str(event.other_mac) if event.other_mac else None,
            event.name or None,
            event.was_name or None,
            scan,
            event.place,
        ),
    )
    return replace(event, id=row.lastrowid or 0)
