"""A queue whose items leave at a pace, on its driver's clock."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from typing import Generic, TypeVar

Item = TypeVar("Item")
# After a pause at most what fits into this time leaves at once.
_BURST_S = 0.05


class Paced(Generic[Item]):
    """Items that wait for their turn; ``pace`` is in items a second."""

    def __init__(self, pace: float, items: Iterable[Item] = ()) -> None:
        self.queue = deque(items)
        self._gap = 1.0 / pace
        self._next_send = -1.0  # before any clock begins: the first burst is as large as the others

    def due(self, now: float) -> list[Item]:
        """Take out those whose turn it is at a monotonic time in seconds."""
        self._next_send = max(self._next_send, now - max(_BURST_S, self._gap))
        sent = []
        while self.queue and self._next_send <= now:
            sent.append(self.queue.popleft())
            self._next_send += self._gap
        return sent

    def wake_at(self) -> float:
        """Return when the next item may leave."""
        return self._next_send
