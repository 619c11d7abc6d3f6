"""What a way of asking brings: somebody is there."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.model.observation import Source


@dataclass(frozen=True, slots=True)
class Answer:
    """Somebody is there. ``asked`` is False for what was not, at this very time, an answer to us."""

    address: Address
    mac: MacAddress | None  # None beyond a router
    at: float
    source: Source
    asked: bool = True


class Prober(Protocol):
    """One way of asking."""

    def ask(self, address: Address) -> None:
        """Ask once."""

    def call(self) -> None:
        """Ask everybody at once, where the network has a way for that."""

    def answers(self, deadline: float) -> Iterator[Answer]:
        """What has come in; waits until the monotonic ``deadline`` at most for the first."""

    def undecided(self) -> bool:
        """Whether the system is still finding out about somebody who was asked."""

    def close(self) -> None:
        """Give the sockets back."""
