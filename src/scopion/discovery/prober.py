"""The protocol of a way of asking, and its result: a host is there."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.model.observation import Source


@dataclass(frozen=True, slots=True)
class Answer:
    """A host is there. ``asked`` is False if this was no answer to a request of ours."""

    address: Address
    mac: MacAddress | None  # None beyond a router
    at: float
    source: Source
    asked: bool = True


class Prober(Protocol):
    """One way of asking."""

    greets: bool  # whether it can ask a single adapter; else the system or a router decides

    def ask(self, address: Address) -> None:
        """Send one request to an address."""

    def greet(self, address: Address, mac: MacAddress) -> None:
        """Ask the one adapter that was at an address before, if it ``greets``."""

    def call(self) -> None:
        """Ask all hosts at once, if the network has a way for that."""

    def answers(self, deadline: float) -> Iterator[Answer]:
        """Yield what has come in; wait for the first answer until the monotonic ``deadline`` at most."""

    def undecided(self) -> bool:
        """Tell whether the system is still finding out about a host that was asked."""

    def close(self) -> None:
        """Close the sockets."""
