"""Tries a few TCP ports of the hosts that were found, beside a sweep, because the user asked for it."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence

from scopion.attachment.ports import Attachment
from scopion.model.address import Address
from scopion.model.observation import Observation, Source, Trait, TraitKind

# A port that drops attempts silently is given up after this.
GIVE_UP_S = 1.2
# What a port that was tried is: it accepts a connection, it refuses it, or nothing comes back (a filter drops it).
OPEN, CLOSED, SILENT = "open", "closed", "silent"


class PortTask:
    """A ``SideTask`` that learns which of some ports accept a connection; nothing is sent over it."""

    def __init__(self, attachment: Attachment, ports: Sequence[int]) -> None:
        self._clock = attachment.clock
        self._connector = attachment.open_connector()
        self._ports = tuple(ports)
        self._met: dict[Address, Observation] = {}
        self.states: dict[Address, dict[int, str]] = {}  # what each address said at each port; without: nothing
        self._waiting: deque[tuple[Address, int]] = deque()
        self._last_started = self._clock.monotonic()

    def met(self, seen: Observation) -> None:
        """Try the ports of an IPv4 address, once."""
        if seen.address is not None and seen.address.version == 4 and seen.address not in self._met:
            self._met[seen.address] = seen
            self._waiting.extend((seen.address, port) for port in self._ports)

    def turn(self, deadline: float) -> Iterator[Observation]:
        """Start attempts as far as there is room, and yield what was decided."""
        while self._waiting and self._connector.start(*self._waiting[0]):
            self._waiting.popleft()
            self._last_started = self._clock.monotonic()
        for each in self._connector.results(deadline):
            self.states.setdefault(each.address, {})[each.port] = OPEN if each.accepted else CLOSED
            if each.accepted:
                seen = self._met[each.address]
                trait = Trait(TraitKind.PORT, str(each.port), Source.CONNECT)
                yield Observation(seen.mac, seen.address, self._clock.now(), Source.CONNECT, traits=(trait,))

    @property
    def done(self) -> bool:
        """Tell whether every attempt was decided or has had its time."""
        return not self._waiting and self._clock.monotonic() > self._last_started + GIVE_UP_S

    def close(self) -> None:
        """End the attempts that are open."""
        self._connector.close()
