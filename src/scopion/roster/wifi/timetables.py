"""Named timetables: windows of a week that many entries use under one name."""

from __future__ import annotations

import re
from datetime import datetime

from scopion.model.errors import NotFound, UsageError
from scopion.model.week import Week
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written, to_ms

MARK = "@"  # stands before a timetable's name in hours
_NAME = re.compile(r"[^\W\d][\w-]{0,29}")


def timetables(roster: Roster) -> dict[str, Week]:
    """Return every timetable by its name, in the order of names."""
    with roster.guarded():
        rows = roster.db.execute("SELECT name, windows FROM timetable ORDER BY name").fetchall()
        with as_written("a timetable"):
            return {row["name"]: Week.parse(row["windows"]) for row in rows}


def save_timetable(roster: Roster, name: str, week: Week, at: datetime) -> None:
    """Make a timetable, or give one other windows. Raises UsageError for what cannot be a name."""
    if not _NAME.fullmatch(name):
        raise UsageError(f"{name!r} is not a timetable's name: letters, digits, - and _, at most 30")
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO timetable (name, windows, since) VALUES (?, ?, ?) "
            "ON CONFLICT (name) DO UPDATE SET windows = excluded.windows",
            (name, str(week), to_ms(at)),
        )


def remove_timetable(roster: Roster, name: str) -> None:
    """Remove a timetable that is not in use. Raises NotFound, UsageError."""
    with roster.transaction() as db:
        found = db.execute("SELECT name FROM timetable WHERE name = ?", (name,)).fetchone()
        if found is None:
            raise no_timetable(name)
        used = db.execute(
            "SELECT count(*) FROM (SELECT hours FROM entry UNION ALL SELECT others_hours FROM network) "
            "WHERE hours = ? COLLATE NOCASE",
            (MARK + name,),
        ).fetchone()[0]
        if used:
            raise UsageError(f"timetable {name!r} is used {used} times: give those other hours first")
        db.execute("DELETE FROM timetable WHERE name = ?", (name,))


def no_timetable(name: str) -> NotFound:
    """Return the error to raise when there is no such timetable."""
    return NotFound(f"there is no timetable {name!r}: scopion wifi timetable NAME HOURS makes one")


def stored_hours(roster: Roster, text: str) -> str:
    """Return hours as they are kept: windows in one notation, or @NAME. Raises UsageError, NotFound."""
    plain = text.strip()
    name = plain.removeprefix(MARK)
    known = {each.casefold(): each for each in timetables(roster)}
    if name.casefold() in known:
        return MARK + known[name.casefold()]
    if plain.startswith(MARK) or _NAME.fullmatch(plain):
        raise no_timetable(name)
    return str(Week.parse(plain))


def week_of(hours: str, known: dict[str, Week]) -> Week | None:
    """Return the windows of kept hours; None: always."""
    if not hours:
        return None
    with as_written("hours"):
        return known[hours.removeprefix(MARK)] if hours.startswith(MARK) else Week.parse(hours)
