"""Whether a roster is sound: the file itself, and the rules that its rows keep."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime, timedelta

from scopion.roster.store import Roster
from scopion.roster.stored import NotOurs, stored_address, stored_mac, to_ms

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
# What each column has to hold, and how it is read.
_TEXTS: tuple[tuple[str, str, Callable[[str], object]], ...] = (
    ("adapter", "mac", stored_mac),
    ("stay", "address", stored_address),
    ("unpaired", "address", stored_address),
    ("event", "address", stored_address),
)


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
            found += _told(what, [row[0] for row in rows])
        for table, column, read in _TEXTS:
            found += _told(f"the {column} of a row of {table}", _unreadable(roster, table, column, read))
    return found


def _told(what: str, cases: Sequence[str]) -> list[str]:
    return [f"{what}: {case}" for case in cases[:_SHOWN]] + ([f"{what}: and more"] if len(cases) > _SHOWN else [])


def _unreadable(roster: Roster, table: str, column: str, read: Callable[[str], object]) -> list[str]:
    found = []
    for (text,) in roster.rows(f"SELECT DISTINCT {column} FROM {table}"):
        try:
            read(text)
        except NotOurs as error:
            found.append(str(error))
    return found
