"""Keeps made-up devices from filling the disk: only a limited number of new ones is taken in at a time.

All code that takes observations in while a site is watched shares one guard. Baselines pass it by.
"""

from __future__ import annotations

import threading
from collections.abc import Container, Sequence
from dataclasses import dataclass

from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Pair
from scopion.roster.store.open_roster import Roster

# New devices at once, and one more for each of these seconds: a conference of 250 is taken in as it comes; of thousands
# that a sender makes up, at most some 2,400 a day, 3 MB with all that belongs to them.
DEVICES, A_DEVICE_EVERY_S = 256, 40.0
# New addresses of known devices: a proxy that answers for a whole subnet is taken in.
PAIRS, A_PAIR_EVERY_S = 1024, 10.0
EXAMPLES = 5


@dataclass(slots=True)
class TokenBucket:
    """Allows a number of things at once, and one more at each interval."""

    most: float
    every_s: float
    left: float
    at: float = 0.0

    def take(self, now: float) -> bool:
        """Tell whether one more is allowed at a monotonic moment, and count it."""
        self.left = min(self.most, self.left + max(0.0, now - self.at) / self.every_s)
        self.at = now
        if self.left < 1:
            return False
        self.left -= 1
        return True


class KnownPairs:
    """Which pairs of MAC and address were ever in a place: devices that come back after a power cut are no flood."""

    def __init__(self, roster: Roster, place: str | None = None) -> None:
        self._roster = roster
        self._place = roster.placed(place)
        self.macs = _KnownMacs(roster)

    def __contains__(self, pair: object) -> bool:
        mac, address = pair if isinstance(pair, tuple) else (None, None)
        if address is None:
            return mac in self.macs
        if mac is None:
            query, values = "SELECT 1 FROM unpaired WHERE address = ? AND place = ?", (str(address), self._place)
            return self._roster.db.execute(query, values).fetchone() is not None
        query = "SELECT 1 FROM stay WHERE mac = ? AND address = ? AND place = ? LIMIT 1"
        return self._roster.db.execute(query, (str(mac), str(address), self._place)).fetchone() is not None


class _KnownMacs:
    """Which adapters are known: each is looked up, because a site may have tens of thousands."""

    def __init__(self, roster: Roster) -> None:
        self._db = roster.db

    def __contains__(self, mac: object) -> bool:
        return self._db.execute("SELECT 1 FROM adapter WHERE mac = ?", (str(mac),)).fetchone() is not None


@dataclass(frozen=True, slots=True)
class PassedOver:
    """What was not taken in: how many observations of new devices and addresses, and some examples."""

    count: int
    examples: tuple[str, ...]


class FloodGuard:
    """Lets through what is known, and new devices up to a limit. Several threads may call it."""

    def __init__(self, now: float = 0.0) -> None:
        self._devices = TokenBucket(DEVICES, A_DEVICE_EVERY_S, DEVICES, now)
        self._pairs = TokenBucket(PAIRS, A_PAIR_EVERY_S, PAIRS, now)
        self._lock = threading.Lock()
        self._count = 0
        self._examples: list[str] = []

    def admitted(
        self, seen: Sequence[Observation], macs: Container[MacAddress], pairs: Container[Pair], now: float
    ) -> list[Observation]:
        """Return the observations that may be taken in; ``macs`` and ``pairs`` are known already."""
        with self._lock:
            decided: dict[Pair | MacAddress, bool] = {}
            return [each for each in seen if self._admits(each, macs, pairs, decided, now)]

    def passed_over(self) -> PassedOver | None:
        """Return what was not let through since the last call; None if nothing."""
        with self._lock:
            found = PassedOver(self._count, tuple(self._examples)) if self._count else None
            self._count, self._examples = 0, []
            return found

    def _admits(
        self,
        each: Observation,
        macs: Container[MacAddress],
        pairs: Container[Pair],
        decided: dict[Pair | MacAddress, bool],
        now: float,
    ) -> bool:
        pair = (each.mac, each.address)
        # A record makes no device present, and the person who set it up knows its length: a DHCP pool, a table.
        if each.recorded or pair in pairs:
            return True
        if pair not in decided:
            # A device that only asks for an address becomes an adapter as well.
            if each.mac is not None and each.mac not in macs and each.mac not in decided:
                decided[each.mac] = self._devices.take(now)
            wanted = each.mac is None or decided.get(each.mac, True)
            decided[pair] = wanted and (each.address is None or self._pairs.take(now))
            if not decided[pair]:
                self._count += 1
                if len(self._examples) < EXAMPLES:
                    self._examples.append(f"{each.mac} at {each.address}")
        return decided[pair]
