"""Records what people change, so that it can be shown and taken back.

While a change runs, temporary triggers of its own connection note every row that it touches, as it was and as it
became. So everything that a command does is recorded without its help, also the many consequences of forgetting a
device. Folding runs outside of changes and is not slowed down.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from sqlite3 import Connection, Row

from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written, from_ms, to_ms

# The tables that people's changes touch. Events are only removed (with a forgotten device) or given to another device.
RELATIONS = (
    "device", "adapter", "unpaired", "stay", "trait", "network", "entry", "exclusive", "timetable", "mute",
    "association", "socket",
)  # fmt: skip
_CHANGED_HANDS = "AFTER UPDATE OF device ON event WHEN old.mac = ''"


@dataclass(frozen=True, slots=True)
class Change:
    """One change that a person made."""

    id: int
    at: datetime
    kind: str  # the command: label, mark, same, forget, import, wifi, undo...
    says: str  # what was done: a sentence without its full stop
    who: str  # the name of the account, empty if the system has none
    undoes: int | None = None  # the change that this one took back
    undone: datetime | None = None  # when it was taken back itself


@dataclass(slots=True)
class Describing:
    """A change while it is made; its description may be set at the end."""

    kind: str
    says: str
    undoes: int | None = None
    number: int | None = None  # of the change, once it is recorded


@contextmanager
def changing(
    roster: Roster, kind: str, says: str, *, at: datetime, who: str = "", undoes: int | None = None
) -> Iterator[Describing]:
    """Record everything inside as one change, with the transaction that it opens; nothing if nothing changes.

    Inside another change it becomes a part of that.
    """
    described = Describing(kind, says, undoes)
    if roster.recording:
        yield described
        return
    with roster.transaction() as db:
        roster.recording = True
        _watch(db)
        try:
            yield described
            _keep(db, described, at, who)
        finally:
            roster.recording = False
            _stop_watching(db)


def latest_changes(roster: Roster, limit: int, *, device: int | None = None) -> list[Change]:
    """Return the latest changes, of one device if it is given; the latest first."""
    with roster.guarded():
        rows = roster.db.execute(
            "SELECT * FROM change "
            "WHERE ?1 IS NULL OR id IN (SELECT change FROM change_device WHERE device = ?1) ORDER BY id DESC LIMIT ?2",
            (device, limit),
        )
        return [_change(row) for row in rows]


def latest_in_force(
    roster: Roster, *, kind: str | None = None, device: int | None = None, upto: int | None = None
) -> Change | None:
    """Return the latest change that is in force and is no undo; of one kind or device if given."""
    with roster.guarded():
        row = roster.db.execute(
            "SELECT * FROM change WHERE undone IS NULL AND kind <> 'undo' AND (?1 IS NULL OR kind = ?1) "
            "AND (?2 IS NULL OR id IN (SELECT change FROM change_device WHERE device = ?2)) "
            "AND (?3 IS NULL OR id <= ?3) ORDER BY id DESC LIMIT 1",
            (kind, device, upto),
        ).fetchone()
        return _change(row) if row else None


def change_of(roster: Roster, number: int) -> Change | None:
    """Return a change by its number; None if there is none."""
    with roster.guarded():
        row = roster.db.execute("SELECT * FROM change WHERE id = ?", (number,)).fetchone()
        return _change(row) if row else None


def _watch(db: Connection) -> None:
    db.execute(
        "CREATE TEMP TABLE IF NOT EXISTS watched (step INTEGER PRIMARY KEY, relation TEXT, before TEXT, after TEXT)"
    )
    db.execute("DELETE FROM temp.watched")
    for relation in RELATIONS:
        old, new = _as_json(db, relation, "old"), _as_json(db, relation, "new")
        _trigger(db, f"{relation}_made", f"AFTER INSERT ON {relation}", relation, "NULL", new)
        _trigger(db, f"{relation}_gone", f"AFTER DELETE ON {relation}", relation, old, "NULL")
        _trigger(db, f"{relation}_changed", f"AFTER UPDATE ON {relation}", relation, old, new)
    old, new = _as_json(db, "event", "old"), _as_json(db, "event", "new")
    _trigger(db, "event_gone", "AFTER DELETE ON event", "event", old, "NULL")
    _trigger(db, "event_changed", _CHANGED_HANDS, "event", old, new)


def _trigger(db: Connection, name: str, when: str, relation: str, before: str, after: str) -> None:
    db.execute(
        f"CREATE TEMP TRIGGER watch_{name} {when} BEGIN "
        f"INSERT INTO watched (relation, before, after) VALUES ('{relation}', {before}, {after}); END"
    )


def _as_json(db: Connection, relation: str, image: str) -> str:
    columns = [row["name"] for row in db.execute(f"PRAGMA table_info({relation})")]
    pairs = ", ".join(f"'{column}', {image}.{column}" for column in columns)
    return f"json_object({pairs})"


def _stop_watching(db: Connection) -> None:
    names = [
        row[0] for row in db.execute("SELECT name FROM sqlite_temp_schema WHERE name LIKE 'watch\\_%' ESCAPE '\\'")
    ]
    for name in names:
        db.execute(f"DROP TRIGGER temp.{name}")


def _keep(db: Connection, described: Describing, at: datetime, who: str) -> None:
    rows = db.execute("SELECT * FROM temp.watched WHERE before IS NOT after ORDER BY step").fetchall()
    if not rows and described.undoes is None:
        return
    change = db.execute(
        "INSERT INTO change (at, kind, says, who, undoes) VALUES (?, ?, ?, ?, ?)",
        (to_ms(at), described.kind, described.says, who, described.undoes),
    ).lastrowid
    db.executemany(
        "INSERT INTO change_row VALUES (?, ?, ?, ?, ?)",
        [(change, row["step"], row["relation"], row["before"], row["after"]) for row in rows],
    )
    devices = {device for row in rows for text in (row["before"], row["after"]) for device in _devices(row, text)}
    db.executemany("INSERT INTO change_device VALUES (?, ?)", [(device, change) for device in devices])
    described.number = change
    if described.undoes is not None:
        db.execute("UPDATE change SET undone = ? WHERE id = ?", (to_ms(at), described.undoes))


@as_written("a row of a change")
def _devices(row: Row, image: str | None) -> Iterator[int]:
    """Yield the numbers of the devices that a row is about."""
    found = json.loads(image) if image is not None else {}
    number = found.get("id" if row["relation"] == "device" else "device")
    if isinstance(number, int):
        yield number


def _change(row: Row) -> Change:
    return Change(
        id=row["id"],
        at=from_ms(row["at"]),
        kind=row["kind"],
        says=row["says"],
        who=row["who"],
        undoes=row["undoes"],
        undone=from_ms(row["undone"]) if row["undone"] is not None else None,
    )
