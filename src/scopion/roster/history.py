"""Queries over the past: who used which address last."""

from __future__ import annotations

from ipaddress import IPv4Address

from scopion.model.address import parse_address
from scopion.model.device import Stay
from scopion.model.mac import MacAddress
from scopion.roster.store import Roster, from_ms


def last_uses(roster: Roster) -> dict[IPv4Address, Stay]:
    """The latest stay at each IPv4 address, of adapters and of hosts without a MAC."""
    found: dict[IPv4Address, Stay] = {}
    with roster.guarded():
        for row in roster.db.execute(
            "SELECT mac, address, since, until, present FROM stay "
            "UNION ALL SELECT NULL, address, since, until, present FROM unpaired ORDER BY until"
        ):
            address = parse_address(row["address"])
            if isinstance(address, IPv4Address):
                mac = MacAddress.parse(row["mac"]) if row["mac"] else None
                since, until = from_ms(row["since"]), from_ms(row["until"])
                found[address] = Stay(mac, address, since, until, bool(row["present"]))
    return found
