"""Whether a roster is sound: the file itself, and the rules that its rows keep."""

from __future__ import annotations

from datetime import datetime, timedelta

from scopion.roster.store import Roster
from scopion.roster.stored import to_ms

_SHOWN = 5
# Each rule: what is wrong, and the rows for which it is. ?1 is a moment that nothing can have been seen after.
_RULES = (
    ("a stay that ends before it begins", "SELECT mac || ' at ' || address FROM stay WHERE until < since"),
    (
        "stays of one adapter at one address that overlap",
        "SELECT a.mac || ' at ' || a.address FROM stay AS a JOIN stay AS b ON a.mac = b.mac AND a.address = b.address "
        "AND a.id < b.id AND a.since < b.until AND b.since < a.until",
    ),
    ("a stay in the future", "SELECT mac || ' at ' || address FROM stay WHERE until > ?1"),
    ("an event in the future", "SELECT kind || ' ' || address FROM event WHERE at > ?1"),
    ("an event of another device than its adapter's", "SELECT event.mac FROM event JOIN adapter "
     "ON adapter.mac = event.mac WHERE adapter.device <> event.device"),
    ("a trait of nobody", "SELECT subject FROM trait WHERE subject NOT IN "
     "(SELECT mac FROM adapter UNION SELECT address FROM unpaired)"),
)  # fmt: skip


def unsound(roster: Roster, now: datetime) -> list[str]:
    """What is wrong, one sentence each; nothing for a sound roster. Reads the whole file."""
    db = roster.db
    latest = to_ms(now + timedelta(days=1))  # clocks differ a little, and time zones are mistaken
    found: list[str] = []
    with roster.guarded():
        found += [f"the file: {row[0]}" for row in db.execute("PRAGMA integrity_check(10)") if row[0] != "ok"]
        found += [
            f"a row of {row[0]} refers to a missing one of {row[2]}" for row in db.execute("PRAGMA foreign_key_check")
        ]
        for what, query in _RULES:
            rows = db.execute(query, (latest,) if "?1" in query else ()).fetchmany(_SHOWN + 1)
            found += [f"{what}: {row[0]}" for row in rows[:_SHOWN]]
            found += [f"{what}: and more"] if len(rows) > _SHOWN else []
    return found
