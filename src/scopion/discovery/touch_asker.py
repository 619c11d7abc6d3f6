"""Asking without privilege: empty datagrams, and what the system's neighbour table makes of them."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator

from scopion.attachment.ports import Attachment, Interface, NeighbourState
from scopion.discovery.answer import Answer
from scopion.model.address import Address
from scopion.model.observation import Source

# How often the neighbour table is read while waiting: a dump of some hundred entries takes a millisecond.
_TABLE_EVERY_S = 0.05


class TouchAsker:
    """An ``Asker`` for one interface."""

    def __init__(self, attachment: Attachment, interface: Interface) -> None:
        self._attachment = attachment
        self._interface = interface
        self._datagrams = attachment.open_datagrams(interface)
        self._waiting: deque[Address] = deque()  # the system had no room for them yet
        self._open: set[Address] = set()
        self._refused: dict[Address, float] = {}
        self._checking = False
        self._read_at = 0.0

    def ask(self, address: Address) -> None:
        """Touch the address, or put it by until the system has room."""
        self._open.add(address)
        if self._waiting or not self._datagrams.touch(address):
            self._waiting.append(address)

    def call(self) -> None:
        """Nothing: a datagram to a group makes nobody answer."""

    def answers(self, deadline: float) -> Iterator[Answer]:
        """Read the table every now and then, with the refusals that have come in."""
        clock = self._attachment.clock
        while self._waiting and self._datagrams.touch(self._waiting[0]):
            self._waiting.popleft()
        self._datagrams.wait(min(deadline, clock.monotonic() + _TABLE_EVERY_S))
        self._refused.update(self._datagrams.refusals())
        now = clock.monotonic()
        if now - self._read_at < _TABLE_EVERY_S and now < deadline:
            return
        self._read_at = now
        yield from self._read_table(now)

    def undecided(self) -> bool:
        """Whether stale entries are being checked, or touches wait for room."""
        return self._checking or bool(self._waiting)

    def close(self) -> None:
        """Close the socket."""
        self._datagrams.close()

    def _read_table(self, now: float) -> Iterator[Answer]:
        self._checking = False
        for entry in self._attachment.neighbours(self._interface):
            if entry.address not in self._open or entry.mac is None:
                continue
            if entry.state is NeighbourState.REACHABLE or entry.address in self._refused:
                self._open.discard(entry.address)
                refused_at = self._refused.get(entry.address)
                # The table tells that a neighbour answered, only a refusal tells when.
                at = now if refused_at is None else refused_at
                yield Answer(entry.address, entry.mac, at, Source.NEIGHBOURS, asked=refused_at is not None)
            elif entry.state is NeighbourState.CHECKING:
                self._checking = True
