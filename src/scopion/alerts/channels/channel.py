"""The protocol of a channel, and the error of a delivery that failed."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from scopion.alerts.message import Message

# Called with each step of a delivery, for scopion alerts test.
Trace = Callable[[str], None]
# Turns a reference to a secret, and its purpose, into the secret. Raises InvalidSettings, which never shows a secret.
SecretReader = Callable[[str, str], str]


class DeliveryFailed(Exception):
    """A message could not be delivered; the text says in plain words why, and what can be done.

    ``permanent``: trying the same again cannot help. ``wait_s``: an earlier try makes no sense or does harm, because
    servers lock out accounts with repeated wrong passwords. ``reached``: recipients that have got it and are left out
    of the next try.
    """

    def __init__(
        self, problem: str, *, permanent: bool = False, wait_s: float = 0.0, reached: tuple[str, ...] = ()
    ) -> None:
        super().__init__(problem)
        self.permanent = permanent
        self.wait_s = wait_s
        self.reached = reached


class Channel(Protocol):
    """One way to send a message. It is called from a thread of its own, never twice at a time."""

    @property
    def lasts_s(self) -> float | None:
        """Return for how many seconds after it was due a message is worth delivering; None: as long as it is tried."""

    def deliver(self, message: Message, trace: Trace) -> None:
        """Deliver a message; return once the other side has taken it. Raises DeliveryFailed."""
