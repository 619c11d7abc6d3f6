"""Queries about the past: which device was where at a moment, which used an address last, when an adapter was here."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable
from datetime import datetime
from ipaddress import IPv4Address
from typing import Any

from scopion.model.device import Stay
from scopion.model.observation import Source
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_address, stored_mac, stored_words, to_ms

# Adapters, and hosts without a MAC address beyond a router.
_EVERYBODY = (
    "SELECT stay.mac, address, since, until, present, source, place, adapter.device "
    "FROM stay JOIN adapter ON adapter.mac = stay.mac "
    "UNION ALL SELECT NULL, address, since, until, present, NULL, place, device FROM unpaired"
)
STAY_COLUMNS = "mac, address, since, until, present, source, place"
_SOURCES = stored_words(lambda text: None if text is None else Source(text))


def last_uses(roster: Roster, place: str | None = None) -> dict[IPv4Address, Stay]:
    """Return the latest stay at each IPv4 address of a place (this machine's for None), of adapters and of hosts
    without a MAC address.
    """
    found: dict[IPv4Address, Stay] = {}
    where = roster.placed(place)
    with roster.guarded():
        for row in roster.db.execute(f"SELECT * FROM ({_EVERYBODY}) WHERE place = ? ORDER BY until", (where,)):
            address = stored_address(row["address"])
            if isinstance(address, IPv4Address):
                found[address] = stay_of(row)
    return found


def stays_at(roster: Roster, moment: datetime) -> dict[int, list[Stay]]:
    """Return by device the stays that held at a moment: begun by then, and confirmed since or still open."""
    return _by_device(roster, f"SELECT * FROM ({_EVERYBODY}) WHERE since <= ?1 AND (present OR until >= ?1)", moment)


def stays_since(roster: Roster, moment: datetime, devices: Collection[int] | None = None) -> dict[int, list[Stay]]:
    """Return by device all stays that were not over by a moment, in the order of time; of all devices or of some."""
    chosen = "" if devices is None else f" AND device IN ({','.join(map(str, devices))})"
    return _by_device(
        roster, f"SELECT * FROM ({_EVERYBODY}) WHERE (present OR until >= ?1){chosen} ORDER BY since", moment
    )


def looked_at(roster: Roster, since: datetime) -> list[tuple[datetime, datetime]]:
    """Return when complete scans began and ended, in the order of time: at other times no scan looked."""
    with roster.guarded():
        rows = roster.db.execute(
            "SELECT started, ended FROM scan WHERE outcome = 'complete' AND ended >= ? ORDER BY started",
            (to_ms(since),),
        )
        return [(from_ms(row["started"]), from_ms(row["ended"])) for row in rows]


def _by_device(roster: Roster, query: str, moment: datetime) -> dict[int, list[Stay]]:
    found: dict[int, list[Stay]] = defaultdict(list)
    with roster.guarded():
        for row in roster.db.execute(query, (to_ms(moment),)):
            found[row["device"]].append(stay_of(row))
    return dict(found)


def stay_of(row: Iterable[Any]) -> Stay:
    """Return a stay from a row that begins with STAY_COLUMNS."""
    mac, address, since, until, present, source, place, *_ = row
    known = stored_mac(mac) if mac else None
    told = _SOURCES[source]
    return Stay(known, stored_address(address), from_ms(since), from_ms(until), bool(present), told, place)
