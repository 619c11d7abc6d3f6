"""Folds records of another time: leases, captures, lists. They keep their times and make no device present.

A record without a time makes an adapter and its address known, but never seen: its stay lies at NEVER.

Part of folding: called inside its transaction, in the order of the records' times.
"""

from __future__ import annotations

from datetime import timedelta
from sqlite3 import Connection

from scopion.model.device import NEVER
from scopion.model.observation import Medium, Observation, Source
from scopion.roster.folding.fold_unpaired import adopt_unpaired, see_unpaired
from scopion.roster.folding.note_traits import note_traits
from scopion.roster.folding.write_rows import make_device
from scopion.roster.store.stored_values import to_ms

# Two records of an adapter at one address belong to one stay if they are no further apart than this.
_ONE_STAY = timedelta(hours=1)


def note_record(db: Connection, seen: Observation, place: str) -> None:
    """Take in one record: a new adapter counts as known from records only, until it is sighted."""
    if seen.mac is None:
        see_unpaired(db, seen, place)
        return
    mac, at = str(seen.mac), to_ms(seen.at)
    last = to_ms(NEVER) if seen.undated else at
    adopted = adopt_unpaired(db, place, seen.mac, seen.address) if seen.address else None
    if db.execute("SELECT 1 FROM adapter WHERE mac = ?", (mac,)).fetchone() is None:
        device = adopted.device if adopted and adopted.device is not None else make_device(db, at)
        db.execute(
            "INSERT INTO adapter (mac, device, first_seen, last_seen, sighted) VALUES (?, ?, ?, ?, ?)",
            (mac, device, at, last, adopted is not None),
        )
    if adopted is not None:
        adopted.hand_over(db, seen.mac)
    db.execute(
        "UPDATE adapter SET first_seen = min(first_seen, ?1), last_seen = max(last_seen, ?2) WHERE mac = ?3",
        (at, last, mac),
    )
    db.execute(
        "UPDATE device SET first_seen = min(first_seen, ?1) WHERE id = (SELECT device FROM adapter WHERE mac = ?2)",
        (at, mac),
    )
    note_traits(db, mac, place, seen.traits, seen.at, seen.at)
    if seen.medium is not Medium.UNKNOWN:
        db.execute(
            "UPDATE adapter SET medium = ?, medium_evidence = ? WHERE mac = ? AND medium = 'unknown'",
            (seen.medium, f"{seen.source} says so", mac),
        )
    if seen.address is not None:
        _note_stay(db, mac, str(seen.address), place, last, seen.source)


def _note_stay(db: Connection, mac: str, address: str, place: str, at: int, source: Source) -> None:
    """Write a closed stay at the record's time, or extend one that adjoins; a present stay is only confirmed."""
    if at == to_ms(NEVER):
        db.execute(
            "INSERT INTO stay (mac, address, since, until, present, source, place) SELECT ?1, ?2, ?3, ?3, 0, ?4, ?5 "
            "WHERE NOT EXISTS (SELECT 1 FROM stay WHERE mac = ?1 AND address = ?2 AND place = ?5)",
            (mac, address, at, source, place),
        )
        return
    near = _ONE_STAY // timedelta(milliseconds=1)
    row = db.execute(
        "SELECT id, present FROM stay WHERE mac = ? AND address = ? AND place = ? AND since - ? <= ? "
        "AND (present OR until + ? >= ?) ORDER BY present DESC LIMIT 1",
        (mac, address, place, near, at, near, at),
    ).fetchone()
    if row is None:
        db.execute(
            "INSERT INTO stay (mac, address, since, until, present, source, place) VALUES (?, ?, ?, ?, 0, ?, ?)",
            (mac, address, at, at, source, place),
        )
    else:
        db.execute("UPDATE stay SET since = min(since, ?1), until = max(until, ?1) WHERE id = ?2", (at, row["id"]))
