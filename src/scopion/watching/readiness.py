"""Tells the service manager that a service is ready, what it does, and that it is alive (sd_notify(3))."""

from __future__ import annotations

import os
import time
from typing import Protocol

from scopion.model.text import plain

_STATUS_EVERY_S = 10.0


class Service(Protocol):
    """What says how it does."""

    @property
    def in_a_line(self) -> str:
        """Return its state in a line."""


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
        """Say that it does its work from now on."""
        self._tell("READY=1")

    def alive(self, service: Service) -> None:
        """Say that the service is alive, once a turn."""
        now = time.monotonic()
        if self._every_s and now >= self._sign_at:
            self._sign_at = now + self._every_s
            self._tell("WATCHDOG=1")
        if self._notifier is not None and now >= self._status_at:
            self._status_at = now + _STATUS_EVERY_S
            self._tell(f"STATUS={plain(service.in_a_line)}")

    def stopping(self) -> None:
        """Say that it is about to end."""
        self._tell("STOPPING=1")

    def _tell(self, words: str) -> None:
        if self._notifier is not None:
            self._notifier.notify(words)
