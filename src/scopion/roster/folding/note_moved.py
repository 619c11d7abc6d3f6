"""Devices that do not move, and were moved: to another port, or another access point. Each time is an event."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from scopion.model.device import Event, EventKind
from scopion.model.mac import MacAddress
from scopion.roster.folding.note_attempts import latest_address
from scopion.roster.folding.write_rows import record
from scopion.roster.store.open_roster import Roster


@dataclass(frozen=True, slots=True)
class Move:
    """An adapter that is at another place than before, both in words."""

    mac: MacAddress
    was: str
    now: str


def note_moved(roster: Roster, moves: Sequence[Move], at: datetime) -> list[Event]:
    """Record the moves of adapters that the roster has."""
    with roster.transaction() as db:
        events: list[Event] = []
        for each in moves:
            row = db.execute("SELECT device FROM adapter WHERE mac = ?", (str(each.mac),)).fetchone()
            if row is not None:
                address, place = latest_address(db, each.mac)
                events.append(
                    Event(
                        EventKind.MOVED, at, row["device"], each.mac, address, name=each.now, was_name=each.was,
                        place=place,
                    )
                )  # fmt: skip
        return record(db, events)
