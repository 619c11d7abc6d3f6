"""A made-up segment: hosts that answer ARP frames after their time, with their losses, on a virtual clock.

Frames go in, frames come out later; nobody waits. The same seed gives the same answers.
"""

from __future__ import annotations

import heapq
import random
from collections import defaultdict
from collections.abc import Sequence
from datetime import datetime, timedelta
from ipaddress import IPv4Address

from scopion.attachment.ports import Arrival, Interface, Neighbour, NeighbourState
from scopion.model.errors import InterfaceLost, MalformedFrame
from scopion.model.mac import MacAddress
from scopion.scenes.scene import Period, SceneHost
from scopion.wire.arp import REQUEST, decode_arp, encode_reply


class SceneClock:
    """Story time: it stands still unless somebody waits."""

    def __init__(self, at: datetime) -> None:
        self._start = at
        self._elapsed = 0.0

    def now(self) -> datetime:
        """The story's time of day."""
        return self._start + timedelta(seconds=self._elapsed)

    def monotonic(self) -> float:
        """Virtual seconds since the moment began."""
        return self._elapsed

    def local(self, moment: datetime) -> datetime:
        """The made-up site lies on the meridian."""
        return moment

    def wait_until(self, moment: float) -> None:
        """Let the virtual time pass; it never goes back."""
        self._elapsed = max(self._elapsed, moment)


class Segment:
    """The hosts that one interface reaches."""

    def __init__(self, hosts: Sequence[SceneHost], clock: SceneClock, seed: int) -> None:
        self.clock = clock
        # By address, so that a /16 with thousands of hosts is still played in a moment.
        self._at: dict[IPv4Address, list[tuple[SceneHost, Period]]] = defaultdict(list)
        for host in hosts:
            for period in host.periods:
                self._at[period.address].append((host, period))
        self._random = random.Random(seed)
        self._due: list[tuple[float, int, bytes]] = []  # arrival, order, frame
        self._order = 0
        self.up = True

    def holders(self, address: IPv4Address) -> list[SceneHost]:
        """Who is at an address now."""
        now = self.clock.now()
        return [host for host, period in self._at.get(address, ()) if period.holds(now)]

    def put(self, frame: bytes) -> None:
        """A frame from this machine; the hosts that it concerns answer, or their answer is lost."""
        try:
            packet = decode_arp(frame)
        except MalformedFrame:
            return
        if packet is None or packet.operation != REQUEST:
            return
        for host in self.holders(packet.target_address):
            if self._arrives(host) and self._arrives(host):
                reply = encode_reply(host.mac, packet.target_address, packet.sender_mac, packet.sender_address)
                self._order += 1
                heapq.heappush(self._due, (self.clock.monotonic() + self.delay(host), self._order, reply))

    def next_arrival(self, deadline: float) -> Arrival | None:
        """The next frame for this machine, once the virtual clock has reached it."""
        if self._due and self._due[0][0] <= max(deadline, self.clock.monotonic()):
            at, _, frame = heapq.heappop(self._due)
            self.clock.wait_until(at)
            return Arrival(frame, at)
        self.clock.wait_until(deadline)
        return None

    def delay(self, host: SceneHost) -> float:
        """How long a host takes for an answer: its round trip, a little varied, after its doze."""
        return host.doze_s + host.rtt_s * self._random.uniform(0.8, 1.3)

    def tries_needed(self, host: SceneHost, tries: int) -> int | None:
        """At which of some tries a host is reached; None if at none."""
        return next((at for at in range(tries) if self._arrives(host) and self._arrives(host)), None)

    def _arrives(self, host: SceneHost) -> bool:
        return host.loss <= 0.0 or self._random.random() >= host.loss


class SceneLink:
    """A ``Link`` into a segment."""

    def __init__(self, segment: Segment, interface: Interface) -> None:
        self.segment = segment
        self._interface = interface
        self._closed = False

    def send(self, frame: bytes) -> None:
        """Put a frame into the segment."""
        self._require_open()
        self.segment.put(frame)

    def receive(self, deadline: float) -> Arrival | None:
        """The next frame; the virtual clock moves on to it, or to the deadline."""
        self._require_open()
        return self.segment.next_arrival(deadline)

    def close(self) -> None:
        """Nothing more can be sent."""
        self._closed = True

    def _require_open(self) -> None:
        if self._closed or not self.segment.up:
            raise InterfaceLost(f"{self._interface.name} is down: see scopion here")


class SceneDatagrams:
    """A ``Datagrams`` into a segment, with the neighbour table that a kernel would keep meanwhile."""

    # A kernel asks three times, a second apart.
    TRIES = 3

    def __init__(self, segment: Segment) -> None:
        self._segment = segment
        self._resolved: dict[IPv4Address, tuple[float, MacAddress | None]] = {}
        self._refused: list[tuple[float, IPv4Address]] = []

    def touch(self, address: IPv4Address) -> bool:
        """Resolve as a kernel would, with its three tries."""
        now = self._segment.clock.monotonic()
        for host in self._segment.holders(address)[:1]:
            tries = self._segment.tries_needed(host, self.TRIES)
            if tries is not None:
                at = now + tries + self._segment.delay(host)
                self._resolved[address] = (at, host.mac)
                heapq.heappush(self._refused, (at + host.rtt_s, address))
                return True
        self._resolved[address] = (now + self.TRIES, None)
        return True

    def refusals(self) -> tuple[tuple[IPv4Address, float], ...]:
        """Everybody who is there refuses, after its round trip."""
        now = self._segment.clock.monotonic()
        found = []
        while self._refused and self._refused[0][0] <= now:
            at, address = heapq.heappop(self._refused)
            found.append((address, at))
        return tuple(found)

    def wait(self, deadline: float) -> None:
        """Let the virtual time pass."""
        self._segment.clock.wait_until(deadline)

    def close(self) -> None:
        """Forget what is pending."""
        self._refused.clear()

    def table(self) -> tuple[Neighbour, ...]:
        """The neighbour table as it is now."""
        now = self._segment.clock.monotonic()
        return tuple(_entry(address, at <= now, mac) for address, (at, mac) in self._resolved.items())


def _entry(address: IPv4Address, over: bool, mac: MacAddress | None) -> Neighbour:
    if not over:
        return Neighbour(address, None, NeighbourState.CHECKING)
    return Neighbour(address, mac, NeighbourState.REACHABLE if mac else NeighbourState.FAILED)
