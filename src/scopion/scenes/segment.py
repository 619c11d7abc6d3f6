"""A made-up segment: hosts that answer ARP frames after their time, with their losses, on a virtual clock.

Frames go in, frames come out later; no thread waits. The same seed gives the same answers.
"""

from __future__ import annotations

import heapq
import random
from collections import defaultdict
from collections.abc import Callable, Sequence
from contextlib import suppress
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv6Address

from scopion.attachment.ports import Interface, ReceivedFrame
from scopion.model.address import Address
from scopion.model.errors import InterfaceLost, MalformedFrame
from scopion.scenes.comings import comings
from scopion.scenes.scene import Period, SceneHost
from scopion.scenes.scene_clock import SceneClock
from scopion.scenes.voices import first_words
from scopion.wire.arp import PLAIN_TARGET, REQUEST, decode_arp, encode_reply, is_plain_arp
from scopion.wire.ethernet import BROADCAST, decode_header
from scopion.wire.icmp import ALL_NODES, Echo, decode_echo, encode_echo
from scopion.wire.ip import ICMPV6, decode_ip, encode_ip
from scopion.wire.ndp import decode_ndp, encode_advertisement

# Comings are worked out for this long at once.
_KNOWN_AHEAD = timedelta(days=1)


class Segment:
    """The hosts that one interface reaches."""

    def __init__(
        self,
        hosts: Sequence[SceneHost],
        clock: SceneClock,
        seed: int,
        admits: Callable[[SceneHost], bool] | None = None,
    ) -> None:
        self.clock = clock
        self._admits = admits or (lambda _: True)  # whether the access point lets a host onto the network
        # By address, so that a /16 with thousands of hosts is played in a moment.
        self._at: dict[IPv4Address, list[tuple[SceneHost, Period]]] = defaultdict(list)
        for host in hosts:
            for period in host.periods:
                self._at[period.address].append((host, period))
        self._at_ipv6: dict[IPv6Address, list[SceneHost]] = defaultdict(list)
        for host in hosts:
            for ipv6 in host.ipv6:
                self._at_ipv6[ipv6].append(host)
        self._taken = {address.packed for address in self._at}
        self._ipv6_only = [host for host in hosts if not host.periods]
        self.chance = random.Random(seed)
        self._due: list[tuple[float, int, bytes]] = []  # arrival, order, frame
        self._order = 0
        self._hosts = hosts
        self._come_until: datetime | None = None  # comings are known up to here; None: no one listens
        self.up = True

    def holders(self, address: IPv4Address) -> list[SceneHost]:
        """Return the hosts at an address now."""
        now = self.clock.now()
        return [host for host, period in self._at.get(address, ()) if period.holds(now) and self._admits(host)]

    def at(self, address: Address) -> list[SceneHost]:
        """Return the hosts at an address of either version now."""
        if isinstance(address, IPv4Address):
            return self.holders(address)
        now = self.clock.now()
        return [host for host in self._at_ipv6.get(address, ()) if self._is_here(host, now) and self._admits(host)]

    def _is_here(self, host: SceneHost, now: datetime) -> bool:
        return not host.periods or any(period.holds(now) for period in host.periods)

    def present(self) -> list[tuple[SceneHost, IPv4Address | None]]:
        """Return the hosts that are here now, with their first IPv4 address; None for a host with IPv6 only."""
        now = self.clock.now()
        found: dict[SceneHost, IPv4Address | None] = {}
        for address, stays in self._at.items():
            for host, period in stays:
                if period.holds(now) and self._admits(host):
                    found.setdefault(host, address)
        found |= dict.fromkeys(filter(self._admits, self._ipv6_only))
        return list(found.items())

    def put(self, frame: bytes) -> None:
        """Take a frame from this machine; the hosts that it concerns answer, or their answer is lost."""
        if is_plain_arp(frame) and frame[PLAIN_TARGET] not in self._taken:
            return  # most of a sweep: no host ever has the address that is asked for
        with suppress(MalformedFrame):
            packet = decode_arp(frame)
            if packet is not None and packet.operation == REQUEST:
                to = decode_header(frame)[0].destination
                for host in self.holders(packet.target_address):
                    if to not in (host.mac, BROADCAST):
                        continue  # it was for another adapter
                    reply = encode_reply(host.mac, packet.target_address, packet.sender_mac, packet.sender_address)
                    self._answer(host, reply)
                return
            self._put_ipv6(frame)

    def announce_comings(self) -> None:
        """Let every host that comes from now on speak by itself."""
        if self._come_until is None:
            self._come_until = self.clock.now()

    def _let_come(self, deadline: float) -> None:
        """Send the first frames of the hosts that come by a deadline."""
        until = self.clock.now() + timedelta(seconds=deadline - self.clock.monotonic())
        while self._come_until is not None and self._come_until < until:
            after, self._come_until = self._come_until, self._come_until + _KNOWN_AHEAD
            for moment, host, address in comings([*filter(self._admits, self._hosts)], after, self._come_until):
                arrives = self.clock.monotonic() + (moment - self.clock.now()).total_seconds()
                for number, frame in enumerate(first_words(host, address)):
                    self._arrive(max(arrives, self.clock.monotonic()) + number * 0.01, frame)

    def announce(self, frames: Sequence[tuple[float, bytes]]) -> None:
        """Let hosts speak by themselves, each frame a number of seconds from now."""
        now = self.clock.monotonic()
        for after, frame in frames:
            self._arrive(now + after, frame)

    def _put_ipv6(self, frame: bytes) -> None:
        header, cursor = decode_header(frame)
        packet = decode_ip(header.type, cursor)
        if packet is None or not isinstance(packet.source, IPv6Address):
            return
        message = decode_ndp(packet)
        echo = decode_echo(packet.protocol, packet.payload)
        if message is not None and message.target is not None:
            for host in self.at(message.target):
                if header.destination.is_multicast or header.destination == host.mac:
                    answer = encode_advertisement(host.mac, message.target, header.source, packet.source)
                    self._answer(host, answer)
        if echo is not None and packet.destination == ALL_NODES:
            for host, _ in self.present():
                # A host answers from its address of the asker's kind: from the link-local one, or from the wide one.
                own = next((each for each in host.ipv6 if each.is_link_local == packet.source.is_link_local), None)
                if own is not None:
                    reply = encode_echo(own, packet.source, Echo(True, echo.identifier, echo.sequence))
                    ends = (host.mac, header.source)
                    self._answer(host, encode_ip(ends, own, packet.source, ICMPV6, reply, 64))

    def _answer(self, host: SceneHost, frame: bytes) -> None:
        if self._arrives(host) and self._arrives(host):
            self._arrive(self.clock.monotonic() + self.delay(host), frame)

    def _arrive(self, at: float, frame: bytes) -> None:
        self._order += 1
        heapq.heappush(self._due, (at, self._order, frame))

    def next_arrival(self, deadline: float) -> ReceivedFrame | None:
        """Return the next frame for this machine, once the virtual clock has reached it."""
        self._let_come(deadline)
        if self._due and self._due[0][0] <= max(deadline, self.clock.monotonic()):
            at, _, frame = heapq.heappop(self._due)
            self.clock.wait_until(at)
            return ReceivedFrame(frame, at)
        self.clock.wait_until(deadline)
        return None

    def delay(self, host: SceneHost) -> float:
        """Return how long a host takes for an answer: its round trip, a little varied, after its doze."""
        return host.doze_s + host.rtt_s * self.chance.uniform(0.8, 1.3)

    def tries_needed(self, host: SceneHost, tries: int) -> int | None:
        """Return at which of some tries a host is reached; None if at none."""
        return next((at for at in range(tries) if self._arrives(host) and self._arrives(host)), None)

    def _arrives(self, host: SceneHost) -> bool:
        return host.loss <= 0.0 or self.chance.random() >= host.loss


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

    def receive(self, deadline: float) -> ReceivedFrame | None:
        """Return the next frame; the virtual clock moves on to it, or to the deadline."""
        self._require_open()
        return self.segment.next_arrival(deadline)

    def dropped(self) -> int:
        """Return 0: a made-up network has room for all."""
        return 0

    def close(self) -> None:
        """Close it: nothing more can be sent."""
        self._closed = True

    def _require_open(self) -> None:
        if self._closed or not self.segment.up:
            raise InterfaceLost(f"{self._interface.name} is down: see scopion here")
