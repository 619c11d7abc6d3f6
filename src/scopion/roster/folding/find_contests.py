"""Finds contests: one address that two adapters claim at once. It is told when it begins. Pure but for one query.

Not every such pair is a contest: a router that speaks for others does so on purpose, the address of a virtual router
belongs to all of its machines, and two adapters of one device may share an address.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Collection, Sequence
from ipaddress import IPv4Address
from sqlite3 import Connection
from typing import NamedTuple

from scopion.model.device import Event, EventKind
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation

# An adapter that answers for this many IPv4 addresses speaks for others: proxy ARP (RFC 1027), a repeater.
SPEAKS_FOR_OTHERS = 4


class _Pair(NamedTuple):
    """A sighting with both addresses."""

    mac: MacAddress
    address: IPv4Address


def speakers(sightings: Sequence[Observation]) -> dict[MacAddress, int]:
    """Return the adapters that answer for others, with the number of addresses."""
    counts = Counter(seen.mac for seen in _distinct(sightings))
    return {mac: count for mac, count in counts.items() if count >= SPEAKS_FOR_OTHERS}


def claimants(sightings: Sequence[Observation]) -> dict[IPv4Address, list[MacAddress]]:
    """Return the addresses that several adapters claim, each for itself; in the order in which they were seen."""
    others = speakers(sightings)
    found: dict[IPv4Address, list[MacAddress]] = defaultdict(list)
    for seen in _distinct(sightings):
        if seen.mac not in others and not seen.mac.is_virtual_router:
            found[seen.address].append(seen.mac)
    return {address: macs for address, macs in found.items() if len(macs) > 1}


def contests(db: Connection, sightings: Sequence[Observation], before: Collection[tuple[str, str]]) -> list[Event]:
    """Return the contests that began with these sightings; ``before`` are the earlier pairs of MAC and address."""
    events = []
    for address, macs in claimants(sightings).items():
        at = max(seen.began for seen in sightings if seen.address == address)
        devices = {mac: _device(db, mac) for mac in macs}
        # The adapter that was there before is the incumbent; among new ones it is chance.
        in_order = sorted(macs, key=lambda mac: (str(mac), str(address)) not in before)
        incumbent = in_order[0]
        for mac in in_order[1:]:
            known = {(str(mac), str(address)), (str(incumbent), str(address))} <= set(before)
            if not known and devices[mac] != devices[incumbent]:
                events.append(Event(EventKind.CONTESTED, at, devices[mac], mac, address, other_mac=incumbent))
    return events


def _distinct(sightings: Sequence[Observation]) -> list[_Pair]:
    pairs = [_Pair(seen.mac, seen.address) for seen in sightings if seen.mac and isinstance(seen.address, IPv4Address)]
    return list(dict.fromkeys(pairs))


def _device(db: Connection, mac: MacAddress) -> int:
    return int(db.execute("SELECT device FROM adapter WHERE mac = ?", (str(mac),)).fetchone()["device"])
