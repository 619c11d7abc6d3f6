"""Alerts that are told again until someone has seen them, and who has: beside the outbox, by the alert's number."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from sqlite3 import Connection, Row

from scopion.model.alert import AlertState, Gathering
from scopion.model.device import EventKind
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, to_ms

# What these say is over once the same device has the event beside them, by the same name: of the network, the sensor.
_OVER = {
    EventKind.MISSING: EventKind.MISSING_BACK,
    EventKind.NETWORK_DOWN: EventKind.NETWORK_BACK,
    EventKind.SENSOR_LOST: EventKind.SENSOR_BACK,
}
_TAKEN = "SELECT seen.*, alert.message FROM seen JOIN alert ON alert.id = seen.alert"


@dataclass(frozen=True, slots=True)
class Followed:
    """An alert that no one has seen, as a rule wants it to be followed."""

    alert: int
    channel: str
    state: AlertState
    due: datetime
    ended: datetime | None  # when it was sent or given up
    failed: bool  # whether an attempt has failed
    problem: str
    message: str | None
    every: timedelta | None
    times: int  # how often it may still be repeated
    told: datetime | None  # when it was repeated last
    second: str  # the channel that is still to get it
    after: timedelta


@dataclass(frozen=True, slots=True)
class Seen:
    """That someone has seen an alert and takes care of it."""

    alert: int
    at: datetime
    who: str
    note: str
    message: str | None  # of the alert


def follow(db: Connection, alert: int, every: timedelta | None, times: int, second: str, after: timedelta) -> None:
    """Have an alert followed until someone has seen it; nothing if it is already."""
    db.execute(
        "INSERT OR IGNORE INTO follow (alert, every, times, second, after) VALUES (?, ?, ?, ?, ?)",
        (alert, _ms(every) if every is not None else None, times, second, _ms(after)),
    )


def is_followed(roster: Roster, alert: int) -> tuple[timedelta | None, int] | None:
    """Return how often an alert is repeated until it is seen, and how often at most; None if it is not followed."""
    with roster.guarded():
        row = roster.db.execute("SELECT every, times FROM follow WHERE alert = ?", (alert,)).fetchone()
        return (_span(row["every"]) if row["every"] is not None else None, row["times"]) if row is not None else None


def unseen(roster: Roster, *, to_tell: bool = False) -> list[Followed]:
    """Return the alerts that are followed, that no one has seen, and whose matter is not over.

    With ``to_tell`` only those that may be told once more: of the others there can be many.
    """
    left = "AND ((every NOT NULL AND times > 0) OR second <> '')" if to_tell else ""
    with roster.guarded():
        rows = roster.db.execute(
            "SELECT follow.*, alert.channel, alert.state, alert.due, alert.ended, alert.problem, alert.attempts, "
            "alert.message FROM follow JOIN alert ON alert.id = follow.alert "
            f"WHERE NOT EXISTS (SELECT 1 FROM seen WHERE seen.alert = follow.alert) {left} ORDER BY follow.alert"
        ).fetchall()
        return [_followed(row) for row in rows if not is_over(roster.db, row["alert"])]


def is_over(db: Connection, alert: int) -> bool:
    """Tell whether everything that an alert says has ended by itself: the device or the network is back."""
    ends = " ".join(f"WHEN '{kind}' THEN '{end}'" for kind, end in _OVER.items())
    name = "CASE WHEN json_valid(told.event) THEN json_extract(told.event, '$.name') END"
    row = db.execute(
        f"SELECT count(*), coalesce(sum(EXISTS (SELECT 1 FROM event INDEXED BY event_device WHERE "
        f"event.device = told.device AND event.at > told.at AND event.kind = CASE told.kind {ends} END "
        f"AND coalesce(event.name, '') = coalesce({name}, ''))), 0) "
        "FROM alert_event AS told WHERE alert = ?",
        (alert,),
    ).fetchone()
    return bool(row[0]) and row[0] == row[1]


def note_told_again(db: Connection, alerts: Iterable[int], at: datetime) -> None:
    """Note that alerts were told again."""
    db.executemany("UPDATE follow SET told = ?, times = times - 1 WHERE alert = ?", [(to_ms(at), n) for n in alerts])


def note_second(db: Connection, alerts: Iterable[int]) -> None:
    """Note that alerts went by their second channel."""
    db.executemany("UPDATE follow SET second = '' WHERE alert = ?", [(number,) for number in alerts])


def repeat_waits(db: Connection, channel: str) -> bool:
    """Tell whether a repeat for a channel is not delivered yet: then there is no other."""
    query = "SELECT 1 FROM alert WHERE channel = ? AND state = 'waiting' AND gathers GLOB ? LIMIT 1"
    return db.execute(query, (channel, f"{Gathering.AGAIN}:*")).fetchone() is not None


def told_by(roster: Roster, numbers: Sequence[int]) -> list[int]:
    """Return all alerts that these are about: those that a repeat names, and those that tell the same elsewhere."""
    with roster.guarded():
        found = set(numbers)
        for number in numbers:
            row = roster.db.execute("SELECT gathers FROM alert WHERE id = ?", (number,)).fetchone()
            reason, _, named = (row["gathers"] if row is not None else "").partition(":")
            if reason in (Gathering.AGAIN, Gathering.SECOND):
                found |= {int(each) for each in named.split(",") if each.isdigit()}
        for number in list(found):
            rows = roster.db.execute(
                "SELECT DISTINCT other.alert FROM alert_event AS told JOIN alert_event AS other "
                "USING (device, kind, at) WHERE told.alert = ?",
                (number,),
            )
            found |= {row[0] for row in rows}
        return sorted(found)


def note_seen(roster: Roster, numbers: Iterable[int], at: datetime, who: str, note: str) -> None:
    """Note that someone has seen alerts; who said so last counts."""
    with roster.transaction() as db:
        db.executemany(
            "INSERT OR REPLACE INTO seen (alert, at, who, note) SELECT id, ?, ?, ? FROM alert WHERE id = ?",
            [(to_ms(at), who, note, number) for number in numbers],
        )


def all_seen(roster: Roster, since: datetime) -> list[Seen]:
    """Return what was taken on since then and is not over, the latest first; a repeat is no alert of its own."""
    with roster.guarded():
        rows = roster.db.execute(
            f"{_TAKEN} WHERE seen.at >= ? AND NOT (gathers GLOB ? OR gathers GLOB ?) ORDER BY seen.at DESC, seen.alert",
            (to_ms(since), f"{Gathering.AGAIN}:*", f"{Gathering.SECOND}:*"),
        )
        return [_seen(row) for row in rows.fetchall() if not is_over(roster.db, row["alert"])]


def seen_of(roster: Roster, alert: int) -> Seen | None:
    """Return who has seen an alert; None if no one has said so."""
    with roster.guarded():
        row = roster.db.execute(f"{_TAKEN} WHERE seen.alert = ?", (alert,)).fetchone()
        return _seen(row) if row is not None else None


def seen_about(roster: Roster, device: int, since: datetime) -> Seen | None:
    """Return who took on an alert about a device last, since then; None if no one has."""
    with roster.guarded():
        row = roster.db.execute(
            f"{_TAKEN} JOIN alert_event ON alert_event.alert = seen.alert WHERE device = ? AND seen.at >= ? "
            "ORDER BY seen.at DESC LIMIT 1",
            (device, to_ms(since)),
        ).fetchone()
        return _seen(row) if row is not None else None


def _seen(row: Row) -> Seen:
    return Seen(row["alert"], from_ms(row["at"]), row["who"], row["note"], row["message"])


def _followed(row: Row) -> Followed:
    return Followed(
        alert=row["alert"],
        channel=row["channel"],
        state=AlertState(row["state"]),
        due=from_ms(row["due"]),
        ended=from_ms(row["ended"]) if row["ended"] is not None else None,
        failed=row["attempts"] > 0 and row["state"] != AlertState.SENT,
        problem=row["problem"],
        message=row["message"],
        every=_span(row["every"]) if row["every"] is not None else None,
        times=row["times"],
        told=from_ms(row["told"]) if row["told"] is not None else None,
        second=row["second"],
        after=_span(row["after"]),
    )


def _ms(span: timedelta) -> int:
    return round(span.total_seconds() * 1000)


def _span(ms: int) -> timedelta:
    return timedelta(milliseconds=ms)
