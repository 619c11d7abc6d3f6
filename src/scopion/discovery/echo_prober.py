"""Asking beyond the link: ICMP echo, and TCP connections to a few ports of hosts that do not answer it.

It brings no MAC address from beyond a router; on an attached subnet the system's neighbour table has it.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterator
from contextlib import suppress

from scopion.attachment.ports import Attachment, Connector, EchoLine, Interface
from scopion.discovery.prober import Answer
from scopion.model.address import Address
from scopion.model.errors import NotPermitted
from scopion.model.mac import MacAddress
from scopion.model.observation import Source

# Ports that most hosts with a firewall against echo still open or refuse: web, remote shell, files. One more of them
# each time that a host is asked again.
PORTS = (443, 22, 445, 80)
# While one kind of answer is waited for, the other is read this often.
_TURN_S = 0.01


class EchoProber:
    """A ``Prober``. ``attached`` is the interface if the subnet is on its link, and None beyond a router.

    ``on_and_on`` is for watching hosts: it keeps to the port that answered, instead of trying each once.
    """

    greets = False

    def __init__(self, attachment: Attachment, attached: Interface | None, *, on_and_on: bool = False) -> None:
        self._on_and_on = on_and_on
        self._answering: dict[Address, int] = {}  # the port that answered
        self._attachment = attachment
        self._attached = attached
        self._connector: Connector = attachment.open_connector()
        self._line: EchoLine | None = None
        with suppress(NotPermitted):  # then there are only connections
            self._line = attachment.open_echo()
        self._times: Counter[Address] = Counter()
        self._waiting: deque[tuple[Address, int]] = deque()

    def ask(self, address: Address) -> None:
        """Send an echo request; from the second time on, or where echo is not permitted, also try a port."""
        tried = self._times[address] - (1 if self._line else 0)
        self._times[address] += 1
        if self._line is not None:
            self._line.send(address)
        if self._on_and_on:
            self._waiting.append((address, self._answering.get(address, PORTS[tried % len(PORTS)])))
        elif 0 <= tried < len(PORTS):
            self._waiting.append((address, PORTS[tried]))

    def greet(self, address: Address, mac: MacAddress) -> None:
        """Do nothing: beyond a router there are no adapters to ask."""

    def call(self) -> None:
        """Do nothing: hosts beyond a router cannot be asked by groups."""

    def answers(self, deadline: float) -> Iterator[Answer]:
        """Yield replies and decided connections."""
        while self._waiting and self._connector.start(*self._waiting[0]):
            self._waiting.popleft()
        clock = self._attachment.clock
        while True:
            until = min(deadline, clock.monotonic() + _TURN_S)
            replies = self._line.replies(until) if self._line is not None else ()
            decided = self._connector.results(clock.monotonic() if self._line is not None else until)
            if replies or decided or clock.monotonic() >= deadline:
                break
        macs = self._neighbours() if (replies or decided) and self._attached is not None else {}
        for address, at in replies:
            yield Answer(address, macs.get(address), at, Source.ECHO)
        for each in decided:
            self._answering.setdefault(each.address, each.port)
            yield Answer(each.address, macs.get(each.address), each.at, Source.CONNECT)

    def undecided(self) -> bool:
        """Tell whether ports still wait for their turn."""
        return bool(self._waiting)

    def close(self) -> None:
        """Close the sockets."""
        self._connector.close()
        if self._line is not None:
            self._line.close()

    def _neighbours(self) -> dict[Address, MacAddress | None]:
        assert self._attached is not None
        return {entry.address: entry.mac for entry in self._attachment.neighbours(self._attached)}
