"""Outages of a whole subnet: each is told once and remembered, so that a restart is silent.

Events belong to devices, so an outage is an event of the gateway's device, or of this machine if there is no gateway.
"""

from __future__ import annotations

from datetime import datetime
from ipaddress import IPv4Network

from scopion.model.device import Event, EventKind
from scopion.model.mac import MacAddress
from scopion.roster.folding.write_rows import record
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_address, stored_mac


def down_since(roster: Roster, subnet: IPv4Network) -> datetime | None:
    """Return since when a subnet is down, as was told; None if it is not."""
    with roster.guarded():
        row = roster.db.execute(
            "SELECT kind, at FROM event WHERE kind IN (?, ?) AND name = ? ORDER BY at DESC, id DESC LIMIT 1",
            (EventKind.NETWORK_DOWN, EventKind.NETWORK_BACK, str(subnet)),
        ).fetchone()
        return from_ms(row["at"]) if row and row["kind"] == EventKind.NETWORK_DOWN else None


def note_down(roster: Roster, subnet: IPv4Network, at: datetime, why: str = "") -> list[Event]:
    """Record that no device of a subnet answers; nothing if that is known, or no device is known to tell it of."""
    with roster.transaction() as db:
        whose = _teller(roster, subnet)
        if whose is None or down_since(roster, subnet) is not None:
            return []
        device, mac, address = whose
        event = Event(EventKind.NETWORK_DOWN, at, device, mac, stored_address(address), name=str(subnet), was_name=why)
        return record(db, [event])


def note_back(roster: Roster, subnet: IPv4Network, at: datetime) -> list[Event]:
    """Record that a subnet answers again; nothing if it was not down."""
    with roster.transaction() as db:
        since, whose = down_since(roster, subnet), _teller(roster, subnet)
        if since is None or whose is None:
            return []
        device, mac, address = whose
        event = Event(
            EventKind.NETWORK_BACK, at, device, mac, stored_address(address), away_since=since, name=str(subnet)
        )
        return record(db, [event])


def _teller(roster: Roster, subnet: IPv4Network) -> tuple[int, MacAddress, str] | None:
    """Return the subnet's gateway, else this machine: the device, its MAC address, and the address."""
    row = roster.db.execute(
        "SELECT device, mac, gateway FROM subnet JOIN adapter ON mac = gateway_mac WHERE range = ? AND gateway NOTNULL",
        (str(subnet),),
    ).fetchone()
    if row is None:
        row = roster.db.execute(
            "SELECT device, mac, (SELECT address FROM stay WHERE stay.mac = adapter.mac AND address NOT LIKE '%:%' "
            "ORDER BY until DESC LIMIT 1) AS gateway FROM adapter WHERE own AND gateway NOTNULL LIMIT 1"
        ).fetchone()
    return (row["device"], stored_mac(row["mac"]), row["gateway"]) if row else None
