"""The clock of a story: time passes only while the program waits."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta


class SceneClock:
    """Implements ``Clock``: time passes only while the program waits."""

    def __init__(self, at: datetime) -> None:
        self._start = at
        self._elapsed = 0.0

    def now(self) -> datetime:
        """Return the story's time of day."""
        return self._start + timedelta(seconds=self._elapsed)

    def monotonic(self) -> float:
        """Return virtual seconds since the moment began."""
        return self._elapsed

    def local(self, moment: datetime) -> datetime:
        """Return the moment in UTC: the made-up site lies on the meridian."""
        return moment

    def from_local(self, wall: datetime) -> datetime:
        """Return the moment of a wall time; there is no summer time."""
        return wall.replace(tzinfo=UTC)

    def wait_until(self, moment: float) -> None:
        """Let the virtual time pass; it never goes back."""
        self._elapsed = max(self._elapsed, moment)
