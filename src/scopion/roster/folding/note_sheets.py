"""Sheets that are due: each is told as an event, so that it is remembered when that was done last.

Events belong to devices, so it is an event of the gateway's device, else of this machine, else of any device.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from scopion.model.device import Event, EventKind
from scopion.roster.folding.write_rows import record
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_address, stored_mac

_TELLER = """
SELECT device, mac, (SELECT address FROM stay WHERE stay.mac = adapter.mac AND address NOT LIKE '%:%'
ORDER BY until DESC LIMIT 1) AS address, (SELECT place FROM stay WHERE stay.mac = adapter.mac
ORDER BY until DESC LIMIT 1) AS place FROM adapter WHERE address NOTNULL
ORDER BY mac IN (SELECT gateway_mac FROM subnet) DESC, own DESC, first_seen LIMIT 1
"""


@dataclass(frozen=True, slots=True)
class SheetTold:
    """When a person was told last that a sheet is due, and since when it is."""

    at: datetime
    since: datetime


def last_told(roster: Roster, ssid: str, enforcer: str) -> SheetTold | None:
    """Return when a person was told last that the sheet of a page is due; None if never."""
    with roster.guarded():
        row = roster.db.execute(
            "SELECT at, away_since FROM event WHERE kind = ? AND name = ? AND was_name = ? ORDER BY at DESC LIMIT 1",
            (EventKind.SHEET_DUE, ssid, enforcer),
        ).fetchone()
        return SheetTold(from_ms(row["at"]), from_ms(row["away_since"] or row["at"])) if row is not None else None


def note_sheet(roster: Roster, ssid: str, enforcer: str, at: datetime, since: datetime) -> list[Event]:
    """Record that the sheet of a page is due, and since when; nothing if no device is known to tell it of."""
    with roster.transaction() as db:
        row = db.execute(_TELLER).fetchone()
        if row is None:
            return []
        whose = (row["device"], stored_mac(row["mac"]), stored_address(row["address"]))
        kind, where = EventKind.SHEET_DUE, row["place"]
        event = Event(kind, at, *whose, away_since=since, name=ssid, was_name=enforcer, place=where)
        return record(db, [event])
