"""Story time: it stands still unless somebody waits."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta


class SceneClock:
    """Story time: it stands still unless somebody waits."""

    def __init__(self, at: datetime) -> None:
        self._start = at
        self._elapsed = 0.0

    def now(self) -> datetime:
        """The story's time of day."""
        return self._start + timedelta(seconds=self._elapsed)

    def monotonic(self) -> float:
        """Virtual seconds since the moment began."""
        return self._elapsed

    def local(self, moment: datetime) -> datetime:
        """The made-up site lies on the meridian."""
        return moment

    def from_local(self, wall: datetime) -> datetime:
        """Without summer time."""
        return wall.replace(tzinfo=UTC)

    def wait_until(self, moment: float) -> None:
        """Let the virtual time pass; it never goes back."""
        self._elapsed = max(self._elapsed, moment)
