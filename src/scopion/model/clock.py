"""The clock protocol. Every part of the program is given a clock, so that a scene, a test and the real world work
alike.
"""

from __future__ import annotations

import re
from datetime import datetime, timedelta
from typing import Protocol


class Clock(Protocol):
    """Two times: the time of day for what is remembered, and a monotonic time for waiting."""

    def now(self) -> datetime:
        """Return the present moment in UTC, with its time zone. It may jump."""

    def monotonic(self) -> float:
        """Return seconds that only grow; the zero has no meaning."""

    def local(self, moment: datetime) -> datetime:
        """Return ``moment`` in the time zone of the site."""

    def from_local(self, wall: datetime) -> datetime:
        """Return the moment, in UTC, at which the site's clock shows ``wall``, which has no time zone."""


# How people write a unit of time, in the singular, and what timedelta calls it.
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
    """Return a duration in words: ``40 seconds``, ``2 hours``, ``5 months``; longer ones are rounded more."""
    seconds = max(0, round(span.total_seconds()))
    for size, unit in ((31_557_600, "year"), (2_629_800, "month"), (86_400, "day"), (3_600, "hour"), (60, "minute")):
        if seconds >= size * (2 if unit == "year" else 1):
            count = seconds // size
            return f"{count} {unit}{'s' if count != 1 else ''}"
    return f"{seconds} second{'s' if seconds != 1 else ''}"
