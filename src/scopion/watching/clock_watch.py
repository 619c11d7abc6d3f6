"""Notices that the machine's clock was set, or that the machine was suspended: of two clocks only one can jump."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.model.clock import Clock

# A smaller difference is a clock that is corrected slowly, or a turn that took long.
_JUMP_S = 2.0


@dataclass(frozen=True, slots=True)
class Jump:
    """What has happened since the last look; both may be zero."""

    set_by: timedelta  # how far the clock was set, forward or back
    slept: timedelta  # how long the machine was suspended


def slept_s() -> float:
    """Return the seconds that this machine was suspended since it was started; 0 if that cannot be found out."""
    if not hasattr(time, "CLOCK_BOOTTIME"):
        return 0.0
    return time.clock_gettime(time.CLOCK_BOOTTIME) - time.monotonic()


class ClockWatch:
    """Looks at the clocks each turn."""

    def __init__(self, clock: Clock, slept: Callable[[], float] = slept_s) -> None:
        self._clock = clock
        self._slept = slept
        self._last = self._look()

    def look(self) -> Jump | None:
        """Return what has happened since the last look; None: time has passed as it should."""
        before, now = self._last, self._look()
        self._last = now
        asleep = now[2] - before[2]
        ahead = (now[0] - before[0]).total_seconds() - (now[1] - before[1]) - asleep
        if abs(ahead) < _JUMP_S and asleep < _JUMP_S:
            return None
        return Jump(
            timedelta(seconds=ahead if abs(ahead) >= _JUMP_S else 0),
            timedelta(seconds=asleep if asleep >= _JUMP_S else 0),
        )

    def _look(self) -> tuple[datetime, float, float]:
        return self._clock.now(), self._clock.monotonic(), self._slept()
