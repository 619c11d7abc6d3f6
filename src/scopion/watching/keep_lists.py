"""The part of the watch that looks after wireless lists: what is due, and the thread that does it.

A push, a reading of stations, or a sheet for the person who types a list into a page.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

from scopion.model.errors import ScopionError
from scopion.operations.pages.held_by import reached
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.attend_lists import Attended, attend, next_moment
from scopion.roster.watch_record import EnforcerReading
from scopion.roster.wifi.pushes import lists_mark
from scopion.watching.watch_context import WatchContext, log

LANE = "enforce"
# An access point that was switched off is tried again after this.
_AGAIN_S = 15.0
# In a busy place a device comes every few seconds.
_NOT_SOONER_S = 10.0


class Enforcing:
    """Drives pushes that are due by time, and reads the associated stations."""

    def __init__(self, context: WatchContext, opened: Callable[[], Site]) -> None:
        self._context = context
        self._opened = opened  # the site for the thread that works here
        self._none = not reached(context.site)  # then there are at most pages: sheets are due, nothing is read
        self._look_at = self._stations_at = 0.0
        self._read_at = float("-inf")
        self._due_at = float("inf")
        self._again_at = float("inf")
        self._attempts = 0
        self._failing: set[str] = set()
        self._stuck = False  # what is due has just failed
        self._mark: object = None
        self._moment: datetime | None = None  # when something is due, by the pushes as they were at the mark
        self._looked = datetime.min.replace(tzinfo=UTC)
        self.stations = 0

    @property
    def has_done_a_round(self) -> bool:
        """Tell whether the access points were read, or tried, at least once."""
        return self._none or self._attempts > 0

    def wake_at(self) -> float:
        """Return when something is due next."""
        if self._context.executor.busy(LANE):
            return float("inf")
        stations = float("inf") if self._none else self._stations_at
        return min(self._look_at, stations, self._due_at, self._again_at)

    def soon(self) -> None:
        """Read the access points soon: a device came or went, and they tell where it is."""
        self._stations_at = min(self._stations_at, max(self._context.clock.monotonic(), self._read_at + _NOT_SOONER_S))

    def turn(self, now: float) -> None:
        """Start what is due."""
        if self._context.executor.busy(LANE):
            return
        if now >= self._look_at:  # a person may have pushed by hand meanwhile
            self._look_at = now + self._context.look_every_s
            self._look(now)
        stations = not self._none and now >= self._stations_at
        if stations or now >= min(self._due_at, self._again_at):
            if stations:
                self._read_at = now
                self._stations_at = now + self._context.site.settings.wireless.stations_s
            self._due_at = self._again_at = float("inf")
            self._start(stations)

    def _look(self, now: float) -> None:
        context = self._context
        with context.doing("reading the pushes"):
            roster, clock = context.site.roster, context.clock
            # With a timetable there are hundreds of pushes: they are read again once anything changes, or one is due.
            mark, wall = (lists_mark(roster), context.site.settings), clock.now()
            was_set_back = wall < self._looked  # then something else may be due first
            if mark != self._mark or was_set_back or (self._moment is not None and self._moment <= wall):
                self._mark, self._moment = mark, next_moment(roster, context.site)
            self._looked, moment = wall, self._moment
            left = (moment - wall).total_seconds() if moment is not None else float("inf")
            # An overdue push that has just failed waits for its next attempt.
            self._due_at = float("inf") if left <= 0 and self._stuck else now + max(0.0, left)

    def _start(self, stations: bool) -> None:
        self._context.executor.start(LANE, lambda: attend(self._opened(), stations=stations), self._finish)

    def _finish(self, came: Attended | None, error: BaseException | None) -> None:
        context, now = self._context, self._context.clock.monotonic()
        self._attempts += 1
        if error is not None or came is None:
            self._again_at = now + _AGAIN_S
            if not isinstance(error, ScopionError | OSError):
                raise error or RuntimeError("nothing came of attending to the lists")
            context.trouble("looking after the lists", str(error))
            return
        context.works("looking after the lists")
        for said in came.done:
            log.info("%s", said)
            context.outdated()
        problems = {**came.problems, **came.unread}
        for doing, problem in problems.items():
            context.trouble(doing, problem)
        for doing in self._failing - problems.keys():
            context.works(doing)
        self._failing, self._stuck = set(problems), bool(came.problems)
        if came.moved.events:
            context.tell(came.moved.events, came.moved.devices)
        if came.stations is not None:
            self.stations = came.stations
            context.readings = {name: EnforcerReading(context.clock.now(), why) for name, why in came.read.items()}
        self._look_at = now if came.done else self._look_at
        if self._failing:
            self._again_at = now + _AGAIN_S


def opener(site: Site) -> Callable[[], Site]:
    """Return a function that gives a thread its own site: a roster is used by the thread that opened it."""
    own: list[Site] = []

    def opened() -> Site:
        if site.story is not None:
            return site
        if not own:
            own.append(Site(site.folder))
            own[0].watch_state = site.watch_state  # without channels, the terminal's bell is told
        own[0].leave_replaced_roster()
        return own[0]

    return opened
