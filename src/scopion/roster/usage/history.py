"""What passed, in minutes of the last hour, hours of the last month, and days of years: so it grows no further."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from sqlite3 import Connection

from scopion.model.usage import Passed, UsageSource
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import stored_words

MINUTE, HOUR, DAY = 60, 3_600, 86_400  # steps, in seconds
# For how long each step is kept: an hour in minutes, a month in hours, years in days.
KEPT = {MINUTE: timedelta(minutes=75), HOUR: timedelta(days=32), DAY: timedelta(days=1_100)}
_SOURCE = stored_words(UsageSource)


@dataclass(frozen=True, slots=True)
class Used:
    """What one counter has counted for one device or port in a time."""

    source: UsageSource
    subject: str  # a MAC address, or the number of a port in the roster
    where: str  # who counted, in words
    up: int  # octets from the device
    down: int  # octets to it
    errors: int = 0

    @property
    def total(self) -> int:
        """Return octets both ways."""
        return self.up + self.down


@dataclass(frozen=True, slots=True)
class Step:
    """What passed in one minute, hour or day."""

    at: datetime  # its beginning
    up: int
    down: int


Local = Callable[[datetime], datetime]


def begin_of(step: int, moment: datetime, local: Local) -> datetime:
    """Return when the minute, hour or day of the site's clock began that a moment is in."""
    wall = local(moment)
    begun = wall.replace(second=0, microsecond=0)
    if step >= HOUR:
        begun = begun.replace(minute=0)
    if step >= DAY:
        begun = begun.replace(hour=0)
    return begun.astimezone(UTC)


def add_passed(
    db: Connection, source: UsageSource, subject: str, where: str, since: Passed, at: datetime, local: Local
) -> None:
    """Add what passed up to a moment to the minutes, hours and days in which it did, evenly."""
    if not (since.up or since.down or since.errors):
        return
    db.execute(
        "INSERT INTO meter (source, subject, place) VALUES (?, ?, ?) ON CONFLICT (source, subject) DO UPDATE SET "
        "place = excluded.place",
        (source, subject, where),
    )
    meter = db.execute("SELECT id FROM meter WHERE source = ? AND subject = ?", (source, subject)).fetchone()[0]
    began = at - timedelta(seconds=since.seconds)
    for step, kept in KEPT.items():
        for begun, first, last in _shares(step, began, at, local):
            if begun < at - kept:
                continue
            up, down, errors = (
                round(octets * last) - round(octets * first) for octets in (since.up, since.down, since.errors)
            )
            db.execute(
                "INSERT INTO usage (step, at, meter, up, down, errors) VALUES (?, ?, ?, ?, ?, ?) "
                "ON CONFLICT (meter, step, at) DO UPDATE SET up = up + excluded.up, down = down + excluded.down, "
                "errors = errors + excluded.errors",
                (step, int(begun.timestamp()), meter, up, down, errors),
            )


def _shares(step: int, began: datetime, ended: datetime, local: Local) -> Iterator[tuple[datetime, float, float]]:
    """Yield the steps of a time, each with the shares of it that lie before its beginning and its end."""
    whole = (ended - began).total_seconds()
    at = began
    if step == MINUTE:
        at = max(began, ended - KEPT[MINUTE])
    while at < ended:
        begun = begin_of(step, at, local)
        # Some days have 23 or 25 hours: the next one begins where the clock says so.
        follows = begin_of(step, begun + timedelta(seconds=step * 1.5), local)
        end = min(ended, max(follows, at + timedelta(seconds=1)))
        yield begun, (at - began).total_seconds() / whole, (end - began).total_seconds() / whole
        at = end


def used_since(roster: Roster, since: datetime, step: int = HOUR) -> list[Used]:
    """Return what each counter has counted for each subject in the steps that began at a moment or later."""
    with roster.guarded():
        rows = roster.db.execute(
            "SELECT source, subject, place, sum(up) AS up, sum(down) AS down, sum(errors) AS errors FROM meter "
            "CROSS JOIN usage ON usage.meter = meter.id WHERE step = ? AND at >= ? GROUP BY meter.id",
            (step, int(since.timestamp())),
        )
        return [
            Used(_SOURCE[row["source"]], row["subject"], row["place"], row["up"], row["down"], row["errors"])
            for row in rows
        ]


def first_used(roster: Roster) -> datetime | None:
    """Return the first day of which anything is known; None if nothing is."""
    with roster.guarded():
        row = roster.db.execute(
            "SELECT min(at) FROM meter CROSS JOIN usage ON usage.meter = meter.id WHERE step = ?", (DAY,)
        ).fetchone()
        return datetime.fromtimestamp(row[0], UTC) if row[0] is not None else None


def steps_of(roster: Roster, counters: Iterable[tuple[UsageSource, str]], since: datetime, step: int) -> list[Step]:
    """Return what some counters have counted together since a moment, step by step; steps without anything are left
    out.
    """
    sums: dict[int, tuple[int, int]] = {}
    with roster.guarded():
        for source, subject in counters:
            rows = roster.db.execute(
                "SELECT at, up, down FROM meter JOIN usage ON usage.meter = meter.id AND step = ? AND at >= ? "
                "WHERE source = ? AND subject = ?",
                (step, int(since.timestamp()), source, subject),
            )
            for row in rows:
                up, down = sums.get(row["at"], (0, 0))
                sums[row["at"]] = up + row["up"], down + row["down"]
    return [Step(datetime.fromtimestamp(at, UTC), *sums[at]) for at in sorted(sums)]


def remove_old_usage(roster: Roster, now: datetime) -> int:
    """Remove what is older than its step is kept, and what a wrong clock has put into the future. Returns how many
    rows.
    """
    with roster.transaction() as db:
        removed = 0
        for step, kept in KEPT.items():
            oldest, latest = (int(each.timestamp()) for each in (now - kept, now + timedelta(days=1)))
            over = "DELETE FROM usage WHERE step = ? AND (at < ? OR at > ?)"
            removed += db.execute(over, (step, oldest, latest)).rowcount
        db.execute("DELETE FROM meter WHERE id NOT IN (SELECT DISTINCT meter FROM usage)")
        return removed


def forget_usage(db: Connection, mac: str) -> None:
    """Remove all that was counted of an adapter, and how far its counters were."""
    db.execute("DELETE FROM usage WHERE meter IN (SELECT id FROM meter WHERE subject = ?)", (mac,))
    db.execute("DELETE FROM meter WHERE subject = ?", (mac,))
    db.execute("DELETE FROM counter WHERE ? IN (subject, also)", (mac,))
