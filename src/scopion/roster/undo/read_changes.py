"""Reads the rows of a change: each as it was and as it became, so that it can be taken back.

The names of their relations and columns become parts of SQL statements, and a roster may be damaged or come from a
stranger. So only relations that changes touch are read, only columns that these have, and only values that the columns
can hold.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from sqlite3 import Row
from typing import Any

from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import NotOurs, as_written
from scopion.roster.undo.record_changes import Change

KEYS = {
    "device": ("id",),
    "adapter": ("mac",),
    "unpaired": ("place", "address"),
    "stay": ("id",),
    "trait": ("subject", "place", "kind", "value", "source"),
    "event": ("id",),
    "network": ("ssid",),
    "entry": ("id",),
    "exclusive": ("id",),
    "timetable": ("name",),
    "mute": ("id",),
    "association": ("mac",),
    "socket": ("switch", "port"),
}
# What a row that was noted before a column was there has in it.
_BEFORE = {"unpaired": {"place": ""}, "trait": {"place": ""}}
# The columns without which nothing can be taken back; others may have come with a later schema.
_NEEDED = {
    "adapter": ("device", "first_seen", "last_seen"),
    "stay": ("mac", "address", "since", "present"),
    "trait": ("first_seen", "last_seen"),
}


@dataclass(frozen=True, slots=True)
class RowChange:
    """One row as it was and as it became; None where it was not there."""

    relation: str
    before: dict[str, Any] | None
    after: dict[str, Any] | None


def rows_of(roster: Roster, change: Change) -> list[RowChange]:
    """Return what a change did, in the order in which it was done. Raises DamagedRoster."""
    with roster.guarded():
        rows = roster.db.execute("SELECT * FROM change_row WHERE change = ? ORDER BY step", (change.id,))
        return [_row_change(row) for row in rows]


def odd_rows(roster: Roster) -> Iterator[str]:
    """Yield what is wrong with the rows of all changes, one sentence for each damaged row."""
    for row in roster.db.execute("SELECT * FROM change_row"):
        try:
            _row_change(row)
        except NotOurs as error:
            yield f"row {row['step']} of change {row['change']}: {error.what}"


def _row_change(row: Row) -> RowChange:
    relation = row["relation"]
    if relation not in KEYS:
        raise NotOurs(f"{relation!r:.40} is nothing that a change touches")
    before, after = _image(relation, row["before"]), _image(relation, row["after"])
    if before is None and after is None:
        raise NotOurs("it was not there, and is not there")
    if before is not None and after is not None and before.keys() != after.keys():
        raise NotOurs("it has other columns before and after")
    return RowChange(relation, before, after)


@as_written("its JSON")
def _image(relation: str, text: str | None) -> dict[str, Any] | None:
    from scopion.roster.undo.check_columns import (  # all columns of the roster; few commands need them
        COLUMNS,
        NUMBER,
        require,
    )

    if text is None:
        return None
    found: dict[str, Any] = {**_BEFORE.get(relation, {}), **json.loads(text)}
    known = {"id": NUMBER, **COLUMNS[relation]} if KEYS[relation] == ("id",) else COLUMNS[relation]
    for column, value in found.items():
        if column not in known:
            raise NotOurs(f"{column!r:.40} is not a column of {relation}")
        require(known[column], value)
    missing = {*KEYS[relation], *_NEEDED.get(relation, ())} - found.keys()
    if missing:
        raise NotOurs(f"it has no {min(missing)}")
    return found
