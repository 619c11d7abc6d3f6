"""The part of the watch that reminds people of what no event asks for."""

from __future__ import annotations

from scopion.watching.watch_context import WatchContext, log

_EVERY_S = 3600.0  # days are counted


class Reminding:
    """Looks each hour whether a reminder is due."""

    def __init__(self, context: WatchContext) -> None:
        self._context = context
        self._at = 0.0

    def wake_at(self) -> float:
        """Return when it looks next; never without a channel."""
        return self._at if self._context.site.settings.channel else float("inf")

    def turn(self, now: float) -> None:
        """Queue what is due."""
        if now < self.wake_at():
            return
        from scopion.operations.report.send_reminders import remind  # it is needed once an hour, and loads a lot

        self._at = now + _EVERY_S
        with self._context.doing("looking for reminders"):
            for each in remind(self._context.site):
                log.info("reminder: %s", each.subject)
                self._context.outdated()
