"""What every channel is, and how a delivery that failed is explained."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from scopion.alerts.message import Message

# Told step by step what happens, for scopion alerts test; else nobody listens.
Trace = Callable[[str], None]
# A reference to a secret, and what it is for, become the secret. Raises InvalidSettings, which never tells one.
SecretReader = Callable[[str, str], str]


class DeliveryFailed(Exception):
    """A message could not be delivered; the text says in plain words why, and what can be done.

    ``permanent``: trying the same again cannot help. ``wait_s``: it makes no sense to try sooner, or does harm: servers
    lock out who tries a wrong password again and again. ``reached``: the recipients that have it all the same, and are
    left out when it is tried again.
    """

    def __init__(
        self, problem: str, *, permanent: bool = False, wait_s: float = 0.0, reached: tuple[str, ...] = ()
    ) -> None:
        super().__init__(problem)
        self.permanent = permanent
        self.wait_s = wait_s
        self.reached = reached


class Channel(Protocol):
    """One way to tell somebody. Called from a thread of its own; never twice at a time."""

    @property
    def lasts_s(self) -> float | None:
        """How long after it was due a message is still worth delivering; None: as long as is tried."""

    def deliver(self, message: Message, trace: Trace) -> None:
        """Deliver, and return once the other side has taken it. Raises DeliveryFailed."""
