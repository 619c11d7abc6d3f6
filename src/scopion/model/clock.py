"""The clock as everyone is handed it, so that a story, a test and the real world tell time the same way."""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from typing import Protocol


class Clock(Protocol):
    """Two times: one to remember by, one to wait by."""

    def now(self) -> datetime:
        """The present moment in UTC, with its time zone; it may jump."""

    def monotonic(self) -> float:
        """Seconds that only grow; their zero means nothing."""

    def local(self, moment: datetime) -> datetime:
        """``moment`` in the time zone of the person who reads it."""

    def from_local(self, wall: datetime) -> datetime:
        """The moment, in UTC, at which that person's clock shows ``wall`` (which has no time zone)."""


# How one writes a unit of time, without the s of more than one, and what timedelta calls it.
UNITS = {
    "s": "seconds", "sec": "seconds", "second": "seconds", "m": "minutes", "min": "minutes", "minute": "minutes",
    "h": "hours", "hour": "hours", "d": "days", "day": "days", "w": "weeks", "week": "weeks",
}  # fmt: skip
_LONGEST = timedelta(days=3_660)


def parse_span(text: str) -> timedelta:
    """Read ``90s``, ``5m``, ``1.5 hours``, ``30 days``, ``2w``; a bare number is seconds. Raises ValueError."""
    match = re.fullmatch(r"(\d{1,9}(?:\.\d{1,3})?)\s*([a-z]*?)s?", text.strip().casefold())
    unit = UNITS.get(match[2] or "s") if match else None
    span = timedelta(**{unit: float(match[1])}) if match and unit else timedelta(0)
    if not timedelta(0) < span <= _LONGEST:
        raise ValueError(f"{text!r} is not a length of time: write it as 90s, 5m, 2h or '30 days'")
    return span


def spoken_span(span: timedelta) -> str:
    """A duration as one says it: ``40 seconds``, ``2 hours``, ``5 months``; never finer than its size deserves."""
    seconds = max(0, round(span.total_seconds()))
    for size, unit in ((31_557_600, "year"), (2_629_800, "month"), (86_400, "day"), (3_600, "hour"), (60, "minute")):
        if seconds >= size * (2 if unit == "year" else 1):
            count = seconds // size
            return f"{count} {unit}{'s' if count != 1 else ''}"
    return f"{seconds} second{'s' if seconds != 1 else ''}"
