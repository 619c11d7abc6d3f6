"""The part of the watch that makes the weekly report when it is due."""

from __future__ import annotations

from collections.abc import Callable

from scopion.alerts.message import Message
from scopion.model.errors import ScopionError
from scopion.operations.site.open_site import Site
from scopion.watching.watch_context import WatchContext, log

LANE = "report"
_AGAIN_S = 900.0  # a full disk, an access point that hangs: later is soon enough once a week


class Reporting:
    """Drives the weekly report."""

    def __init__(self, context: WatchContext, opened: Callable[[], Site]) -> None:
        self._context = context
        self._opened = opened  # the site for the thread that works here
        self._wanted = bool(context.site.settings.report.weekly)
        self._due_at = 0.0

    @property
    def is_busy(self) -> bool:
        """Tell whether a report is being made."""
        return self._context.executor.busy(LANE)

    def wake_at(self) -> float:
        """Return when something is due next."""
        return self._due_at if self._wanted and not self.is_busy else float("inf")

    def turn(self, now: float) -> None:
        """Start what is due."""
        if now < self.wake_at():
            return
        from scopion.operations.report.send_weekly import (  # few sites want it, and it loads a lot
            make_weekly,
            next_report,
        )

        context = self._context
        self._due_at = now + _AGAIN_S
        with context.doing("looking when a report is due"):
            due = next_report(context.site)
            left = (due - context.clock.now()).total_seconds() if due is not None else _AGAIN_S
            if left > 0:
                # The clock may be set meanwhile: look again before long.
                self._due_at = now + min(left, _AGAIN_S)
                return
            context.executor.start(LANE, lambda: make_weekly(self._opened()), self._finish)

    def _finish(self, made: Message | None, error: BaseException | None) -> None:
        context = self._context
        if error is not None:
            if not isinstance(error, ScopionError | OSError):
                raise error
            context.trouble("making the weekly report", str(error))
            return
        context.works("making the weekly report")
        if made is not None:
            log.info("the weekly report is in %s", made.page)
            context.outdated()
