"""What the watch remembers beside the roster: which devices it has heard and asked, and which subnets are down.

The threads of the watch share it. The operations see it as ``WatchState``.
"""

from __future__ import annotations

from collections.abc import Container, Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Network

from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Pair
from scopion.operations.intake.flood_guard import FloodGuard, KnownPairs
from scopion.roster.store.open_roster import Roster

# This many pairs of MAC and address are remembered as asked; the oldest are forgotten first and asked once more.
_MOST_ASKED = 16_384


@dataclass(slots=True)
class WatchMemory:
    """Implements ``WatchState``."""

    guard: FloodGuard
    terminal: bool = False
    # Since when the watch has looked without a break: silence before that says nothing. None for a single round.
    since: datetime | None = None
    # When each present adapter was heard last. The roster gets it once a minute only.
    heard: dict[MacAddress, datetime] = field(default_factory=dict)
    # Subnets in which no device answers at the moment, and since when devices answer again in others.
    _down: set[IPv4Network] = field(default_factory=set)
    _up_since: dict[IPv4Network, datetime] = field(default_factory=dict)
    _asked: dict[Pair, float] = field(default_factory=dict)

    def admitted(self, roster: Roster, seen: Sequence[Observation], now: float) -> list[Observation]:
        """Return the observations that the flood guard lets through, at a monotonic moment."""
        with roster.guarded():
            pairs = KnownPairs(roster)
            return self.guard.admitted(seen, pairs.macs, pairs, now)

    def note_asked(self, pairs: set[Pair], now: float) -> None:
        """Remember that these were asked for their names at a monotonic moment, whether or not they answered."""
        self._asked |= dict.fromkeys(pairs, now)
        while len(self._asked) > _MOST_ASKED:
            self._asked.pop(next(iter(self._asked)))

    def asked_since(self, moment: float) -> set[Pair]:
        """Return the pairs that were asked for their names at or after a monotonic moment."""
        return {pair for pair, at in list(self._asked.items()) if at >= moment}

    def note_reachable(self, subnet: IPv4Network, at: datetime, *, down: bool) -> None:
        """Remember whether any device answers in a subnet: silence during an outage says nothing about a device."""
        if down:
            self._down.add(subnet)
        elif subnet in self._down:
            self._down.discard(subnet)
            self._up_since[subnet] = at

    def last_heard(self, last_seen: datetime, macs: Iterable[MacAddress]) -> datetime:
        """Return when a device was seen or heard last; ``last_seen`` is what the roster knows of it."""
        return max([last_seen, *(self.heard[mac] for mac in macs if mac in self.heard)])

    def silent_since(self, last_seen: datetime, macs: Iterable[MacAddress], subnet: IPv4Network) -> datetime:
        """Return when the silence of a device begins to count; ``last_seen`` is what the roster knows of it."""
        heard = self.last_heard(last_seen, macs)
        return max(heard, self.since or heard, self._up_since.get(subnet, heard))

    def forget_all_but(self, here: Container[MacAddress]) -> None:
        """Forget when adapters were heard that are not present any more."""
        for mac in [mac for mac in list(self.heard) if mac not in here]:
            self.heard.pop(mac, None)

    def clock_was_set(self, by: timedelta) -> None:
        """Forget the moments that the old clock gave."""
        self.heard.clear()
        self._up_since.clear()
        if self.since is not None:
            self.since += by
