"""Two sweeps as one: the subnet's addresses, and the known IPv6 ones, which travel differently.

Each learns its own round trips and its own loss: IPv6 groups may get through where broadcasts get lost, and the other
way round, so that neither may end the other.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from scopion.discovery.sweep import AskedAddress, Sweep, SweepPlan
from scopion.model.address import Address


class SideBySide:
    """Looks like a ``Sweep`` to its driver; ``loss`` and ``touched`` are those of the first.

    The two share the plan's pace by the number of their addresses: together they send no faster.
    """

    def __init__(self, addresses: Iterable[Address], also: Iterable[Address], plan: SweepPlan) -> None:
        self.plan = plan
        those, others = list(addresses), list(also)
        share = len(others) / max(1, len(those) + len(others))
        self._first = Sweep(those, replace(plan, pace=plan.pace * (1 - share)) if others else plan)
        self._second = Sweep(others, replace(plan, pace=plan.pace * share) if those else plan)

    @property
    def done(self) -> bool:
        """Tell whether both have ended."""
        return self._first.done and self._second.done

    @property
    def total(self) -> int:
        """Return how many addresses the first asks."""
        return self._first.total

    @property
    def touched(self) -> int:
        """Return how many of them have been asked."""
        return self._first.touched

    @property
    def rounds(self) -> int:
        """Return the rounds of the one that needs more."""
        return max(self._first.rounds, self._second.rounds)

    @property
    def loss(self) -> float:
        """Return the loss of the first's round trips."""
        return self._first.loss

    @property
    def sent(self) -> int:
        """Return the number of all requests."""
        return self._first.sent + self._second.sent

    def due(self, now: float) -> list[Address]:
        """Return the addresses to ask now."""
        return [*self._first.due(now), *self._second.due(now)]

    def heard(self, address: Address, at: float, *, answer: bool = True, settled: bool = True) -> bool:
        """Take note that a host is there. Returns False if neither sweep asks about the address."""
        return any(sweep.heard(address, at, answer=answer, settled=settled) for sweep in (self._first, self._second))

    def has_asked(self, address: Address) -> bool:
        """Tell whether either has asked an address."""
        return any(sweep.has_asked(address) for sweep in (self._first, self._second) if address in sweep)

    def round_trip(self, address: Address) -> float | None:
        """Return what the sweep that asked has measured, in seconds."""
        return next((sweep.round_trip(address) for sweep in (self._first, self._second) if address in sweep), None)

    def wake_at(self) -> float:
        """Return when either wants to be asked next."""
        return min(sweep.wake_at() for sweep in (self._first, self._second) if not sweep.done)

    def stop(self, now: float) -> None:
        """End both."""
        self._first.stop(now)
        self._second.stop(now)

    def account(self) -> dict[Address, AskedAddress]:
        """Return what became of every address."""
        return self._first.account() | self._second.account()
