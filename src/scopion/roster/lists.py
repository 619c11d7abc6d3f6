"""Wireless networks and the entries on their lists, as the roster keeps them. The rules live in wireless/."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from sqlite3 import Row

from scopion.model.errors import NotFound
from scopion.model.mac import MacAddress, Notation
from scopion.roster.store import Roster
from scopion.roster.stored import from_ms, stored_mac, to_ms


class ListMode(StrEnum):
    """What an enforcer does with a network's lists."""

    OFF = "off"
    ALLOW = "allow"  # only these may associate
    DENY = "deny"  # all but these


@dataclass(frozen=True, slots=True)
class Network:
    """A wireless network and the router's web page that holds its list."""

    ssid: str
    mode: ListMode
    notation: Notation  # what the router's page accepts
    capacity: int | None  # how many entries it holds; None: not known
    radios: tuple[str, ...]  # bands in GHz that carry it: "2.4", "5", "6"
    router: str  # address to open in a browser
    since: datetime


@dataclass(frozen=True, slots=True)
class Entry:
    """A device, or a bare MAC address, on a network's allow or deny list."""

    id: int
    ssid: str
    list: ListMode  # ALLOW or DENY
    device_id: int | None
    mac: MacAddress | None
    description: str
    since: datetime


def all_networks(roster: Roster) -> list[Network]:
    """Every wireless network, by name."""
    with roster.guarded():
        return [_network(row) for row in roster.db.execute("SELECT * FROM network ORDER BY ssid")]


def find_network(roster: Roster, ssid: str) -> Network | None:
    """One network, or None."""
    return next((each for each in all_networks(roster) if each.ssid == ssid), None)


def network(roster: Roster, ssid: str) -> Network:
    """One network. Raises NotFound."""
    found = find_network(roster, ssid)
    if found is None:
        raise no_network(ssid)
    return found


def no_network(ssid: str | None) -> NotFound:
    """The error to raise when there is no such network."""
    return NotFound(f"no wireless network {ssid!r} is known: scopion wifi allow or deny makes it, see wifi ssids")


def save_network(roster: Roster, each: Network) -> None:
    """Make a network, or change its settings and mode."""
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO network (ssid, mode, notation, capacity, radios, router, since) VALUES (?, ?, ?, ?, ?, ?, ?) "
            "ON CONFLICT (ssid) DO UPDATE SET mode = excluded.mode, notation = excluded.notation, "
            "capacity = excluded.capacity, radios = excluded.radios, router = excluded.router",
            (
                each.ssid,
                each.mode,
                each.notation,
                each.capacity,
                ",".join(each.radios),
                each.router,
                to_ms(each.since),
            ),
        )


def all_entries(roster: Roster, ssid: str | None = None) -> list[Entry]:
    """The entries of one network, or of all, in the order in which they were made."""
    with roster.guarded():
        rows = roster.db.execute(
            "SELECT * FROM entry WHERE ? IS NULL OR ssid = ? ORDER BY ssid, list, id", (ssid, ssid)
        )
        return [_entry(row) for row in rows]


def add_entry(
    roster: Roster,
    ssid: str,
    which: ListMode,
    subject: int | MacAddress,
    description: str,
    at: datetime,
) -> None:
    """Put a device (by its number) or a bare MAC, which is on no list of the network, on one."""
    device = subject if isinstance(subject, int) else None
    mac = None if isinstance(subject, int) else str(subject)
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO entry (ssid, list, device, mac, description, since) VALUES (?, ?, ?, ?, ?, ?)",
            (ssid, which, device, mac, description, to_ms(at)),
        )


def drop_entries(roster: Roster, ssid: str, subjects: Collection[int | MacAddress]) -> list[Entry]:
    """Take devices or bare MACs off a network's lists; returns the entries that they had."""
    with roster.transaction() as db:
        found = [
            entry
            for entry in all_entries(roster, ssid)
            if (entry.mac if entry.device_id is None else entry.device_id) in subjects
        ]
        db.executemany("DELETE FROM entry WHERE id = ?", [(entry.id,) for entry in found])
        return found


def _network(row: Row) -> Network:
    return Network(
        ssid=row["ssid"],
        mode=ListMode(row["mode"]),
        notation=Notation(row["notation"]),
        capacity=row["capacity"],
        radios=tuple(row["radios"].split(",")),
        router=row["router"],
        since=from_ms(row["since"]),
    )


def _entry(row: Row) -> Entry:
    return Entry(
        id=row["id"],
        ssid=row["ssid"],
        list=ListMode(row["list"]),
        device_id=row["device"],
        mac=stored_mac(row["mac"]) if row["mac"] else None,
        description=row["description"],
        since=from_ms(row["since"]),
    )
