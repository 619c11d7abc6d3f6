"""Wireless networks and the entries on their lists, as the roster keeps them. ``wireless`` has the rules."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from sqlite3 import Row

from scopion.model.errors import NotFound
from scopion.model.mac import MacAddress, Notation
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written, from_ms, stored_mac, to_ms


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
    others_hours: str = ""  # when devices on no list may associate; empty: as the mode says
    lists_of: str | None = None  # the network whose lists it uses
    only_until: datetime | None = None  # until then only its exclusives may associate

    @property
    def lists(self) -> str:
        """Return the SSID under which its entries are kept."""
        return self.lists_of or self.ssid


@dataclass(frozen=True, slots=True)
class Override:
    """Whether an entry has its effect until a moment, whatever its other terms say."""

    on: bool
    until: datetime


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
    hours: str = ""  # windows of a week, or @NAME of a timetable; empty: always
    until: datetime | None = None  # when it ends
    paused: bool = False
    who: str = ""  # the account that made it
    override: Override | None = None

    @property
    def subject(self) -> int | MacAddress:
        """Return what it is about: a device's number, or a bare MAC address."""
        if self.device_id is not None:
            return self.device_id
        assert self.mac is not None
        return self.mac


@dataclass(frozen=True, slots=True)
class EntryTerms:
    """The terms of an entry: why, when it holds, until when, whether it is paused, which account made it, and what
    holds instead for a while.
    """

    description: str = ""
    hours: str = ""
    until: datetime | None = None
    paused: bool = False
    who: str = ""
    override: Override | None = None


def all_networks(roster: Roster) -> list[Network]:
    """Return every wireless network, by name."""
    with roster.guarded():
        return [_network(row) for row in roster.db.execute("SELECT * FROM network ORDER BY ssid")]


def find_network(roster: Roster, ssid: str) -> Network | None:
    """Return one network, or None."""
    return next((each for each in all_networks(roster) if each.ssid == ssid), None)


def network(roster: Roster, ssid: str) -> Network:
    """Return one network. Raises NotFound."""
    found = find_network(roster, ssid)
    if found is None:
        raise no_network(ssid)
    return found


def no_network(ssid: str | None) -> NotFound:
    """Return the error to raise when there is no such network."""
    return NotFound(f"no wireless network {ssid!r} is known: scopion wifi allow or deny makes it, see wifi ssids")


def save_network(roster: Roster, each: Network) -> None:
    """Make a network, or change its settings and mode."""
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO network (ssid, mode, notation, capacity, radios, router, since, others_hours, lists_of, "
            "only_until) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (ssid) DO UPDATE SET mode = excluded.mode, "
            "notation = excluded.notation, capacity = excluded.capacity, radios = excluded.radios, "
            "router = excluded.router, others_hours = excluded.others_hours, lists_of = excluded.lists_of, "
            "only_until = excluded.only_until",
            (
                each.ssid,
                each.mode,
                each.notation,
                each.capacity,
                ",".join(each.radios),
                each.router,
                to_ms(each.since),
                each.others_hours,
                each.lists_of,
                to_ms(each.only_until) if each.only_until else None,
            ),
        )


def all_entries(roster: Roster, ssid: str | None = None) -> list[Entry]:
    """Return the entries of one network, or of all, in the order in which they were made."""
    with roster.guarded():
        rows = roster.db.execute(
            "SELECT * FROM entry WHERE ? IS NULL OR ssid = ? ORDER BY ssid, list, id", (ssid, ssid)
        )
        return [_entry(row) for row in rows]


def add_entry(
    roster: Roster, ssid: str, which: ListMode, subject: int | MacAddress, at: datetime, terms: EntryTerms
) -> None:
    """Put a device (by its number) or a bare MAC, which is not on that list of the network, on it."""
    device = subject if isinstance(subject, int) else None
    mac = None if isinstance(subject, int) else str(subject)
    until = to_ms(terms.until) if terms.until else None
    override = (terms.override.on, to_ms(terms.override.until)) if terms.override else (None, None)
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO entry (ssid, list, device, mac, description, since, hours, until, paused, who, override, "
            "override_until) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                *(ssid, which, device, mac, terms.description, to_ms(at), terms.hours, until, terms.paused, terms.who),
                *override,
            ),
        )


def drop_entries(
    roster: Roster, ssid: str, subjects: Collection[int | MacAddress], which: ListMode | None = None
) -> list[Entry]:
    """Take devices or bare MACs off a network's lists, or off one. Returns the entries that they had."""
    with roster.transaction() as db:
        found = [
            entry
            for entry in all_entries(roster, ssid)
            if entry.subject in subjects and (which is None or entry.list is which)
        ]
        db.executemany("DELETE FROM entry WHERE id = ?", [(entry.id,) for entry in found])
        return found


def exclusives(roster: Roster, ssid: str) -> list[int | MacAddress]:
    """Return the only devices that may associate for a while: devices by number, bare MACs."""
    with roster.guarded():
        rows = roster.db.execute("SELECT device, mac FROM exclusive WHERE ssid = ? ORDER BY id", (ssid,))
        return [row["device"] if row["device"] is not None else stored_mac(row["mac"]) for row in rows]


def set_exclusives(roster: Roster, ssid: str, subjects: Collection[int | MacAddress]) -> None:
    """Set the only devices that may associate for a while."""
    with roster.transaction() as db:
        db.execute("DELETE FROM exclusive WHERE ssid = ?", (ssid,))
        db.executemany(
            "INSERT INTO exclusive (ssid, device, mac) VALUES (?, ?, ?)",
            [(ssid, each, None) if isinstance(each, int) else (ssid, None, str(each)) for each in subjects],
        )


@as_written("a network")
def _network(row: Row) -> Network:
    return Network(
        ssid=row["ssid"],
        mode=ListMode(row["mode"]),
        notation=Notation(row["notation"]),
        capacity=row["capacity"],
        radios=tuple(row["radios"].split(",")),
        router=row["router"],
        since=from_ms(row["since"]),
        others_hours=row["others_hours"],
        lists_of=row["lists_of"],
        only_until=from_ms(row["only_until"]) if row["only_until"] is not None else None,
    )


@as_written("an entry")
def _entry(row: Row) -> Entry:
    return Entry(
        id=row["id"],
        ssid=row["ssid"],
        list=ListMode(row["list"]),
        device_id=row["device"],
        mac=stored_mac(row["mac"]) if row["mac"] else None,
        description=row["description"],
        since=from_ms(row["since"]),
        hours=row["hours"],
        until=from_ms(row["until"]) if row["until"] is not None else None,
        paused=bool(row["paused"]),
        who=row["who"],
        override=Override(bool(row["override"]), from_ms(row["override_until"])) if row["override_until"] else None,
    )
