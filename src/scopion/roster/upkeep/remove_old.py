"""Removes records that are older than they are kept. What is known now is never removed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from sqlite3 import Connection

from scopion.roster.folding.fold_unpaired import drop_if_undescribed
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import UNPAIRED_SUBJECT, to_ms
from scopion.roster.usage.history import remove_old_usage
from scopion.roster.wifi.air_stays import remove_old_air_stays
from scopion.roster.wires.wire_stays import remove_old_wire_stays


@dataclass(frozen=True, slots=True)
class Keep:
    """Days; 0 keeps for ever."""

    scans: int
    events: int
    stays: int
    traits: int
    changes: int
    wires: int = 0


def remove_old(roster: Roster, keep: Keep, now: datetime) -> dict[str, int]:
    """Remove old records. Returns how many rows of each kind."""
    removals = {
        "scans": (keep.scans, _scans), "events": (keep.events, _events), "stays": (keep.stays, _stays),
        "traits": (keep.traits, _traits), "changes": (keep.changes, _changes),
        "stays at ports": (keep.wires, remove_old_wire_stays),
        "stays on the air": (keep.wires, remove_old_air_stays),
    }  # fmt: skip
    removed = {}
    with roster.transaction() as db:
        for name, (days, remove) in removals.items():
            removed[name] = remove(db, to_ms(now - timedelta(days=days))) if days else 0
        removed["usage"] = remove_old_usage(roster, now)
    return removed


def remove_stray(roster: Roster) -> int:
    """Remove stray rows: traits and associations without a subject, devices without anything. Returns how many."""
    with roster.transaction() as db:
        before = db.total_changes
        db.execute(
            "DELETE FROM trait WHERE subject NOT IN "
            f"(SELECT mac FROM adapter UNION SELECT {UNPAIRED_SUBJECT} FROM unpaired)"
        )
        drop_if_undescribed(db)
        db.execute("DELETE FROM air_session WHERE NOT present AND mac NOT IN (SELECT mac FROM adapter)")
        for table in ("wire_stay", "air_stay"):
            db.execute(f"DELETE FROM {table} WHERE NOT present AND mac NOT IN (SELECT mac FROM adapter)")
        return db.total_changes - before


def record_counts(roster: Roster) -> Mapping[str, int]:
    """Return how many rows there are of each kind."""
    names = ("device", "adapter", "stay", "event", "scan", "trait", "change", "network", "entry")
    with roster.guarded():
        return {name: int(roster.db.execute(f"SELECT count(*) FROM {name}").fetchone()[0]) for name in names}


def _scans(db: Connection, before: int) -> int:
    """Keep one old scan a day and subnet of a place, so that it is known on which days scans looked."""
    old = (
        "SELECT id FROM scan WHERE started < ?1 AND id NOT IN (SELECT baseline FROM subnet WHERE baseline IS NOT NULL) "
        "AND id NOT IN (SELECT min(id) FROM scan WHERE outcome = 'complete' AND started < ?1 "
        "GROUP BY place, subnet, started / 86400000)"
    )
    db.execute(f"UPDATE event SET scan = NULL WHERE scan IN ({old})", (before,))
    return db.execute(f"DELETE FROM scan WHERE id IN ({old})", (before,)).rowcount


def _events(db: Connection, before: int) -> int:
    return db.execute("DELETE FROM event WHERE at < ?", (before,)).rowcount


def _stays(db: Connection, before: int) -> int:
    """Remove past stays except the latest of each adapter in each place, which tells where it was last; and past
    associations.
    """
    db.execute("DELETE FROM air_session WHERE NOT present AND until < ?", (before,))
    return db.execute(
        "DELETE FROM stay WHERE NOT present AND until < ? "
        "AND EXISTS (SELECT 1 FROM stay AS later WHERE later.mac = stay.mac AND later.place = stay.place "
        "AND later.until > stay.until)",
        (before,),
    ).rowcount


def _traits(db: Connection, before: int) -> int:
    return db.execute("DELETE FROM trait WHERE last_seen < ? AND kind <> 'kind'", (before,)).rowcount


def _changes(db: Connection, before: int) -> int:
    return db.execute("DELETE FROM change WHERE at < ?", (before,)).rowcount
