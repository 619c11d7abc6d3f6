"""Folds observations into devices, adapters, stays and events. The only writer of stays and of events.

Called inside a transaction, so that nothing is announced that is not recorded, and the other way round. Three kinds of
observation go their own ways: of adapters (here), of hosts without a MAC (``unpaired``), and from records of another
time (``records``).
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from ipaddress import IPv4Address
from sqlite3 import Connection, Row

from scopion.model.address import Address, by_number
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
from scopion.roster.folding.make_device import make_device
from scopion.roster.folding.note_traits import note_traits, rename
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_address, stored_mac, to_ms

# A made-up IPv6 address is preferred for a day (RFC 8981, 3.8), and then another one is: who is here without it
# has given it up, whether it was asked or not.
_IPV6_FORGOTTEN = timedelta(days=1)


# A sighting that is told late belongs to the stay that has begun since, unless another one had ended by then.
_EXTEND = """
UPDATE stay SET until = max(until, ?1), found = CASE WHEN ?1 >= until THEN ?4 ELSE found END, since = CASE
    WHEN ?1 < since AND NOT EXISTS (
        SELECT 1 FROM stay AS past WHERE past.mac = ?2 AND past.address = ?3 AND NOT past.present AND past.until >= ?1
    ) THEN ?1 ELSE since END
WHERE mac = ?2 AND address = ?3 AND present
"""


@dataclass(slots=True)
class _Adapter:
    """What was known of an adapter before it was seen."""

    device: int
    last_seen: datetime  # at an address, if it ever was at one
    was_present: bool
    was_address: IPv4Address | None
    sighted: bool  # whether it has ever been at an address


@dataclass(frozen=True, slots=True)
class Silence:
    """Which silent adapters count as absent: those that no process has seen since the asking began.

    What a kind of question cannot find it does not judge.
    """

    began: datetime
    spared: Container[str] = ()  # MACs, and addresses of hosts without one, that were not silent for long enough yet
    judges: Container[Source] | None = None  # only who was last found by these; None: everybody
    one_claimant: bool = False  # of several at one address the question finds one only

    def counts_for(self, row: Row, holders: Counter[str]) -> bool:
        """Whether the silence of a stay's holder counts; ``holders`` tells how many are at each address."""
        if self.judges is not None and (row["found"] is None or Source(row["found"]) not in self.judges):
            return False
        return not (self.one_claimant and holders[row["address"]] > 1)


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
) -> list[Event]:
    """Take in what was seen, and the absence of those who should have answered.

    ``asked_enough`` are the addresses that were asked so often and long that whoever was there and did not answer is
    gone, but for what ``silence`` says; ``silent`` is for a baseline, where everybody joins and nobody is told;
    ``today``, at the site, is the day by which guests end. Returns the events recorded, in order.
    """
    with roster.transaction() as db:
        for seen in sorted((each for each in observations if each.recorded), key=lambda each: each.at):
            note_record(db, seen)
        sightings = [each for each in observations if not each.recorded]
        before = {(row["mac"], row["address"]): row for row in db.execute("SELECT * FROM stay WHERE present")}
        present = {mac for mac, _ in before}
        unpaired = {row[0] for row in db.execute("SELECT address FROM unpaired")}
        events: list[Event] = []
        for mac, group in _by_mac(sightings).items():
            events += _take_in(db, mac, group, str(mac) in present, unpaired)
        told = (see_unpaired(db, seen) for seen in sightings if seen.mac is None)
        events += [event for event in told if event is not None]
        silence = silence or Silence(at)
        latest = to_ms(silence.began)
        moved = _moved_on(db) if asked_enough else set()
        holders = Counter(address for _, address in before)
        silent_here = {
            key: row
            for key, row in before.items()
            if (row["mac"] not in silence.spared or row["id"] in moved) and silence.counts_for(row, holders)
        }
        events += _close(db, _missing(silent_here, sightings, asked_enough, latest, at), at)
        addresses = {seen.address for seen in sightings if seen.address}
        events += close_unpaired(db, addresses, asked_enough, at, latest, silence.spared)
        events += contests(db, sightings, before.keys(), at)
        events += [*unwanted_present(db, events), *unlisted_present(db, events)]
        events += guests_overstayed(db, today, at) if today else ()
        return [] if silent else record(db, events, scan)


def record(db: Connection, events: Sequence[Event], scan: int | None = None) -> list[Event]:
    """Write events down; they come back with their numbers."""
    return [_recorded(db, event, scan) for event in events]


def note_gateway_changed(
    roster: Roster,
    gateway: Address | None,
    mac: MacAddress,
    before: MacAddress | None,
    at: datetime,
    scan: int | None = None,
) -> list[Event]:
    """Note that another adapter answers for the gateway. It has been folded already, so that it is a device."""
    with roster.transaction() as db:
        row = db.execute("SELECT device FROM adapter WHERE mac = ?", (str(mac),)).fetchone()
        if row is None or gateway is None:
            return []
        return record(db, [Event(EventKind.GATEWAY_CHANGED, at, row["device"], mac, gateway, other_mac=before)], scan)


def note_own_adapters(roster: Roster, own: Mapping[MacAddress, Medium], at: datetime) -> None:
    """Remember which adapters are this machine's: together one device. Those of another machine are no longer own."""
    with roster.transaction() as db:
        macs = [str(mac) for mac in own]
        marks = ",".join("?" * len(macs))
        db.execute(f"UPDATE adapter SET own = 0 WHERE own AND mac NOT IN ({marks})", macs)
        known = db.execute(
            f"SELECT device FROM adapter JOIN device ON device.id = device WHERE mac IN ({marks}) "
            "ORDER BY label = '', device.id",  # the one that has a label, else the oldest
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
        # What was a device of its own before it turned out to be this machine; people's texts are never dropped.
        drop_if_undescribed(db)


def _by_mac(sightings: Sequence[Observation]) -> dict[MacAddress, list[Observation]]:
    """The sightings of each adapter; what it is told by, an IPv4 address if it has one, comes first."""
    groups: dict[MacAddress, list[Observation]] = defaultdict(list)
    for seen in sightings:
        if seen.mac is not None:
            groups[seen.mac].append(seen)
    for group in groups.values():
        group.sort(key=lambda seen: (seen.address is None, seen.address.version if seen.address else 0))
    return groups


def _take_in(
    db: Connection, mac: MacAddress, group: Sequence[Observation], present: bool, unpaired: Container[str]
) -> list[Event]:
    """All sightings of one adapter: the adapter, its stays, what it said; the event of its arrival."""
    if not present:
        group = without_late(db, group)
        if not group:
            return []
    found = [
        adoption
        for address in {seen.address for seen in group if seen.address is not None and str(seen.address) in unpaired}
        if (adoption := adopt_unpaired(db, mac, address)) is not None
    ]
    adapter = _adapter(db, group[0], mac, present, found)
    for adoption in found:
        adoption.hand_over(db, mac)
    renamed = _renamed(db, adapter, group)
    for seen in group:
        if seen.medium is not Medium.UNKNOWN:
            db.execute("UPDATE adapter SET medium = ?, medium_evidence = '' WHERE mac = ?", (seen.medium, str(mac)))
        db.execute("UPDATE adapter SET last_seen = max(last_seen, ?) WHERE mac = ?", (to_ms(seen.at), str(mac)))
        note_traits(db, str(mac), seen.traits, seen.at)
        if seen.address is not None:
            _extend_stay(db, mac, seen.address, seen)
    arrived = _arrival(adapter, group[0]) if group[0].address is not None else []
    return arrived + renamed


def _adapter(
    db: Connection, seen: Observation, mac: MacAddress, present: bool, adopted: Sequence[Adoption]
) -> _Adapter:
    """The adapter that was seen; a new one comes with a new device, or finds the one that had no MAC."""
    was = next((each for each in adopted if each.device is not None), None)
    present = present or any(each.present for each in adopted)
    text, at, sighted = str(mac), to_ms(seen.at), seen.address is not None
    row: Row | None = db.execute("SELECT device, last_seen, sighted FROM adapter WHERE mac = ?", (text,)).fetchone()
    if row is None:
        device = was.device if was is not None and was.device is not None else make_device(db, at)
        db.execute(
            "INSERT INTO adapter (mac, device, medium, first_seen, last_seen, sighted) VALUES (?, ?, ?, ?, ?, ?)",
            (text, device, seen.medium, at, at, sighted),
        )
        if was is None:
            return _Adapter(device, seen.at, was_present=False, was_address=None, sighted=False)
        at_address = stored_address(was.address)
        where = at_address if isinstance(at_address, IPv4Address) else None
        return _Adapter(device, from_ms(was.until), was_present=present, was_address=where, sighted=True)
    if sighted and not row["sighted"]:
        db.execute("UPDATE adapter SET sighted = 1 WHERE mac = ?", (text,))
    latest = db.execute(
        "SELECT address FROM stay WHERE mac = ? AND address NOT LIKE '%:%' "
        "ORDER BY present DESC, until DESC, id DESC LIMIT 1",
        (text,),
    ).fetchone()
    # What it said without an address, a moment ago, does not count as having been here.
    until = db.execute("SELECT max(until) FROM stay WHERE mac = ?", (text,)).fetchone()[0]
    return _Adapter(
        device=row["device"],
        last_seen=from_ms(row["last_seen"] if until is None else until),
        was_present=present,
        was_address=IPv4Address(latest["address"]) if latest else None,
        sighted=bool(row["sighted"]),
    )


def _renamed(db: Connection, adapter: _Adapter, group: Sequence[Observation]) -> list[Event]:
    """It calls itself otherwise than before; one such event a fold is enough, however many names somebody gives."""
    first, address = group[0], group[0].address or adapter.was_address
    traits = [trait for seen in group for trait in seen.traits]
    names = rename(db, str(first.mac), traits) if adapter.sighted and address and traits else None
    if names is None or address is None:
        return []
    was, now = names
    return [Event(EventKind.RENAMED, first.at, adapter.device, first.mac, address, name=now, was_name=was)]


def _arrival(adapter: _Adapter, seen: Observation) -> list[Event]:
    """What it means that an adapter is here, apart from a move while it was here, which shows when a stay closes."""
    # This machine's own presence is no news: it comes and goes with the program that looks.
    if adapter.was_present or seen.source is Source.OWN:
        return []
    assert seen.address is not None
    event = Event(EventKind.JOINED, seen.at, adapter.device, seen.mac, seen.address)
    if not adapter.sighted:
        return [event]
    # An adapter makes up IPv6 addresses as it likes: only IPv4 ones are moves.
    moved = adapter.was_address if seen.address.version == 4 and adapter.was_address != seen.address else None
    returned = replace(event, kind=EventKind.RETURNED, was_address=moved, away_since=adapter.last_seen)
    if moved is None:
        return [returned]
    return [returned, replace(event, kind=EventKind.READDRESSED, was_address=moved)]


def _extend_stay(db: Connection, mac: MacAddress, address: Address, seen: Observation) -> None:
    key, at = (str(mac), str(address)), to_ms(seen.at)
    extended = db.execute(_EXTEND, (at, *key, seen.source))
    if not extended.rowcount:
        db.execute(
            "INSERT INTO stay (mac, address, since, until, present, source, found) VALUES (?, ?, ?, ?, 1, ?5, ?5)",
            (*key, at, at, seen.source),
        )


def _moved_on(db: Connection) -> set[int]:
    """The IPv4 stays of those who were seen at another address first after they were seen there last.

    They are awake: that they are silent where they were has nothing to do with dozing.
    """
    return {
        row[0]
        for row in db.execute(
            "SELECT old.id FROM stay AS old INDEXED BY stay_present JOIN stay AS new INDEXED BY stay_present "
            "ON new.mac = old.mac AND new.present AND new.since > old.until AND new.address NOT LIKE '%:%' "
            "WHERE old.present AND old.address NOT LIKE '%:%'"
        )
    }


def _missing(
    before: Mapping[tuple[str, str], Row],
    sightings: Sequence[Observation],
    asked_enough: Container[Address],
    latest: int,
    at: datetime,
) -> list[Row]:
    """The stays that were not confirmed though they should have been, IPv4 first."""
    observed = {(str(seen.mac), str(seen.address)) for seen in sightings}
    # An answer without a MAC is taken for that of the adapter which is known to be there.
    answered = {str(seen.address) for seen in sightings if seen.mac is None}
    silent = [
        row
        for key, row in before.items()
        if key not in observed and row["address"] not in answered and row["until"] <= latest
    ]
    missing = {row["id"]: row for row in silent if stored_address(row["address"]) in asked_enough}
    left_over = {row["mac"] for row in before.values() if row["id"] not in missing and ":" not in row["address"]}
    here = {mac for mac, _ in observed} | left_over
    away = {row["mac"] for row in missing.values() if ":" not in row["address"]} - here
    old = to_ms(at - _IPV6_FORGOTTEN)
    for row in silent:
        # Where nobody can be asked for IPv6, an adapter that is silent in IPv4 is gone altogether.
        if ":" in row["address"] and (row["mac"] in away or (row["mac"] in here and row["until"] < old)):
            missing[row["id"]] = row
    return sorted(missing.values(), key=lambda row: by_number(stored_address(row["address"]))[0])


def _close(db: Connection, missing: Sequence[Row], at: datetime) -> list[Event]:
    """End the stays that were not confirmed: a move if the adapter is elsewhere since, else it has left."""
    db.executemany("UPDATE stay SET present = 0 WHERE id = ?", [(row["id"],) for row in missing])
    events: list[Event] = []
    for row in missing:
        mac, address = stored_mac(row["mac"]), stored_address(row["address"])
        adapter = db.execute("SELECT device, own FROM adapter WHERE mac = ?", (str(mac),)).fetchone()
        device = adapter["device"]
        now_at = db.execute(
            "SELECT address, since FROM stay WHERE mac = ? AND present ORDER BY address LIKE '%:%', since DESC LIMIT 1",
            (str(mac),),
        ).fetchone()
        if now_at is None:
            if not adapter["own"] and not any(event.mac == mac for event in events):
                events.append(Event(EventKind.LEFT, at, device, mac, address))
        elif now_at["since"] > row["until"] and ":" not in row["address"] + now_at["address"]:
            moved_to = IPv4Address(now_at["address"])
            events.append(Event(EventKind.READDRESSED, at, device, mac, moved_to, was_address=address))
    return events


def _recorded(db: Connection, event: Event, scan: int | None) -> Event:
    row = db.execute(
        "INSERT INTO event (at, kind, device, mac, address, was_address, away_since, other_mac, name, was_name, scan) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            to_ms(event.at),
            event.kind,
            event.device_id,
            str(event.mac) if event.mac else "",
            str(event.address),
            str(event.was_address) if event.was_address else None,
            to_ms(event.away_since) if event.away_since else None,
            str(event.other_mac) if event.other_mac else None,
            event.name or None,
            event.was_name or None,
            scan,
        ),
    )
    return replace(event, id=row.lastrowid or 0)
