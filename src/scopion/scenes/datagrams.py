"""What needs no privilege in a scene: touches with a neighbour table, questions by UDP, echo, TCP."""

from __future__ import annotations

import heapq
from collections.abc import Callable, Sequence
from ipaddress import ip_address

from scopion.attachment.ports import Connected, Interface, Letter, Neighbour, NeighbourState
from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.scenes import voices
from scopion.scenes.scene import SceneHost
from scopion.scenes.segment import Segment
from scopion.wire import dns
from scopion.wire.icmp import ALL_NODES


class SceneDatagrams:
    """A ``Datagrams`` into a segment, with the neighbour table that a kernel would keep."""

    # A kernel asks three times, a second apart.
    TRIES = 3

    def __init__(self, segment: Segment) -> None:
        self._segment = segment
        self._resolved: dict[Address, tuple[float, MacAddress | None]] = {}
        self._refused: list[tuple[float, Address]] = []

    def touch(self, address: Address) -> bool:
        """Resolve as a kernel would, with its three tries."""
        now = self._segment.clock.monotonic()
        for host in self._segment.at(address)[:1]:
            tries = self._segment.tries_needed(host, self.TRIES)
            if tries is not None:
                at = now + tries + self._segment.delay(host)
                self._resolved[address] = (at, host.mac)
                heapq.heappush(self._refused, (at + host.rtt_s, address))
                return True
        self._resolved[address] = (now + self.TRIES, None)
        return True

    def resolve(self, address: Address) -> None:
        """Find the neighbour, as a kernel does before it sends anything to an address of the link."""
        for host in self._segment.at(address)[:1]:
            self._resolved[address] = (self._segment.clock.monotonic(), host.mac)

    def refusals(self) -> tuple[tuple[Address, float], ...]:
        """Return all hosts that are there: each refuses after its round trip."""
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
        """Return the neighbour table as it is now."""
        now = self._segment.clock.monotonic()
        return tuple(_entry(address, at <= now, mac) for address, (at, mac) in self._resolved.items())


def _entry(address: Address, over: bool, mac: MacAddress | None) -> Neighbour:
    if not over:
        return Neighbour(address, None, NeighbourState.CHECKING)
    return Neighbour(address, mac, NeighbourState.REACHABLE if mac else NeighbourState.FAILED)


class SceneMailbox:
    """A ``Mailbox`` among some hosts; the first of its resolvers is the site's name server."""

    def __init__(self, segment: Segment, resolvers: Sequence[Address]) -> None:
        self._segment = segment
        self._resolvers = resolvers
        self._due: list[tuple[float, int, Letter]] = []
        self._order = 0

    def send(self, payload: bytes, address: Address, port: int) -> bool:
        """Send a question to one host, to a group, or to the name server."""
        hosts = self._segment.present()
        if port == dns.DNS_PORT:
            if address in self._resolvers:
                self._arrive(0.003, voices.name_server_answer(hosts, payload), address, port)
            return True
        for host, its in hosts:
            if its is None or (address != its and not address.is_multicast):
                continue
            answer = voices.answer(host, its, port, payload)
            if answer is not None and self._segment.tries_needed(host, 1) is not None:
                self._arrive(self._segment.delay(host), answer, its, port)
        return True

    def receive(self, deadline: float) -> Letter | None:
        """Return the next answer; the virtual clock moves on to it, or to the deadline."""
        clock = self._segment.clock
        if self._due and self._due[0][0] <= max(deadline, clock.monotonic()):
            at, _, letter = heapq.heappop(self._due)
            clock.wait_until(at)
            return letter
        clock.wait_until(deadline)
        return None

    def close(self) -> None:
        """Forget what is pending."""
        self._due.clear()

    def _arrive(self, after: float, payload: bytes, sender: Address, port: int) -> None:
        at = self._segment.clock.monotonic() + after
        self._order += 1
        heapq.heappush(self._due, (at, self._order, Letter(payload, sender, port, at)))


class SceneEcho:
    """An ``EchoLine`` to all hosts of a scene, near and far."""

    def __init__(
        self, segment: Segment, resolve: Callable[[Address], None], link: Callable[[Interface], Segment]
    ) -> None:
        self._segment = segment
        self._resolve = resolve
        self._link = link
        self._due: list[tuple[float, int]] = []

    def send(self, address: Address, interface: Interface | None = None) -> bool:
        """Send one request; each host that it reaches answers, or its answer is lost."""
        self._resolve(address)
        if address == ALL_NODES and interface is not None:
            for host, _ in self._link(interface).present():
                for own in [each for each in host.ipv6 if each.is_link_local][:1]:
                    self._answer(host, own)
        for host in self._segment.at(address)[:1]:
            self._answer(host, address)
        return True

    def _answer(self, host: SceneHost, address: Address) -> None:
        if self._segment.tries_needed(host, 1) is not None:
            at = self._segment.clock.monotonic() + self._segment.delay(host)
            heapq.heappush(self._due, (at, int(address)))

    def replies(self, deadline: float) -> tuple[tuple[Address, float], ...]:
        """Return the hosts that have replied by now, or the next that does until the deadline."""
        clock = self._segment.clock
        if self._due and self._due[0][0] <= deadline:
            clock.wait_until(self._due[0][0])
        else:
            clock.wait_until(deadline)
        found = []
        while self._due and self._due[0][0] <= clock.monotonic():
            at, number = heapq.heappop(self._due)
            found.append((ip_address(number), at))
        return tuple(found)

    def close(self) -> None:
        """Forget what is pending."""
        self._due.clear()


class SceneConnector:
    """A ``Connector`` to all hosts of a scene: a host that is there accepts on its ports and refuses on others."""

    def __init__(self, segment: Segment, resolve: Callable[[Address], None]) -> None:
        self._segment = segment
        self._resolve = resolve
        self._decided: list[Connected] = []

    def start(self, address: Address, port: int) -> bool:
        """Begin an attempt; it is decided after the host's round trip."""
        self._resolve(address)
        for host in self._segment.at(address)[:1]:
            at = self._segment.clock.monotonic() + host.rtt_s
            self._decided.append(Connected(address, port, accepted=port in host.ports, at=at))
        return True

    def results(self, deadline: float) -> tuple[Connected, ...]:
        """Return what has been decided by the deadline."""
        self._segment.clock.wait_until(deadline)
        now = self._segment.clock.monotonic()
        decided = tuple(each for each in self._decided if each.at <= now)
        self._decided = [each for each in self._decided if each.at > now]
        return decided

    def close(self) -> None:
        """Forget what is pending."""
        self._decided.clear()
