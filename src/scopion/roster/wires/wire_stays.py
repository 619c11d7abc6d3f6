"""Stays at ports: since when an adapter hangs at which port, and where it hung before."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from sqlite3 import Connection, Row

from scopion.model.mac import MacAddress
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_mac, to_ms

# A switch forgets an adapter that is silent after five minutes, as a rule. A printer may sleep for longer: it counts as
# gone from its port after an hour, or as soon as the port has no link.
_SILENT = timedelta(hours=1)
# Adapters that are no device of the roster: those of other subnets, or made-up ones of somebody who floods the switch.
_MOST_UNKNOWN = 1_000
# Of an adapter that moves all the time, so many stays are kept: a telephone that changes its access point every hour
# has them in two weeks.
_MOST_OF_ONE = 300


@dataclass(frozen=True, slots=True)
class Hung:
    """Where an adapter hangs, as was worked out by the latest readings."""

    mac: MacAddress
    port: int  # its number in the roster
    vlan: int
    at_edge: bool


@dataclass(frozen=True, slots=True)
class WireStay:
    """An unbroken time of an adapter at a port."""

    mac: MacAddress
    port: int  # its number in the roster
    vlan: int  # 0: not told
    at_edge: bool  # False: it is somewhere behind that port
    since: datetime
    until: datetime  # when a switch knew it there last
    present: bool


@dataclass(frozen=True, slots=True)
class Replugged:
    """An adapter that hangs at another port than before."""

    mac: MacAddress
    was: int  # ports, by their numbers in the roster
    now: int


def note_hanging(roster: Roster, hanging: Iterable[Hung], at: datetime, down: Collection[int] = ()) -> list[Replugged]:
    """Extend, begin and end stays. Returns which adapters hang at another port than they did.

    ``down`` are ports without a link: what hung there does not any more.
    """
    moved: list[Replugged] = []
    now = to_ms(at)
    with roster.transaction() as db:
        present = {row["mac"]: row for row in db.execute("SELECT * FROM wire_stay WHERE present")}
        known = {row[0] for row in db.execute("SELECT mac FROM adapter")}
        unknown = sum(mac not in known for mac in present)
        for each in hanging:
            mac = str(each.mac)
            before = present.get(mac)
            if before is not None and before["port"] == each.port:
                db.execute(
                    "UPDATE wire_stay SET until = ?1, since = min(since, ?1), vlan = ?2, at_edge = ?3 WHERE id = ?4",
                    (now, each.vlan, each.at_edge, before["id"]),
                )
                continue
            if before is None and mac not in known:
                if unknown >= _MOST_UNKNOWN:
                    continue
                unknown += 1
            if not each.at_edge and before is not None and before["at_edge"]:
                continue  # a switch nearer to it has said more, and cannot be read just now or has forgotten it
            was = _last_edge(db, mac) if each.at_edge else None
            db.execute("UPDATE wire_stay SET present = 0 WHERE mac = ? AND present", (mac,))
            db.execute(
                "INSERT INTO wire_stay (mac, port, vlan, at_edge, since, until, present) VALUES (?, ?, ?, ?, ?, ?, 1)",
                (mac, each.port, each.vlan, each.at_edge, now, now),
            )
            if was is not None and was != each.port:
                moved.append(Replugged(each.mac, was, each.port))
        db.execute(
            "UPDATE wire_stay SET present = 0 WHERE present AND until < ?",
            (to_ms(at - _SILENT),),
        )
        db.executemany("UPDATE wire_stay SET present = 0 WHERE present AND port = ?", [(port,) for port in down])
    return moved


def _last_edge(db: Connection, mac: str) -> int | None:
    row = db.execute(
        "SELECT port FROM wire_stay WHERE mac = ? AND at_edge ORDER BY until DESC, id DESC LIMIT 1", (mac,)
    ).fetchone()
    return row["port"] if row is not None else None


def hung_last(roster: Roster) -> dict[MacAddress, int]:
    """Return the port of each adapter that hangs somewhere now."""
    with roster.guarded():
        rows = roster.db.execute("SELECT mac, port FROM wire_stay WHERE present AND at_edge")
        return {stored_mac(row["mac"]): row["port"] for row in rows}


def present_wire_stays(roster: Roster) -> dict[MacAddress, WireStay]:
    """Return the stay of each adapter that hangs somewhere now."""
    with roster.guarded():
        rows = roster.db.execute("SELECT * FROM wire_stay WHERE present ORDER BY id")
        return {stay.mac: stay for stay in map(_stay, rows)}


def lone_adapters(roster: Roster) -> dict[int, MacAddress]:
    """Return the adapters that hang alone at a port, with nothing there that passes on what it gets, by port."""
    with roster.guarded():
        rows = roster.db.execute(
            "SELECT wire_stay.port, wire_stay.mac FROM wire_stay JOIN switch_port ON switch_port.id = wire_stay.port "
            "WHERE present AND at_edge AND adapters = 1 AND leads_to = '' AND behind = ''"
        )
        return {row["port"]: stored_mac(row["mac"]) for row in rows}


def wire_stays_of(roster: Roster, macs: Iterable[MacAddress], since: datetime) -> list[WireStay]:
    """Return the stays of some adapters that were not over by a moment, the latest first; else the last of each."""
    found: list[WireStay] = []
    with roster.guarded():
        for mac in macs:
            rows = roster.db.execute(
                "SELECT * FROM wire_stay WHERE mac = ? ORDER BY present DESC, until DESC, id DESC LIMIT ?",
                (str(mac), _MOST_OF_ONE),
            )
            for number, stay in enumerate(map(_stay, rows)):
                if number == 0 or stay.present or stay.until >= since:
                    found.append(stay)
    return sorted(found, key=lambda stay: (stay.present, stay.until), reverse=True)


def remove_old_wire_stays(db: Connection, before: int) -> int:
    """Remove stays that were over by a moment (milliseconds), except the latest of each adapter; and all but the latest
    few hundred of one adapter. Returns how many.
    """
    return db.execute(
        "DELETE FROM wire_stay WHERE id IN (SELECT id FROM (SELECT id, until, present, row_number() OVER "
        "(PARTITION BY mac ORDER BY present DESC, until DESC, id DESC) AS place FROM wire_stay) "
        "WHERE NOT present AND place > 1 AND (until < ? OR place > ?))",
        (before, _MOST_OF_ONE),
    ).rowcount


def by_port(stays: Mapping[MacAddress, WireStay]) -> dict[int, list[WireStay]]:
    """Return stays by port."""
    found: dict[int, list[WireStay]] = {}
    for stay in stays.values():
        found.setdefault(stay.port, []).append(stay)
    return found


def _stay(row: Row) -> WireStay:
    return WireStay(
        stored_mac(row["mac"]), row["port"], row["vlan"], bool(row["at_edge"]), from_ms(row["since"]),
        from_ms(row["until"]), bool(row["present"]),
    )  # fmt: skip
