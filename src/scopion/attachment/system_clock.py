"""The machine's own clocks."""

from __future__ import annotations

import time
from datetime import UTC, datetime


class SystemClock:
    """Implements ``Clock``."""

    def now(self) -> datetime:
        return datetime.now(UTC)

    def monotonic(self) -> float:
        return time.monotonic()

    def local(self, moment: datetime) -> datetime:
        return moment.astimezone()
