"""Hosts without a MAC address, beyond a router: they are kept as devices, and joined with their MAC when it is told.

Part of folding: called inside its transaction.
"""

from __future__ import annotations

from collections.abc import Container
from dataclasses import dataclass
from datetime import datetime
from sqlite3 import Connection, Row

from scopion.model.address import Address
from scopion.model.device import Event, EventKind
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation
from scopion.roster.folding.note_traits import move_traits, note_traits
from scopion.roster.folding.write_rows import make_device
from scopion.roster.store.stored_values import from_ms, stored_address, to_ms, unpaired_subject


def see_unpaired(db: Connection, seen: Observation, place: str) -> Event | None:
    """Take in a host without a MAC address. Returns None if that is no news, or if an adapter is known to be there."""
    assert seen.address is not None
    address, began, at = str(seen.address), to_ms(seen.began), to_ms(seen.at)
    there = db.execute("SELECT mac FROM stay WHERE address = ? AND place = ? AND present", (address, place))
    adapters = [row["mac"] for row in there.fetchall()]
    for mac in adapters:
        db.execute(
            "UPDATE stay SET until = max(until, ?1), found = CASE WHEN ?1 >= until THEN ?4 ELSE found END "
            "WHERE mac = ?2 AND address = ?3 AND place = ?5 AND present",
            (at, mac, address, seen.source, place),
        )
        db.execute("UPDATE adapter SET last_seen = max(last_seen, ?) WHERE mac = ?", (at, mac))
    if adapters:
        if len(adapters) == 1:  # two claimants: it is not known which of them said it
            note_traits(db, adapters[0], place, seen.traits, seen.began, seen.at)
        return None
    key = (place, address)
    known: Row | None = db.execute("SELECT * FROM unpaired WHERE (place, address) = (?, ?)", key).fetchone()
    note_traits(db, unpaired_subject(place, address), place, seen.traits, seen.began, seen.at)
    if known is None:
        device = make_device(db, began)
        db.execute("INSERT INTO unpaired VALUES (?, ?, ?, ?, ?, ?)", (*key, device, began, at, not seen.recorded))
        return None if seen.recorded else Event(EventKind.JOINED, seen.began, device, None, seen.address)
    since = known["since"] if known["present"] or seen.recorded else began
    db.execute(
        "UPDATE unpaired SET since = ?, until = max(until, ?), present = ? WHERE (place, address) = (?, ?)",
        (since, at, known["present"] or not seen.recorded, *key),
    )
    if known["present"] or seen.recorded:
        return None
    return Event(
        EventKind.RETURNED, seen.began, known["device"], None, seen.address, away_since=from_ms(known["until"])
    )


@dataclass(frozen=True, slots=True)
class Adoption:
    """A host that was known by its address only, and whose adapter is known now."""

    device: int | None  # the device for a new adapter; None: the adapter has one
    place: str
    address: str
    since: int  # its presence, in milliseconds
    until: int
    present: bool

    def hand_over(self, db: Connection, mac: MacAddress) -> None:
        """Give its presence to the adapter, which exists by now: it counts as present all the time, not as returned."""
        db.execute(
            "INSERT OR IGNORE INTO stay (mac, address, since, until, present, place) VALUES (?, ?, ?, ?, ?, ?)",
            (str(mac), self.address, self.since, self.until, self.present, self.place),
        )


def adopt_unpaired(db: Connection, place: str, mac: MacAddress, address: Address) -> Adoption | None:
    """Return the device that was known at an address of a place without a MAC address, now that one is known there.

    Called before the adapter is made. An adapter that is known already keeps its device, and takes over what was said
    of the other, unless people have described that one.
    """
    key = (place, str(address))
    row = db.execute("SELECT * FROM unpaired WHERE (place, address) = (?, ?)", key).fetchone()
    if row is None:
        return None
    owner = db.execute("SELECT device FROM adapter WHERE mac = ?", (str(mac),)).fetchone()
    move_traits(db, unpaired_subject(*key), str(mac))
    db.execute("DELETE FROM unpaired WHERE (place, address) = (?, ?)", key)
    device = int(row["device"]) if owner is None else None
    if owner is not None:
        # An entry or a description by people is never dropped: then the device stays, without an address.
        db.execute("UPDATE event SET device = ? WHERE device = ?", (owner["device"], row["device"]))
        drop_if_undescribed(db, row["device"])
    return Adoption(device, *key, row["since"], row["until"], bool(row["present"]))


def close_unpaired(
    db: Connection,
    place: str,
    seen: Container[Address],
    asked_enough: Container[Address],
    at: datetime,
    latest: int,
    spared: Container[str] = (),
) -> list[Event]:
    """End the presence of hosts that were asked enough and were silent. Returns the events."""
    gone = [
        row
        for row in db.execute("SELECT * FROM unpaired WHERE place = ? AND present", (place,))
        if row["until"] <= latest
        and row["address"] not in spared
        and stored_address(row["address"]) not in seen
        and stored_address(row["address"]) in asked_enough
    ]
    keys = [(place, row["address"]) for row in gone]
    db.executemany("UPDATE unpaired SET present = 0 WHERE (place, address) = (?, ?)", keys)
    return [Event(EventKind.LEFT, at, row["device"], None, stored_address(row["address"])) for row in gone]


def drop_if_undescribed(db: Connection, *devices: int) -> None:
    """Delete devices without adapter, address, entry and any description by people."""
    clause = f"AND id IN ({','.join('?' * len(devices))})" if devices else ""
    db.execute(
        "DELETE FROM device WHERE standing = 'new' AND label = '' AND owner = '' AND place = '' AND note = '' "
        "AND id NOT IN (SELECT device FROM adapter UNION SELECT device FROM unpaired "
        f"UNION SELECT device FROM entry WHERE device IS NOT NULL) {clause}",
        devices,
    )
