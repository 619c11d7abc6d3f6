"""The counters as they were read last, so that the next reading tells what passed, also after a restart."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import datetime
from sqlite3 import Connection, Row

from scopion.model.usage import FASTEST_BPS, Count, Passed, UsageSource, passed
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_words, to_ms
from scopion.roster.usage.history import add_passed

# An access point in a busy place meets thousands of made-up addresses in a day: the latest counters are kept.
_MOST = 5_000
SOURCE = stored_words(UsageSource)


@dataclass(frozen=True, slots=True)
class CountRead:
    """A counter that was read, and who is meant by it."""

    source: UsageSource
    subject: str  # a MAC address, or the number of a port in the roster
    where: str  # who counts, in words: an access point, a port
    count: Count
    most_bps: float = FASTEST_BPS
    also: str = ""  # of a port: the adapter that hangs there alone, by its MAC address
    key: str = ""  # by which it is known again, if a subject has several; empty: its subject
    new_is_zero: bool = False  # one that its place did not have at the last reading has begun with 0 since


@dataclass(frozen=True, slots=True)
class Rate:
    """How fast it was between the last two readings."""

    source: UsageSource
    subject: str
    where: str
    up_bps: float
    down_bps: float
    at: datetime  # of the last reading
    seconds: float  # between both


def note_counts(roster: Roster, read: Iterable[CountRead], at: datetime, local: Callable[[datetime], datetime]) -> None:
    """Add what has passed since each counter was read before, and keep it for the next reading."""
    with roster.transaction() as db:
        for each in read:
            key = (each.source, each.key or each.subject)
            row = db.execute("SELECT * FROM counter WHERE source = ? AND key = ?", key).fetchone()
            if row is None and each.new_is_zero:
                row = _last_of(db, each, at)
            before = _count(row) if row is not None else None
            elapsed = (at - from_ms(row["at"])).total_seconds() if row is not None else 0.0
            since = passed(before, each.count, elapsed, each.most_bps)
            if since is not None:
                add_passed(db, each.source, each.subject, each.where, since, at, local)
                if each.also:
                    add_passed(db, UsageSource.CABLE, each.also, each.where, since, at, local)
            _keep(db, each, since, at)
        db.execute(
            "DELETE FROM counter WHERE at < (SELECT at FROM counter ORDER BY at DESC LIMIT 1 OFFSET ?)", (_MOST,)
        )


def _last_of(db: Connection, each: CountRead, at: datetime) -> Row | None:
    """Return the last reading of a place as if this counter had been in it, with nothing counted."""
    row: Row | None = db.execute(
        "SELECT 0 AS up, 0 AS down, 0 AS errors, own_s, bits, mark, at FROM counter "
        "WHERE source = ? AND place = ? AND at < ? ORDER BY at DESC LIMIT 1",
        (each.source, each.where, to_ms(at)),
    ).fetchone()
    return row


def _keep(db: Connection, each: CountRead, since: Passed | None, at: datetime) -> None:
    count = each.count
    db.execute(
        "INSERT OR REPLACE INTO counter (source, key, subject, place, also, up, down, errors, own_s, mark, bits, at, "
        "up_bps, down_bps, seconds) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            each.source, each.key or each.subject, each.subject, each.where, each.also, count.up, count.down,
            count.errors, count.own_s, count.mark, count.bits, to_ms(at),
            *((since.up_bps, since.down_bps, since.seconds) if since is not None else (0, 0, 0)),
        ),
    )  # fmt: skip


def rates_since(roster: Roster, moment: datetime) -> list[Rate]:
    """Return the rates of counters that were read since a moment; those of a lone adapter at a port are its own."""
    with roster.guarded():
        rows = roster.db.execute("SELECT * FROM counter WHERE at >= ? AND seconds > 0", (to_ms(moment),))
        return [each for row in rows for each in _rates(row)]


def last_counted(roster: Roster, source: UsageSource) -> datetime | None:
    """Return when a counter of a kind was read last; None: none was."""
    with roster.guarded():
        row = roster.db.execute("SELECT max(at) FROM counter WHERE source = ?", (source,)).fetchone()
        return from_ms(row[0]) if row[0] is not None else None


def _rates(row: Row) -> list[Rate]:
    told = (row["place"], row["up_bps"], row["down_bps"], from_ms(row["at"]), row["seconds"])
    found = [Rate(SOURCE[row["source"]], row["subject"], *told)]
    return [*found, Rate(UsageSource.CABLE, row["also"], *told)] if row["also"] else found


def _count(row: Row) -> Count:
    return Count(row["up"], row["down"], row["own_s"], row["bits"], row["errors"], mark=row["mark"])
