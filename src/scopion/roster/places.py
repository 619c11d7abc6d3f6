"""The places of a site: buildings or VLANs with ears of their own. The machine that keeps the roster is in one of them.

The only place of a site has no name, so that no one has to think of places. It gets one before there is a second.
"""

from __future__ import annotations

from sqlite3 import Connection

from scopion.roster.store.open_roster import HOME, Roster
from scopion.roster.store.stored_values import unpaired_subject

_PLACED = ("stay", "scan", "event", "subnet", "unpaired", "trait", "sensor")
_EVERYWHERE = "SELECT place FROM subnet UNION SELECT place FROM stay UNION SELECT place FROM unpaired"


def known_places(roster: Roster) -> list[str]:
    """Return the names of all places of which anything is known, this machine's first."""
    home = roster.home
    with roster.guarded():
        others = {row[0] for row in roster.rows(_EVERYWHERE)}
    return [home, *sorted(others - {home})]


def name_home(roster: Roster, name: str) -> bool:
    """Give this machine's place a name, and with it everything that is known of it. Returns False if another place has
    this name, and something is known of both. If nothing is known of this one yet, it is that other place: as after an
    import.
    """
    with roster.transaction() as db:
        former = roster.home
        if name == former:
            return True
        others = {row[0] for row in roster.rows(_EVERYWHERE)}
        if name not in others:
            rename_place(db, former, name)
        elif former in others:
            return False
        roster.set_meta(HOME, name or None)
    return True


def rename_place(db: Connection, former: str, name: str) -> None:
    """Give everything that is known of a place to another name, which no place has. Called in a transaction."""
    for (address,) in db.execute("SELECT address FROM unpaired WHERE place = ?", (former,)).fetchall():
        subjects = (unpaired_subject(name, address), unpaired_subject(former, address))
        db.execute("UPDATE trait SET subject = ? WHERE subject = ?", subjects)
    for table in _PLACED:
        db.execute(f"UPDATE {table} SET place = ? WHERE place = ?", (name, former))
