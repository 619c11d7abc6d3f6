"""Known devices, each asked once and alone at its own adapter before a sweep searches for the others.

On the air a frame to one adapter goes at a high rate and is repeated until it is acknowledged, while a broadcast goes
once at the lowest (IEEE Std 802.11-2020, 10.3 and 9.7): so they answer within a moment where a search takes seconds.
An answer says that the device is there, and not that it is alone at its address: the sweep asks there all the same.
No I/O and no clock: times are monotonic seconds of the driver's clock.
"""

from __future__ import annotations

from collections.abc import Iterable

from scopion.discovery.paced import Paced
from scopion.model.address import Address
from scopion.model.mac import MacAddress


class Greeting:
    """One question to each of some pairs of address and adapter; ``pace`` is in questions a second."""

    def __init__(self, known: Iterable[tuple[Address, MacAddress]] = (), pace: float = 1.0) -> None:
        self._paced = Paced(pace, known)
        self._open: dict[tuple[Address, MacAddress | None], float] = {}  # when each was asked that has not answered

    @property
    def done(self) -> bool:
        """Tell whether all have been asked."""
        return not self._paced.queue

    def due(self, now: float) -> list[tuple[Address, MacAddress]]:
        """Return the pairs to ask now; they count as asked."""
        due = self._paced.due(now)
        self._open.update(dict.fromkeys(due, now))
        return due

    def wake_at(self) -> float:
        """Return when ``due`` wants to be asked next."""
        return self._paced.wake_at()

    def answered(self, address: Address, mac: MacAddress | None, at: float) -> float | None:
        """Return the seconds that the first answer of a pair took; None if it was not asked, or answers again."""
        asked = self._open.pop((address, mac), None)
        return None if asked is None else max(0.0, at - asked)
