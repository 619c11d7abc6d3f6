"""The machine's own clocks."""

from __future__ import annotations

import time
from datetime import UTC, datetime
from pathlib import Path


def boot() -> tuple[str, float] | None:
    """Which start of the machine this is, and the seconds since, those asleep among them; None if it does not tell."""
    try:
        identity = Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii").strip()
        return identity, time.clock_gettime(time.CLOCK_BOOTTIME)
    except (OSError, AttributeError, ValueError):
        return None


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
