"""Devices that use too much of the line: each is told once in the time of its limit."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from scopion.model.device import Event, EventKind
from scopion.roster.folding.write_rows import record
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import to_ms


def told_much(roster: Roster, device: int, since: datetime) -> bool:
    """Tell whether it was told since a moment that a device uses too much."""
    with roster.guarded():
        row = roster.db.execute(
            "SELECT 1 FROM event INDEXED BY event_device WHERE device = ? AND kind = ? AND at > ? LIMIT 1",
            (device, EventKind.USES_MUCH, to_ms(since)),
        ).fetchone()
        return row is not None


def note_much(roster: Roster, events: Sequence[Event]) -> list[Event]:
    """Record them."""
    with roster.transaction() as db:
        return record(db, events)
