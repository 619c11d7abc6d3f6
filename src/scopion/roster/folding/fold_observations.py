"""Folds observations into devices, adapters, stays and events. The only writer of stays.

Called inside a transaction, so that nothing is announced that is not recorded, and the other way round. Observations of
adapters are folded here, those of hosts without a MAC address in ``fold_unpaired``, and those from records of another
time in ``fold_records``.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from ipaddress import IPv4Address
from sqlite3 import Connection, Row

from scopion.model.address import Address
from scopion.model.device import Event, EventKind
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source
from scopion.roster.folding.drop_late import without_late
from scopion.roster.folding.find_contests import contests
from scopion.roster.folding.fold_records import note_record
from scopion.roster.folding.fold_unpaired import (
    Adoption,
    adopt_unpaired,
    close_unpaired,
    drop_if_undescribed,
    see_unpaired,
)
from scopion.roster.folding.follow_up_events import guests_overstayed, unlisted_present, unwanted_present
from scopion.roster.folding.judge_absence import Silence, close_stays, missing_stays, moved_on
from scopion.roster.folding.note_traits import note_traits, rename
from scopion.roster.folding.write_rows import make_device, record
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_address, to_ms

# A sighting that is told late belongs to the stay that has begun since, unless another one had ended by then.
_EXTEND = """
UPDATE stay SET until = max(until, ?1), found = CASE WHEN ?1 >= until THEN ?4 ELSE found END, since = CASE
    WHEN ?6 < since AND NOT EXISTS (
        SELECT 1 FROM stay AS past WHERE past.mac = ?2 AND past.address = ?3 AND past.place = ?5
        AND NOT past.present AND past.until >= ?6
    ) THEN ?6 ELSE since END
WHERE mac = ?2 AND address = ?3 AND place = ?5 AND present
"""


@dataclass(slots=True)
class _Adapter:
    """What was known of an adapter before it was seen."""

    device: int
    last_seen: datetime | None  # in this place; None: it is here for the first time
    was_present: bool
    was_address: IPv4Address | None
    sighted: bool  # whether it has ever had an address
    told_late: bool = False  # another place has told sooner what was later


def fold(
    roster: Roster,
    observations: Sequence[Observation],
    asked_enough: Container[Address],
    at: datetime,
    *,
    silence: Silence | None = None,
    scan: int | None = None,
    silent: bool = False,
    today: date | None = None,
    place: str | None = None,
    at_once: bool = True,
) -> list[Event]:
    """Take in what was seen in one place, and the absence of devices that should have answered there.

    Each place has its own comings and goings: what is folded for one never depends on what was folded for another,
    except that a device joins only once. ``place`` is this machine's for None. ``asked_enough`` are addresses that were
    asked so often and long that a device which was there and did not answer is gone, except as ``silence`` says.
    ``silent`` is for a baseline: devices join, and no event is recorded. ``today``, at the site, is the day by which
    guests end. ``at_once`` is False for what was seen at many times: two adapters at one address are no contest then.
    Returns the events that were recorded, in order.
    """
    with roster.transaction() as db:
        where = roster.placed(place)
        for seen in sorted((each for each in observations if each.recorded), key=lambda each: each.at):
            note_record(db, seen, where)
        sightings = [each for each in observations if not each.recorded]
        here = db.execute("SELECT * FROM stay WHERE place = ? AND present", (where,))
        before = {(row["mac"], row["address"]): row for row in here}
        present = {mac for mac, _ in before}
        unpaired = {row[0] for row in db.execute("SELECT address FROM unpaired WHERE place = ?", (where,))}
        events: list[Event] = []
        for mac, group in _by_mac(sightings).items():
            events += _take_in(db, mac, group, where, str(mac) in present, unpaired)
        told = (see_unpaired(db, seen, where) for seen in sightings if seen.mac is None)
        events += [event for event in told if event is not None]
        silence = silence or Silence(at)
        latest = to_ms(silence.began)
        moved = moved_on(db, where) if asked_enough else set()
        holders = Counter(address for _, address in before)
        silent_here = {
            key: row
            for key, row in before.items()
            if (row["mac"] not in silence.spared or row["id"] in moved) and silence.counts_for(row, holders)
        }
        events += close_stays(db, missing_stays(silent_here, sightings, asked_enough, latest, at), at, where)
        addresses = {seen.address for seen in sightings if seen.address}
        events += close_unpaired(db, where, addresses, asked_enough, at, latest, silence.spared)
        events += contests(db, sightings, before.keys()) if at_once else ()
        events += [*unwanted_present(db, events), *unlisted_present(db, events)]
        events += guests_overstayed(db, today, at, where) if today else ()
        events = [replace(event, place=where) for event in events]
        return [] if silent else record(db, events, scan)


def note_gateway_changed(
    roster: Roster,
    gateway: Address | None,
    mac: MacAddress,
    before: MacAddress | None,
    at: datetime,
    scan: int | None = None,
    place: str | None = None,
) -> list[Event]:
    """Record that another adapter answers for the gateway. It has been folded already, so that it is a device."""
    with roster.transaction() as db:
        row = db.execute("SELECT device FROM adapter WHERE mac = ?", (str(mac),)).fetchone()
        if row is None or gateway is None:
            return []
        where = roster.placed(place)
        kind = EventKind.GATEWAY_CHANGED
        return record(db, [Event(kind, at, row["device"], mac, gateway, other_mac=before, place=where)], scan)


def note_own_adapters(roster: Roster, own: Mapping[MacAddress, Medium], at: datetime) -> None:
    """Remember which adapters are this machine's: together one device. Those of another machine are no longer own."""
    with roster.transaction() as db:
        macs = [str(mac) for mac in own]
        marks = ",".join("?" * len(macs))
        db.execute(f"UPDATE adapter SET own = 0 WHERE own AND mac NOT IN ({marks})", macs)
        known = db.execute(
            f"SELECT device FROM adapter JOIN device ON device.id = device WHERE mac IN ({marks}) "
            "ORDER BY label = '', device.id",  # the device that has a label, else the oldest
            macs,
        ).fetchone()
        if known is None:
            return
        device = known["device"]
        for mac, medium in own.items():
            db.execute(
                "INSERT INTO adapter (mac, device, medium, own, first_seen, last_seen) VALUES (?, ?, ?, 1, ?, ?) "
                "ON CONFLICT (mac) DO UPDATE SET device = excluded.device, medium = excluded.medium, own = 1",
                (str(mac), device, medium, to_ms(at), to_ms(at)),
            )
        # Devices that turned out to be this machine; people's texts are never dropped.
        drop_if_undescribed(db)


def note_sensor_adapters(roster: Roster, name: str, own: Sequence[MacAddress], place: str) -> None:
    """Remember which adapters are a sensor's machine: together one device, with the sensor's name as its label.

    Only devices on which no person has said a word, and which were seen in the sensor's place only: a sensor in other
    hands cannot make one of others' devices.
    """
    with roster.transaction() as db:
        marks = ",".join("?" * len(own))
        query = (
            f"SELECT mac, device, label FROM adapter JOIN device ON device.id = device WHERE mac IN ({marks}) "
            "AND revision = 0 AND NOT adapter.own AND NOT EXISTS "
            "(SELECT 1 FROM stay JOIN adapter AS of USING (mac) WHERE of.device = device.id AND stay.place <> ?) "
            "ORDER BY label = '', device"
        )
        rows = db.execute(query, (*map(str, own), place)).fetchall()
        if not rows:
            return
        device, label = rows[0]["device"], rows[0]["label"]
        moving = [row for row in rows if row["device"] != device and not row["label"]]
        if moving:
            db.executemany("UPDATE adapter SET device = ? WHERE mac = ?", [(device, row["mac"]) for row in moving])
            drop_if_undescribed(db, *{row["device"] for row in moving})
        if not label:
            db.execute(
                "UPDATE device SET label = ?1 WHERE id = ?2 "
                "AND NOT EXISTS (SELECT 1 FROM device WHERE label = ?1 COLLATE NOCASE)",
                (name, device),
            )


def _by_mac(sightings: Sequence[Observation]) -> dict[MacAddress, list[Observation]]:
    """Return the sightings of each adapter; the most telling one, with an IPv4 address if there is one, comes first."""
    groups: dict[MacAddress, list[Observation]] = defaultdict(list)
    for seen in sightings:
        if seen.mac is not None:
            groups[seen.mac].append(seen)
    for group in groups.values():
        group.sort(key=lambda seen: (seen.address is None, seen.address.version if seen.address else 0))
    return groups


def _take_in(
    db: Connection, mac: MacAddress, group: Sequence[Observation], place: str, present: bool, unpaired: Container[str]
) -> list[Event]:
    """Fold all sightings of one adapter: the adapter, its stays, what it said. Returns the events of its arrival."""
    if not present:
        group = without_late(db, group, place)
        if not group:
            return []
    found = [
        adoption
        for address in {seen.address for seen in group if seen.address is not None and str(seen.address) in unpaired}
        if (adoption := adopt_unpaired(db, place, mac, address)) is not None
    ]
    adapter = _adapter(db, group[0], mac, place, present, found)
    for adoption in found:
        adoption.hand_over(db, mac)
    renamed = _renamed(db, adapter, group, place)
    for seen in group:
        if seen.medium is not Medium.UNKNOWN:
            db.execute("UPDATE adapter SET medium = ?, medium_evidence = '' WHERE mac = ?", (seen.medium, str(mac)))
        db.execute("UPDATE adapter SET last_seen = max(last_seen, ?) WHERE mac = ?", (to_ms(seen.at), str(mac)))
        note_traits(db, str(mac), place, seen.traits, seen.began, seen.at)
        if seen.address is not None:
            _extend_stay(db, mac, seen.address, place, seen)
    arrived = _arrival(adapter, group[0]) if group[0].address is not None else []
    if arrived and adapter.sighted and adapter.told_late:
        arrived = _first_of_all(db, arrived)
    return arrived + renamed


def _adapter(
    db: Connection, seen: Observation, mac: MacAddress, place: str, present: bool, adopted: Sequence[Adoption]
) -> _Adapter:
    """Return the adapter that was seen; a new one gets a new device, or the one that had no MAC address."""
    was = max(adopted, key=lambda each: (each.present, each.until), default=None)
    present = present or any(each.present for each in adopted)
    text, at, sighted = str(mac), to_ms(seen.began), seen.address is not None
    known = "SELECT device, first_seen, sighted FROM adapter WHERE mac = ?"
    row: Row | None = db.execute(known, (text,)).fetchone()
    if row is None:
        device = was.device if was is not None and was.device is not None else make_device(db, at)
        db.execute(
            "INSERT INTO adapter (mac, device, medium, first_seen, last_seen, sighted) VALUES (?, ?, ?, ?, ?, ?)",
            (text, device, seen.medium, at, at, sighted),
        )
        if was is None:
            return _Adapter(device, seen.began, was_present=False, was_address=None, sighted=False)
        return _Adapter(device, from_ms(was.until), was_present=present, was_address=_ipv4(was), sighted=True)
    if sighted and not row["sighted"]:
        db.execute("UPDATE adapter SET sighted = 1 WHERE mac = ?", (text,))
    told_late = at < row["first_seen"]
    if told_late:
        db.execute("UPDATE adapter SET first_seen = ? WHERE mac = ?", (at, text))
        db.execute("UPDATE device SET first_seen = min(first_seen, ?) WHERE id = ?", (at, row["device"]))
    latest = db.execute(
        "SELECT address FROM stay WHERE mac = ? AND place = ? AND address NOT LIKE '%:%' "
        "ORDER BY present DESC, until DESC, id DESC LIMIT 1",
        (text, place),
    ).fetchone()
    # What it said without an address, a moment ago, does not count as having been here.
    until = db.execute("SELECT max(until) FROM stay WHERE mac = ? AND place = ?", (text, place)).fetchone()[0]
    was_address = IPv4Address(latest["address"]) if latest else None
    if until is None and was is not None:  # it is known from elsewhere, and was here before without a MAC address
        until, was_address = was.until, _ipv4(was)
    return _Adapter(
        device=row["device"],
        last_seen=from_ms(until) if until is not None else None,
        was_present=present,
        was_address=was_address,
        sighted=bool(row["sighted"]),
        told_late=told_late,
    )


def _ipv4(adopted: Adoption) -> IPv4Address | None:
    address = stored_address(adopted.address)
    return address if isinstance(address, IPv4Address) else None


def _renamed(db: Connection, adapter: _Adapter, group: Sequence[Observation], place: str) -> list[Event]:
    """Return the event of a new name; one such event a fold is enough, even if it gives many names."""
    first, address = group[0], group[0].address or adapter.was_address
    traits = [trait for seen in group for trait in seen.traits]
    names = rename(db, str(first.mac), place, traits) if adapter.sighted and address and traits else None
    if names is None or address is None:
        return []
    was, now = names
    said = next(each for each in group if any(trait.value == now for trait in each.traits))
    where = said.address or address
    return [Event(EventKind.RENAMED, said.began, adapter.device, first.mac, where, name=now, was_name=was)]


def _arrival(adapter: _Adapter, seen: Observation) -> list[Event]:
    """Return the events of an arrival. A move of a present adapter shows when its stay is closed."""
    # This machine's own presence is no news: it comes and goes with the program that looks.
    if adapter.was_present or seen.source is Source.OWN:
        return []
    assert seen.address is not None
    event = Event(EventKind.JOINED, seen.began, adapter.device, seen.mac, seen.address)
    if not adapter.sighted:
        return [event]
    # An adapter makes up IPv6 addresses as it likes: only IPv4 ones are moves.
    moved = adapter.was_address if seen.address.version == 4 and adapter.was_address != seen.address else None
    returned = replace(event, kind=EventKind.RETURNED, was_address=moved, away_since=adapter.last_seen)
    if moved is None:
        return [returned]
    return [returned, replace(event, kind=EventKind.READDRESSED, was_address=moved)]


def _first_of_all(db: Connection, arrived: Sequence[Event]) -> list[Event]:
    """Return an arrival that is told late as the device's first one: what other places told came after it."""
    event = arrived[0]
    later = "UPDATE event SET kind = ? WHERE mac = ? AND kind = ? AND at > ?"
    db.execute(later, (EventKind.RETURNED, str(event.mac), EventKind.JOINED, to_ms(event.at)))
    return [replace(event, kind=EventKind.JOINED, was_address=None, away_since=None)]


def _extend_stay(db: Connection, mac: MacAddress, address: Address, place: str, seen: Observation) -> None:
    key, began, at = (str(mac), str(address)), to_ms(seen.began), to_ms(seen.at)
    extended = db.execute(_EXTEND, (at, *key, seen.source, place, began))
    if not extended.rowcount:
        db.execute(
            "INSERT INTO stay (mac, address, since, until, present, source, found, place) "
            "VALUES (?, ?, ?, ?, 1, ?5, ?5, ?6)",
            (*key, began, at, seen.source, place),
        )
