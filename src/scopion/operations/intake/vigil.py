"""What everything that looks after one site at a time shares, in whichever thread: bounds, patience, what was asked.

A site has one while it is watched; a scan by hand has none: it takes in what it finds, and judges at once.
"""

from __future__ import annotations

from collections.abc import Container, Iterable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Network

from scopion.model.mac import MacAddress
from scopion.operations.intake.flood_guard import FloodGuard, Pair

# Who sleeps is given so long where settings say nothing: a phone shows itself every few minutes.
PATIENCE_S = 300.0
# Intervals between sweeps: one sweep that missed somebody is no proof.
SWEEPS_MISSED = 1.5
# Who was asked is remembered for so many pairs of MAC and address; the oldest are asked once more.
_MOST_ASKED = 16_384


@dataclass(slots=True)
class Vigil:
    """The watch's own memory, beside the roster."""

    guard: FloodGuard
    terminal: bool = False  # somebody watches in a terminal, whose bell may ring
    # Since when somebody looks without a break: silence before that is nobody's. None: a single round looks.
    since: datetime | None = None
    # When those who are here were heard last: it is written into the roster now and then only.
    heard: dict[MacAddress, datetime] = field(default_factory=dict)
    # Subnets in which nobody answers at the moment, and since when others do again.
    _dark: set[IPv4Network] = field(default_factory=set)
    _lit: dict[IPv4Network, datetime] = field(default_factory=dict)
    _asked: dict[Pair, float] = field(default_factory=dict)

    def note_asked(self, pairs: set[Pair], now: float) -> None:
        """These were asked for their names at a monotonic moment, in vain or not."""
        self._asked |= dict.fromkeys(pairs, now)
        while len(self._asked) > _MOST_ASKED:
            self._asked.pop(next(iter(self._asked)))

    def asked_since(self, moment: float) -> set[Pair]:
        """Who was asked at or after a monotonic moment."""
        return {pair for pair, at in list(self._asked.items()) if at >= moment}

    def note_light(self, subnet: IPv4Network, at: datetime, *, dark: bool) -> None:
        """Note whether anybody answers in a subnet: silence during an outage is nobody's."""
        if dark:
            self._dark.add(subnet)
        elif subnet in self._dark:
            self._dark.discard(subnet)
            self._lit[subnet] = at

    def silent_since(self, last_seen: datetime, macs: Iterable[MacAddress], subnet: IPv4Network) -> datetime:
        """From when on silence counts of somebody with these adapters who was last seen then, as the roster knows."""
        heard = [self.heard[mac] for mac in macs if mac in self.heard]
        return max(last_seen, *heard, self.since or last_seen, self._lit.get(subnet, last_seen))

    def forget_all_but(self, here: Container[MacAddress]) -> None:
        """When others than these were heard is of no use any more."""
        for mac in [mac for mac in list(self.heard) if mac not in here]:
            self.heard.pop(mac, None)

    def moved(self, by: timedelta) -> None:
        """The clock was set: the times before are none any more."""
        self.heard.clear()
        self._lit.clear()
        if self.since is not None:
            self.since += by
