"""Runs a name search beside a sweep: one mailbox on the scan's interface, and one for the name servers."""

from __future__ import annotations

from collections import deque
from collections.abc import Container, Iterator, Sequence
from ipaddress import IPv4Address

from scopion.attachment.ports import Attachment, Interface, Letter
from scopion.discovery.names import PACE, NameSearch
from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Pair
from scopion.wire.dns import load_library

# Answers taken in at a turn, so that a flood of them cannot stop the sweep.
_TURN = 64
# Asking ends at most this long after the last host was met, even if answers are missing.
_LIMIT_S = 1.5
# An IPv6 node gets this long to show an IPv4 address, by which it can be asked with less traffic.
_IPV4_FIRST_S = 0.4


class NameTask:
    """A ``SideTask`` that learns the names of hosts on an interface's link, or beyond a router if it is None.

    ``known`` are pairs whose names are fresh and need no question; ``group_pace`` limits the questions to groups.
    """

    def __init__(
        self,
        attachment: Attachment,
        interface: Interface | None,
        resolvers: Sequence[Address],
        known: Container[Pair] = (),
        group_pace: float = PACE,
    ) -> None:
        load_library()
        self._clock = attachment.clock
        self._search = NameSearch(resolvers, on_link=interface is not None, group_pace=group_pace)
        self._on_link = attachment.open_mailbox(interface)
        self._to_resolvers = attachment.open_mailbox(None)
        self._known = known
        self._met: dict[Address, Observation] = {}
        self._holders: dict[Address, MacAddress | None] = {}
        self._contested: set[Address] = set()
        self._last_met = self._clock.monotonic()
        self._later: deque[tuple[float, Observation]] = deque()
        self._with_ipv4: set[MacAddress | None] = set()

    def met(self, seen: Observation) -> None:
        """Ask about an address that was not asked about yet; about an IPv6 address only if there is no IPv4 one."""
        if seen.address is not None and self._holders.setdefault(seen.address, seen.mac) != seen.mac:
            self._contested.add(seen.address)  # two hosts have it, so an answer could come from either
        if seen.address is None or seen.address in self._met or (seen.mac, seen.address) in self._known:
            return
        now = self._clock.monotonic()
        self._met[seen.address] = seen
        self._last_met = now
        if isinstance(seen.address, IPv4Address):
            self._with_ipv4.add(seen.mac)
            self._search.ask_about(seen.address, now)
        else:
            self._later.append((now + _IPV4_FIRST_S, seen))

    @property
    def asked(self) -> set[Pair]:
        """Return the pairs that were asked about, whether or not they answered."""
        return {(seen.mac, seen.address) for seen in self._met.values()}

    def turn(self, deadline: float) -> Iterator[Observation]:
        """Send what is due, and yield what has come."""
        now = self._clock.monotonic()
        while self._later and self._later[0][0] <= now:
            _, seen = self._later.popleft()
            if seen.mac not in self._with_ipv4 and seen.address is not None:
                self._search.ask_about(seen.address, now)
                self._with_ipv4.add(seen.mac)  # one address of an adapter is enough
        for question in self._search.due(self._clock.monotonic()):
            mailbox = self._to_resolvers if question.by_resolver else self._on_link
            mailbox.send(question.payload, question.to, question.port)
        for mailbox in (self._to_resolvers, self._on_link):
            for _ in range(_TURN):
                letter = mailbox.receive(deadline)
                if letter is None:
                    break
                deadline = letter.at
                yield from self._learnt(letter)

    @property
    def done(self) -> bool:
        """Tell whether everything was answered, or the time is over."""
        now = self._clock.monotonic()
        return (not self._later and self._search.done(now)) or now > self._last_met + _LIMIT_S

    def close(self) -> None:
        """Close the sockets."""
        self._on_link.close()
        self._to_resolvers.close()

    def _learnt(self, letter: Letter) -> Iterator[Observation]:
        learnt = self._search.heard(letter)
        if learnt is not None and learnt.about not in self._contested:
            seen = self._met[learnt.about]
            yield Observation(seen.mac, seen.address, self._clock.now(), learnt.traits[0].source, traits=learnt.traits)
