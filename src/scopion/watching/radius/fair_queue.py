"""Lets access points take turns, so that one which floods starves none of the others. Pure."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable

from scopion.attachment.udp_server import Arrival

# Of each address so many wait at most: half a second's work. An access point asks again after two seconds.
_MOST_WAITING = 512
_MOST_ADDRESSES = 1_024


class FairQueue:
    """What has come and is not answered yet, by address."""

    def __init__(self) -> None:
        self._waiting: dict[str, deque[Arrival]] = {}

    def __bool__(self) -> bool:
        return bool(self._waiting)

    def put(self, arrivals: Iterable[Arrival]) -> list[Arrival]:
        """Add what has come. Returns what there is no room for."""
        left_out = []
        for each in arrivals:
            there = self._waiting.get(each.source)
            if there is None and len(self._waiting) < _MOST_ADDRESSES:
                there = self._waiting[each.source] = deque()
            if there is None or len(there) >= _MOST_WAITING:
                left_out.append(each)
            else:
                there.append(each)
        return left_out

    def take(self, most: int) -> list[Arrival]:
        """Return what is answered next: one of each address in turn."""
        found: list[Arrival] = []
        while self._waiting and len(found) < most:
            for source in list(self._waiting):
                there = self._waiting[source]
                found.append(there.popleft())
                if not there:
                    del self._waiting[source]
                if len(found) == most:
                    break
        return found
