"""Asking without privilege: empty datagrams, and what the system's neighbour table makes of them."""

from __future__ import annotations

from collections import deque
from collections.abc import Container, Iterator
from contextlib import suppress

from scopion.attachment.ports import Attachment, EchoLine, Interface, Neighbour, NeighbourState
from scopion.discovery.prober import Answer
from scopion.model.address import Address
from scopion.model.errors import NotPermitted
from scopion.model.mac import MacAddress
from scopion.model.observation import Source
from scopion.wire.icmp import ALL_NODES

# How often the neighbour table is read while waiting: a dump of some hundred entries takes a millisecond.
_TABLE_EVERY_S = 0.05
# Most hosts refuse a touch within milliseconds, dozing ones within a second.
_REFUSES_WITHIN_S = 1.0
# The system tries three times, a second apart, before it gives a neighbour up (retrans_time_ms of neigh/default).
_TRIES_S = 2.8
# Frames to groups are lost most easily: all nodes are called this often, and this far apart.
CALLS, _CALL_EVERY_S = 3, 0.7
_MOST_CALLED_BACK = 4096  # a sender that makes up addresses gets no further


Doubtful = Container[tuple[MacAddress | None, Address]]


class TouchProber:
    """A ``Prober`` for one interface.

    ``doubtful`` are pairs that have just left: the table trusts them for up to a minute, so that only their own refusal
    shows that they are back.
    """

    greets = False

    def __init__(self, attachment: Attachment, interface: Interface, doubtful: Doubtful = frozenset()) -> None:
        self._doubtful = doubtful
        self._attachment = attachment
        self._interface = interface
        self._datagrams = attachment.open_datagrams(interface)
        self._waiting: deque[Address] = deque()  # the system had no room for them yet
        self._open: dict[Address, float] = {}  # asked about, and when
        # The neighbours that the system trusts already: it does not ask them, so that their entry proves nothing new.
        self._believed = {
            entry.address for entry in attachment.neighbours(interface) if entry.state is NeighbourState.REACHABLE
        }
        self._repeated: set[Address] = set()
        self._echo: EchoLine | None = None
        if interface.ipv6:
            with suppress(NotPermitted):  # then IPv6 nodes are asked only at known addresses
                self._echo = attachment.open_echo()
        self._calls = 0
        self._next_call = 0.0
        self._called_back: set[Address] = set()
        self._elsewhere: dict[MacAddress | None, Address] = {}  # pairs that have certainly come to an address
        self._refused: dict[Address, float] = {}
        self._checking = False
        self._read_at = 0.0

    @property
    def calls_ipv6(self) -> bool:
        """Tell whether IPv6-only hosts are called: the system lets this user, or there is no IPv6 here."""
        return self._echo is not None or not self._interface.ipv6

    def ask(self, address: Address) -> None:
        """Touch the address, or keep it until the system has room."""
        if self._waiting or not self._touched(address):
            self._waiting.append(address)

    def greet(self, address: Address, mac: MacAddress) -> None:
        """Do nothing: the system asks an adapter that it knows alone, and all others by broadcast."""

    def call(self) -> None:
        """Have all IPv6 nodes of the link called, if the system lets this user send ICMP echo."""
        self._calls = CALLS if self._echo is not None else 0

    def answers(self, deadline: float) -> Iterator[Answer]:
        """Read the table now and then, with the refusals that have come in."""
        clock = self._attachment.clock
        while self._waiting and self._touched(self._waiting[0]):
            self._waiting.popleft()
        self._datagrams.wait(min(deadline, clock.monotonic() + _TABLE_EVERY_S))
        self._refused.update(self._datagrams.refusals())
        now = clock.monotonic()
        self._call_and_hear(now)
        if now - self._read_at < _TABLE_EVERY_S and now < deadline:
            return
        self._read_at = now
        yield from self._read_table(now)

    def undecided(self) -> bool:
        """Tell whether stale entries are being checked, or touches wait for room or for their answers."""
        now = self._attachment.clock.monotonic()
        repeated = any(now < self._open.get(address, now - _TRIES_S) + _TRIES_S for address in self._repeated)
        return self._checking or bool(self._waiting) or repeated

    def close(self) -> None:
        """Close the sockets."""
        self._datagrams.close()
        if self._echo is not None:
            self._echo.close()

    def _call_and_hear(self, now: float) -> None:
        """Send the calls that are due. A host that replies is there: a touch makes the system look
        for its MAC address.
        """
        if self._echo is None:
            return
        if self._calls and now >= self._next_call:
            self._calls -= 1
            self._next_call = now + _CALL_EVERY_S
            self._echo.send(ALL_NODES, self._interface)
        for address, at in self._echo.replies(now):
            self._refused[address] = at  # a sign of life of its own, as a refusal is
            if address not in self._called_back and len(self._called_back) < _MOST_CALLED_BACK:
                self._called_back.add(address)
                self.ask(address)

    def _touched(self, address: Address) -> bool:
        done = self._datagrams.touch(address)
        if done:
            self._open.setdefault(address, self._attachment.clock.monotonic())
        return done

    def _read_table(self, now: float) -> Iterator[Answer]:
        self._checking = False
        table = self._attachment.neighbours(self._interface)
        # All namespaces share one limit of entries: when it is reached, the system drops entries that it still looks
        # for.
        for address in self._open.keys() - {entry.address for entry in table}:
            self._repeat(address, now)
        for entry in table:
            if entry.state is NeighbourState.FAILED:
                self._repeat(entry.address, now)
            if entry.address not in self._open or entry.mac is None:
                continue
            refused_at = self._refused.get(entry.address)
            if refused_at is not None or (entry.state is NeighbourState.REACHABLE and self._trusted(entry, now)):
                del self._open[entry.address]
                if refused_at is not None and entry.address not in self._believed:
                    self._elsewhere.setdefault(entry.mac, entry.address)
                # The table tells that a neighbour answered, only a refusal tells when.
                at = now if refused_at is None else refused_at
                yield Answer(entry.address, entry.mac, at, Source.NEIGHBOURS, asked=refused_at is not None)
            elif entry.state is NeighbourState.CHECKING:
                self._checking = True

    def _repeat(self, address: Address, now: float) -> None:
        """Touch once more if the system gave up sooner than it would have after our touch.

        It was looking for that neighbour already, for another program, and ours only joined the rest of the tries.
        """
        since = self._open.get(address)
        if since is None or now >= since + _TRIES_S or address in self._repeated:
            return
        self._repeated.add(address)
        del self._open[address]
        self._waiting.append(address)

    def _trusted(self, entry: Neighbour, now: float) -> bool:
        """Tell whether a reachable neighbour was confirmed by our asking, or had time to refuse and has not moved."""
        if (entry.mac, entry.address) in self._doubtful:
            return False
        if entry.address not in self._believed:
            return True
        return now >= self._open[entry.address] + _REFUSES_WITHIN_S and entry.mac not in self._elsewhere
