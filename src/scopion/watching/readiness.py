"""Tells the service manager that the watch is ready, what it does, and that it is alive (sd_notify(3))."""

from __future__ import annotations

import os
import time
from typing import TYPE_CHECKING

from scopion.model.text import plain

if TYPE_CHECKING:
    from scopion.watching.watch_site import Watch

_STATUS_EVERY_S = 10.0


class Readiness:
    """Writes to the manager's socket; does nothing without one."""

    def __init__(self) -> None:
        self._notifier = None
        if os.environ.get("NOTIFY_SOCKET"):
            from sdnotify import SystemdNotifier

            self._notifier = SystemdNotifier()
        period = os.environ.get("WATCHDOG_USEC", "")
        # A third of what is allowed: one sign may be late.
        self._every_s = int(period) / 3e6 if period.isdecimal() else 0.0
        self._sign_at = self._status_at = 0.0

    def ready(self) -> None:
        """Say that the roster is open and the interfaces are known."""
        self._tell("READY=1")

    def alive(self, watch: Watch) -> None:
        """Say that the watch is alive, once a turn."""
        now = time.monotonic()
        if self._every_s and now >= self._sign_at:
            self._sign_at = now + self._every_s
            self._tell("WATCHDOG=1")
        if self._notifier is not None and now >= self._status_at:
            self._status_at = now + _STATUS_EVERY_S
            self._tell(f"STATUS={plain(watch.in_a_line)}")

    def stopping(self) -> None:
        """Say that the running deliveries have ended."""
        self._tell("STOPPING=1")

    def _tell(self, words: str) -> None:
        if self._notifier is not None:
            self._notifier.notify(words)
