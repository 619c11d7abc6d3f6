"""Devices that are missed: each is told once and remembered as an event, so that a restart is silent."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from scopion.model.device import Device, Event, EventKind
from scopion.roster.folding.write_rows import record
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms


@dataclass(frozen=True, slots=True)
class MissingTold:
    """That a device is missing, as it was told."""

    at: datetime
    silent_since: datetime
    group: str  # what it has in common with others that were told together; empty: none were


def told_missing(roster: Roster, device: int) -> MissingTold | None:
    """Return when a device was told as missing; None if it was not, or has come back since."""
    with roster.guarded():
        row = roster.db.execute(
            "SELECT kind, at, away_since, name FROM event INDEXED BY event_device "
            "WHERE device = ? AND kind IN (?, ?) ORDER BY at DESC, id DESC LIMIT 1",
            (device, EventKind.MISSING, EventKind.MISSING_BACK),
        ).fetchone()
        if row is None or row["kind"] != EventKind.MISSING:
            return None
        at = from_ms(row["at"])
        return MissingTold(at, from_ms(row["away_since"]) if row["away_since"] else at, row["name"] or "")


def note_missing(
    roster: Roster, devices: Sequence[tuple[Device, datetime]], at: datetime, common: str = "", why: str = ""
) -> list[Event]:
    """Record that devices are missing, each with when its silence began; ``common`` is what they share."""
    with roster.transaction() as db:
        return record(db, [_event(EventKind.MISSING, at, each, since, common, why) for each, since in devices])


def note_missing_back(roster: Roster, device: Device, told: MissingTold, at: datetime) -> list[Event]:
    """Record that a device that was told as missing is back."""
    with roster.transaction() as db:
        return record(db, [_event(EventKind.MISSING_BACK, at, device, told.silent_since, told.group)])


def _event(kind: EventKind, at: datetime, device: Device, since: datetime, common: str, why: str = "") -> Event:
    stay = max(device.stays, key=lambda stay: (stay.present, stay.address.version == 4))
    where = (stay.mac, stay.address)
    return Event(kind, at, device.id, *where, away_since=since, name=common, was_name=why, place=stay.place)
