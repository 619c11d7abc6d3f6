"""Drops sightings that were made before a device left and are told after: the device is not back.

What was heard is kept for a while before it is folded, and two processes may look at the same time. Part of folding.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from sqlite3 import Connection

from scopion.model.device import EventKind
from scopion.model.observation import Observation
from scopion.roster.store.stored_values import to_ms

# Longer than anything is kept before it is folded; a sighting that seems later was told before the clock was set.
_AT_MOST = timedelta(minutes=10)


def without_late(db: Connection, sightings: Sequence[Observation], place: str) -> list[Observation]:
    """Return the sightings of an adapter that is absent in a place without late ones, which only make its past a little
    longer.
    """
    in_time = []
    for seen in sightings:
        if _is_late(db, seen, place):
            _note(db, seen, place)
        else:
            in_time.append(seen)
    return in_time


def _is_late(db: Connection, seen: Observation, place: str) -> bool:
    query = "SELECT 1 FROM event WHERE mac = ? AND kind = ? AND place = ? AND at BETWEEN ? AND ? LIMIT 1"
    gone_at = (to_ms(seen.at), to_ms(seen.at + _AT_MOST))
    values = (str(seen.mac), EventKind.LEFT, place, *gone_at)
    return seen.address is not None and bool(db.execute(query, values).fetchone())


def _note(db: Connection, seen: Observation, place: str) -> None:
    at, mac = to_ms(seen.at), str(seen.mac)
    db.execute("UPDATE adapter SET last_seen = max(last_seen, ?) WHERE mac = ?", (at, mac))
    db.execute(
        "UPDATE stay SET until = max(until, ?1) WHERE id = (SELECT id FROM stay WHERE mac = ?2 AND address = ?3 "
        "AND place = ?4 AND since <= ?1 ORDER BY until DESC LIMIT 1)",
        (at, mac, str(seen.address), place),
    )
