"""The part of the watch that reads what routers have counted, and tells who uses too much."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from scopion.model.errors import ScopionError
from scopion.operations.intake.count_octets import take_counts
from scopion.operations.site.open_site import Site
from scopion.operations.site.usage_settings import MeterSettings
from scopion.operations.usage.read_meters import read_meter
from scopion.operations.usage.tell_much import tell_much
from scopion.roster.usage.counters import CountRead
from scopion.watching.watch_context import WatchContext

# What was used grows with each reading, and a limit is one of hours.
_LOOK_EVERY_S = 60.0


class Meters:
    """Reads each meter at its interval, and looks at the limits every minute."""

    def __init__(self, context: WatchContext, opened: Callable[[], Site]) -> None:
        self._context = context
        self._opened = opened  # the site for the thread that reads: connections are kept by it
        self._next: dict[str, float] = {each.name: context.clock.monotonic() for each in context.site.settings.meter}
        self._look_at = context.clock.monotonic() + _LOOK_EVERY_S

    def wake_at(self) -> float:
        """Return when something is due next."""
        due = [at for name, at in self._next.items() if not self._context.executor.busy(_lane(name))]
        return min([*due, self._look_at] if self._context.site.settings.much else due, default=float("inf"))

    def turn(self, now: float) -> None:
        """Start what is due."""
        context = self._context
        for each in context.site.settings.meter:
            if self._next[each.name] <= now and not context.executor.busy(_lane(each.name)):
                self._next[each.name] = now + context.site.settings.watch.meters_s
                context.executor.start(_lane(each.name), self._reader(each), self._taker(each.name))
        if context.site.settings.much and self._look_at <= now:
            self._look_at = now + max(_LOOK_EVERY_S, context.look_every_s)
            with context.doing("looking at who uses the line"):
                taken = tell_much(context.site)
                context.tell(taken.events, taken.devices)

    def _reader(self, meter: MeterSettings) -> Callable[[], list[CountRead]]:
        return lambda: read_meter(self._opened(), meter)

    def _taker(self, name: str) -> Callable[[Any, BaseException | None], None]:
        def take(read: list[CountRead] | None, error: BaseException | None) -> None:
            context, doing = self._context, f"reading the meter {name}"
            if error is not None and not isinstance(error, ScopionError):
                raise error
            with context.contained(doing):
                if error is not None:
                    context.trouble(doing, str(error))
                    return
                context.works(doing)
                take_counts(context.site, read or ())

        return take


def _lane(name: str) -> str:
    return f"meter {name}"
