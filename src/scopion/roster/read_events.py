"""Queries about events."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from sqlite3 import Row

from scopion.model.device import Event, EventKind
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_address, stored_mac, stored_words, to_ms

_KINDS = stored_words(EventKind)


@dataclass(frozen=True, slots=True)
class EventFilter:
    """Which events are wanted; None and empty mean all."""

    since: datetime | None = None  # at or after this
    until: datetime | None = None  # at or before this
    kinds: tuple[EventKind, ...] = ()
    devices: tuple[int, ...] = ()
    place: str | None = None


def find_events(roster: Roster, wanted: EventFilter, limit: int | None = None) -> list[Event]:
    """Return the latest events that fit, in the order of their time."""
    where, values = _where(wanted)
    query = f"SELECT * FROM event {where} ORDER BY at DESC, id DESC LIMIT ?"
    with roster.guarded():
        rows = roster.db.execute(query, (*values, -1 if limit is None else limit)).fetchall()
        return [_event(row) for row in reversed(rows)]


def events_after(roster: Roster, number: int, most: int) -> list[Event]:
    """Return the next events after a number, in the order in which they were recorded."""
    with roster.guarded():
        rows = roster.db.execute("SELECT * FROM event WHERE id > ? ORDER BY id LIMIT ?", (number, most)).fetchall()
        return [_event(row) for row in rows]


def came_last(roster: Roster) -> dict[int, datetime]:
    """Return when each device joined or returned last, as far as events tell."""
    query = "SELECT device, max(at) FROM event WHERE kind IN (?, ?) GROUP BY device"
    with roster.guarded():
        rows = roster.db.execute(query, (str(EventKind.JOINED), str(EventKind.RETURNED))).fetchall()
    return {device: from_ms(at) for device, at in rows}


def count_events(roster: Roster, wanted: EventFilter) -> int:
    """Return how many events fit."""
    where, values = _where(wanted)
    with roster.guarded():
        return int(roster.db.execute(f"SELECT count(*) FROM event {where}", values).fetchone()[0])


def comings(
    roster: Roster, since: datetime, until: datetime, place: str | None = None
) -> Iterator[tuple[datetime, EventKind, int]]:
    """Yield when which device joined, returned or left, in one place or in any, in the order of time, without the rest
    of the event.
    """
    kinds = (EventKind.JOINED, EventKind.RETURNED, EventKind.LEFT)
    where, values = _where(EventFilter(since, until, kinds, place=place))
    cursor = roster.db.cursor()
    cursor.row_factory = None  # a year has a hundred thousand of them
    with roster.guarded():
        for at, kind, device in cursor.execute(f"SELECT at, kind, device FROM event {where} ORDER BY at", values):
            yield from_ms(at), _KINDS[kind], device


def _where(wanted: EventFilter) -> tuple[str, list[object]]:
    clauses: list[str] = []
    values: list[object] = []
    if wanted.since is not None:
        clauses.append("at >= ?")
        values.append(to_ms(wanted.since))
    if wanted.until is not None:
        clauses.append("at <= ?")
        values.append(to_ms(wanted.until))
    if wanted.place is not None:
        clauses.append("place = ?")
        values.append(wanted.place)
    for column, chosen in (("kind", wanted.kinds), ("device", wanted.devices)):
        if chosen:
            clauses.append(f"{column} IN ({_marks(chosen)})")
            values += chosen
    return ("WHERE " + " AND ".join(clauses) if clauses else ""), values


def _marks(values: Sequence[object]) -> str:
    return ",".join("?" * len(values))


def _event(row: Row) -> Event:
    return Event(
        kind=_KINDS[row["kind"]],
        at=from_ms(row["at"]),
        device_id=row["device"],
        mac=stored_mac(row["mac"]) if row["mac"] else None,
        address=stored_address(row["address"]),
        was_address=stored_address(row["was_address"]) if row["was_address"] else None,
        away_since=from_ms(row["away_since"]) if row["away_since"] is not None else None,
        other_mac=stored_mac(row["other_mac"]) if row["other_mac"] else None,
        name=row["name"] or "",
        was_name=row["was_name"] or "",
        place=row["place"],
        id=row["id"],
    )
