"""How soon vendors can be looked up, and how many a second."""

from __future__ import annotations

import random
import time
from collections.abc import Iterator

from benchmarks.figure import Figure
from scopion.model.mac import MacAddress
from scopion.vendors.registry import Vendors
from scopion.vendors.snapshot import Snapshot

LOOK_UPS = 200_000


def measure() -> Iterator[Figure]:
    """Ready, then look up addresses that repeat as networks do, and ones that never repeat."""
    best = float("inf")
    for _ in range(20):
        began = time.perf_counter()
        vendors = Vendors(Snapshot.open())
        vendors.of(MacAddress.parse("28:6f:b9:00:00:01"))
        best = min(best, time.perf_counter() - began)
    yield Figure("vendor look-up ready", best * 1000, "ms", 15)
    chance = random.Random(1)
    snapshot = vendors.snapshots[0]
    prefixes = [row.prefix for registry in snapshot.dates for row in snapshot.listing(registry).assignments]
    few = [_address(chance.choice(prefixes), chance) for _ in range(250)]
    many = [_address(chance.choice(prefixes), chance) for _ in range(LOOK_UPS)]
    for name, addresses in (("250 devices over and over", few * (LOOK_UPS // 250)), ("all different", many)):
        fresh = Vendors(Snapshot.open())
        began = time.perf_counter()
        for address in addresses:
            fresh.of(address)
        rate = len(addresses) / (time.perf_counter() - began)
        yield Figure(f"vendor look-ups a second, {name}", rate, "/s", 200_000, least=True)


def _address(prefix: int, chance: random.Random) -> MacAddress:
    digits = f"{prefix:06x}" if prefix < 1 << 24 else f"{prefix:x}"
    return MacAddress.parse((digits + f"{chance.getrandbits(24):06x}")[:12].ljust(12, "0"))
