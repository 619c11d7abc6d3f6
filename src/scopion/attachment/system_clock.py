"""The machine's own clocks."""

from __future__ import annotations

import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any


def boot() -> tuple[str, float] | None:
    """Return an identity of this start of the machine and the seconds since it, suspended ones included; None if
    unknown.
    """
    try:
        identity = Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii").strip()
        return identity, time.clock_gettime(time.CLOCK_BOOTTIME)
    except (OSError, AttributeError, ValueError):
        return None


class SystemClock:
    """Implements ``Clock``."""

    def now(self) -> datetime:
        """Return the time of day in UTC."""
        return datetime.now(UTC)

    def monotonic(self) -> float:
        """Return seconds since some start; a change of the clock does not move them."""
        return time.monotonic()

    def local(self, moment: datetime) -> datetime:
        """Return ``moment`` in the time zone of this machine."""
        return moment.astimezone()

    def from_local(self, wall: datetime) -> datetime:
        """Return the moment of a wall time. An hour skipped in spring continues the one before; a repeated one is the
        first.
        """
        return wall.astimezone(UTC)


def pass_time(clock: Any, until: float) -> None:
    """Let a virtual clock go on to a monotonic moment; wait for a real one."""
    if hasattr(clock, "wait_until"):
        clock.wait_until(until)
    else:
        time.sleep(max(0.0, until - clock.monotonic()))
