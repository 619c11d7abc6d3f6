"""Mends the roster after the machine's clock was set back: what was seen then would be in the future."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import to_ms

if TYPE_CHECKING:
    from scopion.roster.wifi.push_deadlines import Boot

# The moments of the past, by table: none of them can be in the future. Due dates, mutes and ends of lists can.
PAST = {
    "device": ("first_seen", "standing_since"),
    "adapter": ("first_seen", "last_seen"),
    "stay": ("since", "until"),
    "unpaired": ("since", "until"),
    "event": ("at", "away_since"),
    "trait": ("first_seen", "last_seen"),
    "scan": ("started", "ended"),
    "subnet": ("since",),
    "association": ("since", "seen"),
    "alert": ("made", "ended"),
    "follow": ("told",),
    "seen": ("at",),
    "change": ("at", "undone"),
    "push": ("at", "ended"),
    "verification": ("at",),
    "posture": ("at",),
    "switch": ("read", "since"),
    "switch_port": ("seen",),
    "wire_stay": ("since", "until"),
    "air_stay": ("since", "until"),
    "counter": ("at",),
    "sensor": ("since", "heard", "told", "lost"),
    "sensor_life": ("at",),
    "sensor_boot": ("at",),
    "kept_document": ("at",),
}
_WEEK = 7 * 86_400_000  # no digest waits longer
# Clocks differ a little, and time zones are sometimes wrong.
AHEAD = timedelta(days=1)
_KEY = "clocks"  # meta: when the watch looked last: the start of the machine, the second after it, and the time of day
_SLOWLY = timedelta(minutes=1)  # a clock that is corrected slowly is not set back


def dated_ahead(roster: Roster, now: datetime) -> dict[str, int]:
    """Return how many rows of which tables have a past in the future: a clock was wrong then, or is now."""
    found = {}
    for table, columns in PAST.items():
        ahead = " OR ".join(f"{column} > ?1" for column in columns)
        found[table] = roster.db.execute(
            f"SELECT count(*) FROM {table} WHERE {ahead}", (to_ms(now + AHEAD),)
        ).fetchone()[0]
    return {table: count for table, count in found.items() if count}


def mend_times(roster: Roster, now: datetime) -> int:
    """Set moments in the future, from a wrong clock or another program, to now. Returns how many rows."""
    at, latest = to_ms(now), to_ms(now + AHEAD)
    with roster.transaction() as db:
        before = db.total_changes
        for table, columns in PAST.items():
            # A present stay is the only one of its adapter and address: none of these columns is part of a key.
            said = ", ".join(f"{column} = CASE WHEN {column} > ?2 THEN ?1 ELSE {column} END" for column in columns)
            ahead = " OR ".join(f"{column} > ?2" for column in columns)
            db.execute(f"UPDATE {table} SET {said} WHERE {ahead}", (at, latest))
        # An alert that waits for a wrong day is told now.
        db.execute("UPDATE alert SET due = ?1, again = 0 WHERE state = 'waiting' AND due > ?2", (at, latest + _WEEK))
        return db.total_changes - before


def bring_back_from_the_future(roster: Roster, now: datetime) -> int:
    """Let no sighting be later than now: else silence would only count once that moment has come again.

    Events stay as they were told. Returns how many stays and adapters were changed.
    """
    at = to_ms(now)
    with roster.transaction() as db:
        before = db.total_changes
        db.execute("UPDATE stay SET until = ?1, since = min(since, ?1) WHERE present AND until > ?1", (at,))
        db.execute("UPDATE adapter SET last_seen = ?1, first_seen = min(first_seen, ?1) WHERE last_seen > ?1", (at,))
        db.execute("UPDATE unpaired SET until = ?1, since = min(since, ?1) WHERE until > ?1", (at,))
        for table in ("wire_stay", "air_stay"):
            db.execute(f"UPDATE {table} SET until = ?1, since = min(since, ?1) WHERE until > ?1", (at,))
        return db.total_changes - before


def note_clocks(roster: Roster, boot: Boot | None, now: datetime) -> None:
    """Keep what both clocks of the machine show, for ``set_back_since``."""
    if boot is None:
        return
    with roster.transaction():
        roster.set_meta(_KEY, json.dumps([boot.identity, boot.seconds, now.timestamp()]))


def set_back_since(roster: Roster, boot: Boot | None, now: datetime) -> timedelta | None:
    """Return how far the time of day was set back since ``note_clocks``, below zero; None if it was not.

    While the machine runs on, its own seconds tell it. After a restart it is at least what the time of day lacks.
    """
    if boot is None:
        return None
    try:
        identity, seconds, wall = json.loads(roster.meta(_KEY) or "null")
        before = datetime.fromtimestamp(float(wall), UTC)
        passed = timedelta(seconds=boot.seconds - float(seconds)) if boot.identity == identity else timedelta()
    except (ValueError, TypeError, OverflowError, OSError):  # none was noted, or it is damaged
        return None
    ahead = now - before - passed
    return ahead if ahead < -_SLOWLY else None
