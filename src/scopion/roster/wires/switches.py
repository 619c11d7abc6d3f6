"""The switches of the site and their ports, as they were read last."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import datetime
from sqlite3 import Row

from scopion.model.wires import Port, port_words
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, to_ms


@dataclass(frozen=True, slots=True)
class KnownSwitch:
    """A switch, and whether it can be read."""

    name: str  # as site.toml calls it
    read: datetime | None  # when it was read last; None: never
    own_name: str = ""  # as it calls itself
    problem: str = ""  # why it cannot be read; empty: it can
    since: datetime | None = None  # since when not
    remarks: tuple[str, ...] = ()  # what is wrong with its tables


@dataclass(frozen=True, slots=True)
class KnownPort:
    """A port of a switch, and what leads away from it."""

    id: int
    port: Port
    number: int
    alias: str = ""
    speed_mbit: int = 0  # 0: not told
    up: bool | None = None  # None: not told
    leads_to: str = ""  # the switch of the site that is behind it; empty: none
    behind: str = ""  # another device there that passes on what it gets, as it calls itself
    radio: bool = False  # ...to the air
    adapters: int = 0  # how many hang there, known and unknown ones
    socket: str = ""  # the socket on the wall at its other end, as people call it

    @property
    def where(self) -> str:
        """Return it as a sentence has it: ``office 3, left``, or ``port 7 of workshop switch`` without a socket."""
        return self.socket or str(self.port)

    @property
    def at_length(self) -> str:
        """Return the socket with the port: ``office 3, left (port 7 of workshop switch)``."""
        return f"{self.socket} ({self.port})" if self.socket else str(self.port)

    @property
    def short(self) -> str:
        """Return it for a table of one switch: ``port 7``."""
        return port_words(self.port.name)


_PORTS = (
    "SELECT switch_port.*, socket.name AS socket FROM switch_port "
    "LEFT JOIN socket ON socket.switch = switch_port.switch AND socket.port = switch_port.name"
)


def note_switch(roster: Roster, name: str, own_name: str, at: datetime, remarks: Iterable[str] = ()) -> None:
    """Remember that a switch was read."""
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO switch (name, read, own_name, remarks) VALUES (?, ?, ?, ?) ON CONFLICT (name) DO UPDATE "
            "SET read = excluded.read, own_name = excluded.own_name, remarks = excluded.remarks, problem = '', "
            "since = NULL",
            (name, to_ms(at), own_name, "\n".join(remarks)),
        )


def note_unread(roster: Roster, name: str, problem: str, at: datetime) -> None:
    """Remember that a switch cannot be read, and since when."""
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO switch (name, problem, since) VALUES (?, ?, ?) ON CONFLICT (name) DO UPDATE SET "
            "problem = excluded.problem, since = CASE WHEN problem = '' THEN excluded.since ELSE since END",
            (name, problem, to_ms(at)),
        )


def note_ports(roster: Roster, switch: str, ports: Iterable[KnownPort], at: datetime) -> dict[Port, int]:
    """Remember the ports of a switch as they are now; those that it does not have any more go. Returns their numbers
    in the roster.
    """
    with roster.transaction() as db:
        for each in ports:
            db.execute(
                "INSERT INTO switch_port (switch, name, number, alias, speed, up, leads_to, behind, radio, adapters, "
                "seen) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (switch, name) DO UPDATE SET "
                "number = excluded.number, alias = excluded.alias, speed = excluded.speed, up = excluded.up, "
                "leads_to = excluded.leads_to, behind = excluded.behind, radio = excluded.radio, "
                "adapters = excluded.adapters, seen = excluded.seen",
                (
                    switch, each.port.name, each.number, each.alias, each.speed_mbit, each.up, each.leads_to,
                    each.behind, each.radio, each.adapters, to_ms(at),
                ),
            )  # fmt: skip
        db.execute(
            "UPDATE switch_port SET up = 0, adapters = 0, leads_to = '', behind = '' WHERE switch = ? AND seen < ?",
            (switch, to_ms(at)),
        )
        rows = db.execute("SELECT id, name FROM switch_port WHERE switch = ?", (switch,))
        return {Port(switch, row["name"]): row["id"] for row in rows}


def known_switches(roster: Roster) -> dict[str, KnownSwitch]:
    """Return all switches that were read, or tried, by name."""
    with roster.guarded():
        return {row["name"]: _switch(row) for row in roster.db.execute("SELECT * FROM switch ORDER BY name")}


def known_ports(roster: Roster) -> dict[int, KnownPort]:
    """Return all ports by their numbers in the roster, each switch's by their own numbers."""
    with roster.guarded():
        rows = roster.db.execute(f"{_PORTS} ORDER BY switch_port.switch, switch_port.number, switch_port.name")
        return {row["id"]: _port(row) for row in rows}


def forget_switches(roster: Roster, kept: Collection[str]) -> None:
    """Remove what is known of switches that site.toml does not name any more; names of sockets stay."""
    with roster.transaction() as db:
        for (name,) in db.execute("SELECT name FROM switch UNION SELECT switch FROM switch_port").fetchall():
            if name not in kept:
                db.execute("DELETE FROM switch_port WHERE switch = ?", (name,))  # and the stays at its ports
                db.execute("DELETE FROM switch WHERE name = ?", (name,))


def _switch(row: Row) -> KnownSwitch:
    return KnownSwitch(
        row["name"],
        from_ms(row["read"]) if row["read"] is not None else None,
        row["own_name"],
        row["problem"],
        from_ms(row["since"]) if row["since"] is not None else None,
        tuple(filter(None, row["remarks"].split("\n"))),
    )


def _port(row: Row) -> KnownPort:
    return KnownPort(
        id=row["id"],
        port=Port(row["switch"], row["name"]),
        number=row["number"],
        alias=row["alias"],
        speed_mbit=row["speed"],
        up=bool(row["up"]) if row["up"] is not None else None,
        leads_to=row["leads_to"],
        behind=row["behind"],
        radio=bool(row["radio"]),
        adapters=row["adapters"],
        socket=row["socket"] or "",
    )
