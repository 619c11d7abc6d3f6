"""Checks whether a roster is sound: the file itself, and the rules that its rows keep."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from datetime import datetime
from itertools import islice

from scopion.model.text import clean, counted
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import UNPAIRED_SUBJECT, NotOurs
from scopion.roster.undo.check_columns import COLUMNS, Reader, Whole, no_value
from scopion.roster.undo.read_changes import odd_rows
from scopion.roster.upkeep.mend_clock import dated_ahead

_SHOWN = 5
_COMPACT = "scopion roster compact brings them back"
_OBJECTS = "SELECT type, name FROM sqlite_schema WHERE name NOT LIKE 'sqlite_%'"
# Each rule: what is wrong, and the rows for which it is.
_RULES = (
    ("a stay that ends before it begins", "SELECT mac || ' at ' || address FROM stay WHERE until < since"),
    (
        "stays of one adapter at one address that overlap",
        "SELECT mac || ' at ' || address FROM (SELECT mac, address, since, max(until) OVER "
        "(PARTITION BY mac, address, place ORDER BY since, until ROWS BETWEEN UNBOUNDED PRECEDING AND 1 PRECEDING) "
        "AS latest FROM stay) "
        "WHERE since < latest",
    ),
    ("an event of another device than its adapter's", "SELECT event.mac FROM event JOIN adapter "
     "ON adapter.mac = event.mac WHERE adapter.device <> event.device"),
    ("a trait of no adapter", "SELECT subject FROM trait WHERE subject NOT IN "
     f"(SELECT mac FROM adapter UNION SELECT {UNPAIRED_SUBJECT} FROM unpaired)"),
)  # fmt: skip


def unsound(roster: Roster, now: datetime) -> list[str]:
    """Return what is wrong, one sentence each; nothing for a sound roster. Reads the whole file."""
    db = roster.db
    found: list[str] = []
    with roster.guarded():
        found += [f"the file: {row[0]}" for row in db.execute("PRAGMA integrity_check(10)") if row[0] != "ok"]
        found += [
            f"a row of {row[0]} refers to a missing one of {row[2]}" for row in db.execute("PRAGMA foreign_key_check")
        ]
        for what, query in _RULES:
            rows = db.execute(query).fetchmany(_SHOWN + 1)
            found += _told(what, [row[0] for row in rows])
        for table, count in dated_ahead(roster, now).items():
            found.append(f"{counted(count, f'row of {table}', f'rows of {table}')} in the future: {_COMPACT}")
        for table, columns in COLUMNS.items():
            for column, read in columns.items():
                found += _told(f"the {column} of a row of {table}", _unreadable(roster, table, column, read))
        found += _told("what a change did", [*islice(odd_rows(roster), _SHOWN + 1)])
    return found


def foreign_schema(roster: Roster) -> list[str]:
    """Return what is in the file beside Scopion's own tables: triggers and views act when others read or write."""
    from sqlite3 import connect

    from scopion.roster.store.schema import bring_up

    with closing(connect(":memory:")) as fresh:
        bring_up(fresh, 0)
        own = set(fresh.execute(_OBJECTS))
    with roster.guarded():
        found = {tuple(row) for row in roster.rows(_OBJECTS)}
    return [f"{clean(str(kind), 20)} {clean(str(name), 40)!r} is unknown" for kind, name in sorted(found - own)] + [
        f"{kind} {name!r} is missing" for kind, name in sorted(own - found)
    ]


def _told(what: str, cases: Sequence[str]) -> list[str]:
    return [f"{what}: {case}" for case in cases[:_SHOWN]] + ([f"{what}: and more"] if len(cases) > _SHOWN else [])


def _unreadable(roster: Roster, table: str, column: str, read: Reader | Whole) -> list[str]:
    if isinstance(read, Whole):
        wrong = roster.rows(f"SELECT DISTINCT {column} FROM {table} WHERE {read.wrong(column)} LIMIT {_SHOWN + 1}")
        return [no_value(value).what for (value,) in wrong]
    found = []
    for (text,) in roster.rows(f"SELECT DISTINCT {column} FROM {table}"):
        try:
            read(text)
        except NotOurs as error:
            found.append(error.what)
    return found
