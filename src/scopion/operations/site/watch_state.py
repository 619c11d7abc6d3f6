"""What the operations ask of the watch of a site. A scan by hand has no watch: it judges at once."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from ipaddress import IPv4Network
from typing import Protocol

from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Pair
from scopion.roster.store.open_roster import Roster


class WatchState(Protocol):
    """Implemented by the watch's memory, in ``watching``."""

    terminal: bool  # a person watches in a terminal, whose bell may ring

    def admitted(self, roster: Roster, seen: Sequence[Observation], now: float) -> list[Observation]:
        """Return the observations that may be taken in, at a monotonic moment: a flood of new devices is limited."""

    def note_asked(self, pairs: set[Pair], now: float) -> None:
        """Remember that these were asked for their names at a monotonic moment, whether or not they answered."""

    def asked_since(self, moment: float) -> set[Pair]:
        """Return the pairs that were asked for their names at or after a monotonic moment."""

    def note_reachable(self, subnet: IPv4Network, at: datetime, *, down: bool) -> None:
        """Remember whether any device answers in a subnet."""

    def last_heard(self, last_seen: datetime, macs: Iterable[MacAddress]) -> datetime:
        """Return when a device was seen or heard last; ``last_seen`` is what the roster knows of it."""

    def silent_since(self, last_seen: datetime, macs: Iterable[MacAddress], subnet: IPv4Network) -> datetime:
        """Return when the silence of a device begins to count; ``last_seen`` is what the roster knows of it."""
