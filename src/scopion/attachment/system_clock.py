"""The machine's own clocks."""

from __future__ import annotations

import time
from datetime import UTC, datetime


class SystemClock:
    """Implements ``Clock``."""

    def now(self) -> datetime:
        """The time of day in UTC."""
        return datetime.now(UTC)

    def monotonic(self) -> float:
        """Seconds since some start; no clock change moves them."""
        return time.monotonic()

    def local(self, moment: datetime) -> datetime:
        """In the time zone of this machine."""
        return moment.astimezone()

    def from_local(self, wall: datetime) -> datetime:
        """An hour skipped in spring counts on from the one before; of one repeated in autumn it is the first."""
        return wall.astimezone(UTC)
