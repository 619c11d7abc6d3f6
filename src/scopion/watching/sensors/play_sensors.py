"""The part of the watch that lets the sensors of a made-up site report: it has no broker, and the time of its story."""

from __future__ import annotations

from collections.abc import Callable

from scopion.watching.watch_context import WatchContext

# Days are played in seconds, and a made-up place changes by the hour.
_EVERY_S = 3600.0


class PlayedSensors:
    """Lets them report each hour, and when the watch ends."""

    def __init__(self, context: WatchContext, on_taken: Callable[[], None]) -> None:
        self._context, self._on_taken = context, on_taken
        story = context.site.story
        self._due_at = 0.0 if story is not None and story.scene.branches else float("inf")

    def wake_at(self) -> float:
        """Return when they report next."""
        return self._due_at

    def turn(self, now: float) -> None:
        """Let them report, when it is due."""
        if now < self._due_at:
            return
        self._due_at = now + _EVERY_S
        from scopion.operations.sensors.made_up_sensors import report_made_up  # a real watch has no scene

        with self._context.doing("hearing made-up sensors"):
            report_made_up(self._context.site, self._context.clock.now())
        self._context.outdated()
        self._on_taken()

    def close(self) -> None:
        """Let them report once more, so that what is asked after the watch is as it is then."""
        if self._due_at < float("inf"):
            self.turn(self._due_at)
