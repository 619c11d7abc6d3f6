"""Folds observations into devices, adapters, stays and events. The only writer of stays and of events.

Called inside a transaction, so that nothing is announced that is not recorded, and the other way round.
"""

from __future__ import annotations

from collections.abc import Collection, Container, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from ipaddress import IPv4Address
from sqlite3 import Connection, Row

from scopion.model.device import Event, EventKind
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source
from scopion.roster.store import Roster, from_ms, to_ms


@dataclass(slots=True)
class _Seen:
    """What is known of one adapter while a fold goes on."""

    mac: MacAddress
    device: int
    last_seen: datetime
    was_present: bool
    was_address: IPv4Address | None
    fresh: bool = False


def fold(
    roster: Roster,
    observations: Sequence[Observation],
    asked_enough: Container[IPv4Address],
    at: datetime,
    *,
    began: datetime | None = None,
    scan: int | None = None,
    silent: bool = False,
) -> list[Event]:
    """Take in what was seen, and the absence of those who should have answered.

    ``asked_enough`` are the addresses that were asked so often and long that whoever was there and did not answer is
    gone; ``began`` is when the asking began, so that nobody is taken for gone whom another process has seen since;
    ``silent`` is for a baseline, where everybody joins and nobody is told. Returns the events recorded, in order.
    """
    with roster.transaction() as db:
        before = {(row["mac"], row["address"]): row for row in db.execute("SELECT * FROM stay WHERE present")}
        events: list[Event] = []
        arrived: dict[MacAddress, _Seen] = {}
        present = {mac for mac, _ in before}
        for seen in observations:
            adapter = arrived.get(seen.mac) or _adapter(db, seen, present)
            if seen.mac not in arrived:
                arrived[seen.mac] = adapter
                events += _arrival(adapter, seen)
            _extend_stay(db, seen)
        observed = {(str(seen.mac), str(seen.address)) for seen in observations}
        latest = to_ms(began or at)
        missing = [
            row
            for key, row in before.items()
            if key not in observed and row["until"] <= latest and IPv4Address(row["address"]) in asked_enough
        ]
        events += _close(db, missing, at)
        if silent:
            return []
        return [_recorded(db, event, scan) for event in events]


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
            db.execute("UPDATE event SET device = ? WHERE mac = ?", (device, str(mac)))
        # What was a device of its own before it turned out to be this machine; people's texts are never dropped.
        db.execute(
            "DELETE FROM device WHERE standing = 'new' AND label = '' AND owner = '' AND place = '' AND note = '' "
            "AND id NOT IN (SELECT device FROM adapter UNION SELECT device FROM entry WHERE device IS NOT NULL)"
        )


def _adapter(db: Connection, seen: Observation, present: Collection[str]) -> _Seen:
    """The adapter that was seen; a new one comes with a new device."""
    mac, at = str(seen.mac), to_ms(seen.at)
    row = db.execute("SELECT device, last_seen FROM adapter WHERE mac = ?", (mac,)).fetchone()
    if row is None:
        device = db.execute("INSERT INTO device (first_seen) VALUES (?)", (at,)).lastrowid or 0
        db.execute(
            "INSERT INTO adapter (mac, device, medium, first_seen, last_seen) VALUES (?, ?, ?, ?, ?)",
            (mac, device, seen.medium, at, at),
        )
        return _Seen(seen.mac, device, seen.at, was_present=False, was_address=None, fresh=True)
    if seen.medium is not Medium.UNKNOWN:
        db.execute("UPDATE adapter SET medium = ? WHERE mac = ?", (seen.medium, mac))
    latest = db.execute(
        "SELECT address FROM stay WHERE mac = ? ORDER BY present DESC, until DESC, id DESC LIMIT 1", (mac,)
    ).fetchone()
    return _Seen(
        mac=seen.mac,
        device=row["device"],
        last_seen=from_ms(row["last_seen"]),
        was_present=mac in present,
        was_address=IPv4Address(latest["address"]) if latest else None,
    )


def _arrival(adapter: _Seen, seen: Observation) -> list[Event]:
    """What it means that an adapter is here, apart from a move while it was here, which shows when a stay closes."""
    # This machine's own presence is no news: it comes and goes with the program that looks.
    if adapter.was_present or seen.source is Source.OWN:
        return []
    event = Event(EventKind.JOINED, seen.at, adapter.device, seen.mac, seen.address)
    if adapter.fresh:
        return [event]
    moved = adapter.was_address if adapter.was_address != seen.address else None
    returned = replace(event, kind=EventKind.RETURNED, was_address=moved, away_since=adapter.last_seen)
    if moved is None:
        return [returned]
    return [returned, replace(event, kind=EventKind.READDRESSED, was_address=moved)]


def _extend_stay(db: Connection, seen: Observation) -> None:
    mac, address, at = str(seen.mac), str(seen.address), to_ms(seen.at)
    extended = db.execute(
        "UPDATE stay SET until = max(until, ?) WHERE mac = ? AND address = ? AND present", (at, mac, address)
    )
    if not extended.rowcount:
        db.execute(
            "INSERT INTO stay (mac, address, since, until, present) VALUES (?, ?, ?, ?, 1)", (mac, address, at, at)
        )
    db.execute("UPDATE adapter SET last_seen = max(last_seen, ?) WHERE mac = ?", (at, mac))


def _close(db: Connection, missing: Sequence[Row], at: datetime) -> list[Event]:
    """End the stays that were not confirmed: a move if the adapter is elsewhere since, else it has left."""
    db.executemany("UPDATE stay SET present = 0 WHERE id = ?", [(row["id"],) for row in missing])
    events: list[Event] = []
    for row in missing:
        mac, address = MacAddress.parse(row["mac"]), IPv4Address(row["address"])
        device = db.execute("SELECT device FROM adapter WHERE mac = ?", (str(mac),)).fetchone()["device"]
        now_at = db.execute(
            "SELECT address, since FROM stay WHERE mac = ? AND present ORDER BY since DESC LIMIT 1", (str(mac),)
        ).fetchone()
        if now_at is None:
            if not any(event.mac == mac for event in events):
                events.append(Event(EventKind.LEFT, at, device, mac, address))
        elif now_at["since"] > row["until"]:
            moved_to = IPv4Address(now_at["address"])
            events.append(Event(EventKind.READDRESSED, at, device, mac, moved_to, was_address=address))
    return events


def _recorded(db: Connection, event: Event, scan: int | None) -> Event:
    row = db.execute(
        "INSERT INTO event (at, kind, device, mac, address, was_address, away_since, scan) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        (
            to_ms(event.at),
            event.kind,
            event.device_id,
            str(event.mac),
            str(event.address),
            str(event.was_address) if event.was_address else None,
            to_ms(event.away_since) if event.away_since else None,
            scan,
        ),
    )
    return replace(event, id=row.lastrowid or 0)
