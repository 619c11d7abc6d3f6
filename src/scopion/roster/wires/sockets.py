"""The names that people give to sockets: each belongs to a port of a switch, whatever hangs there."""

from __future__ import annotations

from scopion.model.errors import Refused
from scopion.model.wires import Port
from scopion.roster.store.open_roster import Roster


def name_socket(roster: Roster, port: Port, name: str) -> str:
    """Give the socket at a port a name; an empty one takes it away. Returns its name before.

    Raises Refused if another port has that name: one socket has one cable.
    """
    with roster.transaction() as db:
        before = db.execute("SELECT name FROM socket WHERE switch = ? AND port = ?", port).fetchone()
        other = db.execute("SELECT switch, port FROM socket WHERE name = ? COLLATE NOCASE", (name,)).fetchone()
        if name and other is not None and tuple(other) != tuple(port):
            raise Refused(f"{Port(*other)} has the socket {name!r} already: each socket has a name of its own")
        if name:
            db.execute(
                "INSERT INTO socket (switch, port, name) VALUES (?, ?, ?) "
                "ON CONFLICT (switch, port) DO UPDATE SET name = excluded.name",
                (*port, name),
            )
        else:
            db.execute("DELETE FROM socket WHERE switch = ? AND port = ?", port)
        return str(before["name"]) if before is not None else ""


def sockets(roster: Roster) -> dict[Port, str]:
    """Return the names of all sockets."""
    with roster.guarded():
        rows = roster.db.execute("SELECT * FROM socket ORDER BY switch, port")
        return {Port(row["switch"], row["port"]): row["name"] for row in rows}
