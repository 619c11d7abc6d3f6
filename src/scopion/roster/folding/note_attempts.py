"""Refused devices that asked to associate: each is remembered as an event, and not again for a while."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from ipaddress import IPv4Address
from sqlite3 import Connection

from scopion.model.address import Address
from scopion.model.device import Event, EventKind
from scopion.model.mac import MacAddress
from scopion.roster.folding.write_rows import record
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_address

# Most were never on the network, so they have no address.
NO_ADDRESS = IPv4Address(0)
_LAST = "SELECT max(at) FROM event INDEXED BY event_device WHERE device = ? AND kind = ? AND name = ?"
_ADDRESS = "SELECT address, place FROM stay WHERE mac = ? ORDER BY present DESC, address LIKE '%:%', until DESC LIMIT 1"


@dataclass(frozen=True, slots=True)
class RefusedAttempt:
    """A device that was refused, on which network, where, and when last."""

    mac: MacAddress
    ssid: str
    access_point: str
    last: datetime


def unknown_of(roster: Roster, attempts: Sequence[RefusedAttempt]) -> list[RefusedAttempt]:
    """Return the attempts of devices that the roster does not have."""
    with roster.guarded():
        query = "SELECT 1 FROM adapter WHERE mac = ?"
        return [each for each in attempts if roster.db.execute(query, (str(each.mac),)).fetchone() is None]


def note_attempts(roster: Roster, attempts: Sequence[RefusedAttempt], again: timedelta) -> list[Event]:
    """Record attempts of known adapters; those of a device that was told within ``again`` before are left out."""
    with roster.transaction() as db:
        events: list[Event] = []
        told: set[tuple[int, str]] = set()
        for each in attempts:
            row = db.execute("SELECT device FROM adapter WHERE mac = ?", (str(each.mac),)).fetchone()
            if row is None or (row["device"], each.ssid) in told:
                continue
            last = db.execute(_LAST, (row["device"], EventKind.REFUSED_ATTEMPT, each.ssid)).fetchone()[0]
            if last is not None and each.last - from_ms(last) < again:
                continue
            told.add((row["device"], each.ssid))
            address, place = latest_address(db, each.mac)
            events.append(
                Event(
                    EventKind.REFUSED_ATTEMPT, each.last, row["device"], each.mac, address, name=each.ssid,
                    was_name=each.access_point, place=place,
                )
            )  # fmt: skip
        return record(db, events)


def latest_address(db: Connection, mac: MacAddress) -> tuple[Address, str]:
    """Return the best address that an adapter has or had, and its place; NO_ADDRESS if it had none."""
    at = db.execute(_ADDRESS, (str(mac),)).fetchone()
    return (stored_address(at[0]), at[1]) if at is not None else (NO_ADDRESS, "")
