"""What has to be mended when the machine's clock is set back: what was seen then would lie in the future."""

from __future__ import annotations

from datetime import datetime

from scopion.roster.store import Roster
from scopion.roster.stored import to_ms


def bring_back_from_the_future(roster: Roster, now: datetime) -> int:
    """Let nobody have been seen later than now: else silence would count only once that moment has come again.

    Events stay as they were told. Returns how many stays and adapters were changed.
    """
    at = to_ms(now)
    with roster.transaction() as db:
        before = db.total_changes
        db.execute("UPDATE stay SET until = ?1, since = min(since, ?1) WHERE present AND until > ?1", (at,))
        db.execute("UPDATE adapter SET last_seen = ?1, first_seen = min(first_seen, ?1) WHERE last_seen > ?1", (at,))
        db.execute("UPDATE unpaired SET until = ?1, since = min(since, ?1) WHERE until > ?1", (at,))
        return db.total_changes - before
