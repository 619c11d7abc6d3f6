"""The outbox: alerts are queued in the transaction that records their event, and stay until they are delivered.

Nothing is decided here: ``alerts`` decides what is queued, and when it is tried again.
"""

from __future__ import annotations

import json
import uuid
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from sqlite3 import Connection, Row

from scopion.model.alert import PASSED_OVER, Alert, AlertState, Gathering, Severity
from scopion.model.device import Event, EventKind
from scopion.model.errors import MalformedFrame
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import EPOCH, NotOurs, as_written, from_ms, to_ms
from scopion.wire.serial import event_from_json, event_to_json

# This many events of one alert are kept whole, 60 KB; the rest is counted by kind. A flood of made-up devices fills
# neither the disk nor a reader's screen.
EVENTS_KEPT, EXAMPLES_KEPT = 200, 5
# A flood is told once its first moments are gathered, and then not more often than this.
FLOOD_GATHERED, FLOOD_TOLD_EVERY = timedelta(seconds=2), timedelta(hours=1)


def queue(
    db: Connection,
    event: Event,
    channel: str,
    severity: Severity,
    at: datetime,
    *,
    due: datetime | None = None,
    gathers: str = "",
) -> int:
    """Put an event into an alert of its own, or into the one that gathers such events. Returns the alert's number."""
    row = db.execute(
        "SELECT id FROM alert WHERE channel = ? AND gathers = ? AND gathering", (channel, gathers)
    ).fetchone()
    if row is None:
        number = _insert(db, channel, severity, at, due or at, gathers)
    else:
        number = int(row["id"])
        if severity is Severity.HIGH:
            db.execute("UPDATE alert SET severity = ? WHERE id = ?", (severity, number))
    _add(db, number, event)
    return number


def queue_message(
    db: Connection,
    channel: str,
    severity: Severity,
    at: datetime,
    identity: str,
    message: str,
    *,
    gathers: str = "",
) -> None:
    """Put a message into the outbox that is worded already and has no events of its own."""
    db.execute(
        "INSERT INTO alert (identity, channel, severity, gathers, made, due, message) VALUES (?, ?, ?, ?, ?, ?, ?)",
        (identity, channel, severity, gathers, to_ms(at), to_ms(at), message),
    )


def _insert(db: Connection, channel: str, severity: Severity, at: datetime, due: datetime, gathers: str) -> int:
    number = db.execute(
        "INSERT INTO alert (identity, channel, severity, gathers, gathering, made, due) VALUES (?, ?, ?, ?, ?, ?, ?)",
        (uuid.uuid4().hex, channel, severity, gathers, bool(gathers), to_ms(at), to_ms(due)),
    ).lastrowid
    assert number is not None
    return number


def _add(db: Connection, alert: int, event: Event) -> None:
    position = db.execute("SELECT count(*) FROM alert_event WHERE alert = ?", (alert,)).fetchone()[0]
    if position < EVENTS_KEPT:
        written = json.dumps(event_to_json(event), ensure_ascii=False)
        db.execute(
            "INSERT INTO alert_event (alert, position, at, kind, device, event) VALUES (?, ?, ?, ?, ?, ?)",
            (alert, position, to_ms(event.at), event.kind, event.device_id, written),
        )
        return
    more = json.loads(db.execute("SELECT more FROM alert WHERE id = ?", (alert,)).fetchone()[0])
    more[event.kind] = more.get(event.kind, 0) + 1
    db.execute("UPDATE alert SET more = ? WHERE id = ?", (json.dumps(more), alert))


def note_passed_over(db: Connection, channel: str, count: int, examples: Sequence[str], at: datetime) -> None:
    """Count what was not recorded, in the alert about many events or in one of its own, once an hour.

    The first examples are kept.
    """
    row = db.execute(
        "SELECT id, more, examples FROM alert WHERE channel = ? AND gathers IN (?, ?) AND gathering "
        "ORDER BY gathers LIMIT 1",
        (channel, Gathering.BURST, Gathering.FLOOD),
    ).fetchone()
    if row is None:
        last = db.execute(
            "SELECT max(made) FROM alert WHERE channel = ? AND gathers = ?", (channel, Gathering.FLOOD)
        ).fetchone()[0]
        again = from_ms(last) + FLOOD_TOLD_EVERY if last is not None else at
        due = max(again, at + FLOOD_GATHERED)
        number = _insert(db, channel, Severity.HIGH, at, due, Gathering.FLOOD)
        more, kept = dict[str, int](), list[str]()
    else:
        number, more, kept = int(row["id"]), json.loads(row["more"]), json.loads(row["examples"])
    more[PASSED_OVER] = more.get(PASSED_OVER, 0) + count
    kept = [*kept, *examples][:EXAMPLES_KEPT]
    db.execute("UPDATE alert SET more = ?, examples = ? WHERE id = ?", (json.dumps(more), json.dumps(kept), number))


def told_since(db: Connection, channel: str, device: int, kinds: Collection[EventKind], since: datetime) -> bool:
    """Tell whether a channel was told, or will be told, of such an event of a device at or after a moment."""
    marks = ",".join("?" * len(kinds))
    return (
        db.execute(
            f"SELECT 1 FROM alert_event JOIN alert ON alert.id = alert WHERE device = ? AND kind IN ({marks}) "
            "AND at >= ? AND channel = ? LIMIT 1",
            (device, *kinds, to_ms(since), channel),
        ).fetchone()
        is not None
    )


def gathered_since(db: Connection, channel: str, gathers: str, since: datetime) -> bool:
    """Tell whether a message of this gathering was told to a channel at or after a moment; an open one was not."""
    query = "SELECT 1 FROM alert WHERE channel = ? AND gathers = ? AND made >= ? AND NOT gathering LIMIT 1"
    return db.execute(query, (channel, gathers, to_ms(since))).fetchone() is not None


def pressing(db: Connection, channel: str, since: datetime) -> int:
    """Return how many alerts of single events a channel got since a moment, or will still get."""
    row = db.execute(
        "SELECT (SELECT count(*) FROM alert WHERE made >= ?1 AND channel = ?2 AND gathers = '' AND state <> 'waiting')"
        " + (SELECT count(*) FROM alert WHERE channel = ?2 AND gathers = '' AND state = 'waiting')",
        (to_ms(since), channel),
    ).fetchone()
    return int(row[0])


def next_of_each_channel(roster: Roster, now: datetime) -> list[Alert]:
    """Return for each channel the next alert: the oldest that is due, even if it has to wait for another try."""
    with roster.guarded():
        rows = roster.db.execute(
            "SELECT * FROM alert WHERE id IN "
            "(SELECT min(id) FROM alert WHERE state = 'waiting' AND due <= ? GROUP BY channel) ORDER BY id",
            (to_ms(now),),
        ).fetchall()
        return _alerts(roster, rows)


def next_due(roster: Roster) -> datetime | None:
    """Return when an alert is due or tried next; None if none waits."""
    with roster.guarded():
        row = roster.db.execute("SELECT min(max(due, again)) FROM alert WHERE state = 'waiting'").fetchone()
        return from_ms(row[0]) if row[0] is not None else None


def close(roster: Roster, alert: Alert) -> Alert:
    """Let nothing be added to an alert from now on. Returns the alert with all of its events."""
    with roster.transaction() as db:
        db.execute("UPDATE alert SET gathering = 0 WHERE id = ?", (alert.id,))
        return find_alerts(roster, numbers=[alert.id])[0]


def keep_message(roster: Roster, alert: Alert, message: str) -> None:
    """Keep how an alert was worded, for sending the same again."""
    with roster.transaction() as db:
        db.execute("UPDATE alert SET message = ? WHERE id = ?", (message, alert.id))


def settle(
    roster: Roster, alert: int, state: AlertState, at: datetime, *, problem: str = "", again: datetime = EPOCH
) -> None:
    """Note the outcome of an attempt."""
    ended = to_ms(at) if state is not AlertState.WAITING else None
    with roster.transaction() as db:
        db.execute(
            "UPDATE alert SET state = ?, attempts = attempts + 1, again = ?, ended = ?, problem = ? WHERE id = ?",
            (state, to_ms(again), ended, problem, alert),
        )


def find_alerts(
    roster: Roster,
    *,
    states: Sequence[AlertState] = (),
    channel: str | None = None,
    numbers: Sequence[int] = (),
    limit: int | None = None,
) -> list[Alert]:
    """Return the latest alerts that fit, in the order of their making."""
    clauses, values = ["1"], list[object]()
    for column, chosen in (("state", states), ("id", numbers), ("channel", [channel] if channel else [])):
        if chosen:
            clauses.append(f"{column} IN ({','.join('?' * len(chosen))})")
            values += chosen
    query = f"SELECT * FROM alert WHERE {' AND '.join(clauses)} ORDER BY id DESC LIMIT ?"
    with roster.guarded():
        rows = roster.db.execute(query, (*values, -1 if limit is None else limit)).fetchall()
        return _alerts(roster, rows[::-1])


def count_alerts(roster: Roster) -> dict[AlertState, int]:
    """Return how many alerts there are in each state."""
    with roster.guarded():
        rows = roster.rows("SELECT state, count(*) FROM alert GROUP BY state")
        return {AlertState(state): count for state, count in rows}


def retry(roster: Roster, numbers: Sequence[int]) -> int:
    """Let failed alerts, and those that wait for another try, be tried now. Returns how many."""
    with roster.transaction() as db:
        return db.execute(
            "UPDATE alert SET state = 'waiting', again = 0, ended = NULL "
            f"WHERE state <> 'sent' AND id IN ({','.join('?' * len(numbers))})",
            tuple(numbers),
        ).rowcount


@dataclass(frozen=True, slots=True)
class Backlog:
    """What waits in the outbox for one channel and is due now."""

    count: int
    oldest: datetime  # since when it is due


def backlog(roster: Roster, now: datetime) -> dict[str, Backlog]:
    """Return what is due and not delivered, by channel."""
    with roster.guarded():
        rows = roster.rows(
            "SELECT channel, count(*), min(due) FROM alert "
            f"WHERE state = 'waiting' AND due <= {to_ms(now)} GROUP BY channel"
        )
        return {channel: Backlog(count, from_ms(oldest)) for channel, count, oldest in rows}


def move_with_the_clock(roster: Roster, by: timedelta, now: datetime) -> None:
    """Move waiting alerts after the clock was set: a wait keeps its length, a time of day stays the same."""
    shift, day = round(by.total_seconds() * 1000), to_ms(now + timedelta(days=1))
    by_the_wall = (Gathering.LEARNING, Gathering.NIGHT)
    with roster.transaction() as db:
        db.execute(
            "UPDATE alert SET "
            "due = CASE WHEN gathers IN (?2, ?3) AND gathering THEN min(due, ?4) ELSE max(0, due + ?1) END, "
            "again = CASE WHEN again THEN max(0, again + ?1) ELSE 0 END WHERE state = 'waiting'",
            (shift, *by_the_wall, day),
        )


def remove_over(roster: Roster, before: datetime) -> int:
    """Remove alerts that had ended by then: sent, or given up. Returns how many."""
    with roster.transaction() as db:
        return db.execute("DELETE FROM alert WHERE state <> 'waiting' AND ended < ?", (to_ms(before),)).rowcount


def _alerts(roster: Roster, rows: Sequence[Row]) -> list[Alert]:
    return [_alert(row, _events(roster, row["id"])) for row in rows]


def _events(roster: Roster, alert: int) -> tuple[Event, ...]:
    try:
        rows = roster.db.execute("SELECT event FROM alert_event WHERE alert = ? ORDER BY position", (alert,))
        return tuple(event_from_json(json.loads(row[0])) for row in rows)
    except (MalformedFrame, ValueError) as error:
        raise NotOurs(f"an event of alert {alert}: {error}") from None


@as_written("an alert")
def _alert(row: Row, events: tuple[Event, ...]) -> Alert:
    more: Mapping[str, int] = json.loads(row["more"])
    return Alert(
        id=row["id"],
        identity=row["identity"],
        channel=row["channel"],
        severity=Severity(row["severity"]),
        gathers=row["gathers"],
        gathering=bool(row["gathering"]),
        made=from_ms(row["made"]),
        due=from_ms(row["due"]),
        state=AlertState(row["state"]),
        attempts=row["attempts"],
        again=from_ms(row["again"]),
        ended=from_ms(row["ended"]) if row["ended"] is not None else None,
        problem=row["problem"],
        events=events,
        more=more,
        examples=tuple(json.loads(row["examples"])),
        message=row["message"],
    )
