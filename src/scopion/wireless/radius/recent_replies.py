"""Replies that were just sent: an access point that heard none asks again, and gets the same (RFC 5080, 2.2.2)."""

from __future__ import annotations

from collections import OrderedDict

# An access point repeats a question for half a minute at most.
_STAY_S = 30.0
# Its identifiers are 256, for each port that it asks from.
_MOST = 1_024

Key = tuple[str, int, int, bytes]  # address, port, identifier and authenticator of a request


class RecentReplies:
    """Those to one access point, so that a flood from another one removes none of them."""

    def __init__(self) -> None:
        self._replies: OrderedDict[Key, tuple[float, bytes]] = OrderedDict()

    def find(self, key: Key, now: float) -> bytes | None:
        """Return the reply to this request if it was sent just now, by the monotonic clock."""
        at, reply = self._replies.get(key, (0.0, b""))
        return reply if reply and now - at <= _STAY_S else None

    def keep(self, key: Key, now: float, reply: bytes) -> None:
        """Keep a reply."""
        self._replies[key] = now, reply
        self._replies.move_to_end(key)
        if len(self._replies) > _MOST:
            self._replies.popitem(last=False)
