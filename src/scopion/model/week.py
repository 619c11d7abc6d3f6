"""Weekly hours: windows of a week on the site's clock, as ``mon-fri 08:00-18:00, sat 10:00-14:00``.

The clock on the wall decides, so that a shop opens at eight before and after a change to summer time. An hour that is
skipped in spring has no windows; one that is repeated in autumn has them twice.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import datetime, time, timedelta

from scopion.model.errors import UsageError

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_DAY = 24 * 60
WEEK = 7 * _DAY  # in minutes
# One for each hour of a week and some more; a longer list was not meant as opening hours.
_MOST_WINDOWS = 200
_HOW = "write them as mon-fri 08:00-18:00, sat 10:00-14:00"
_WORDS = {"daily": "mon-sun", "weekdays": "mon-fri", "weekend": "sat-sun"}
_TIME = re.compile(r"([0-9]{1,2}):([0-9]{2})(?::([0-9]{2}))?")
_MINUTE = timedelta(minutes=1)
_HOUR = timedelta(hours=1)

Local = Callable[[datetime], datetime]  # a moment as the site's clock shows it


def on_the_wall(moment: datetime, local: Local) -> datetime:
    """Return what the site's clock shows at a moment, without a time zone, so that every day has 24 hours."""
    return local(moment).replace(tzinfo=None)


def from_the_wall(wall: datetime, near: datetime, local: Local) -> datetime:
    """Return the moment at which the site's clock shows ``wall``; ``near`` is a moment close to it."""
    guess = near - (on_the_wall(near, local) - wall)
    return guess - (on_the_wall(guess, local) - wall)


def parse_weekday(text: str) -> int | None:
    """Read ``monday``, ``mon`` or ``Mond``: Monday is 0; None for what is not a weekday."""
    word = text.casefold()
    return next((day for day, name in enumerate(WEEKDAYS) if len(word) >= 3 and name.casefold().startswith(word)), None)


def parse_time(text: str, *, seconds: bool = False) -> time | None:
    """Read ``8:00`` or ``08:00``, with ``seconds`` also ``08:00:30``; None for what is no time.

    Raises ValueError for ``25:00``.
    """
    match = _TIME.fullmatch(text.strip())
    if match is None or (match[3] and not seconds):
        return None
    try:
        return time(int(match[1]), int(match[2]), int(match[3] or 0))
    except ValueError:
        raise ValueError(f"there is no time of day {text.strip()}") from None


@dataclass(frozen=True, slots=True)
class Week:
    """Windows as ranges of minutes since Monday's midnight, sorted, apart from each other, and never empty."""

    ranges: tuple[tuple[int, int], ...]

    @classmethod
    def parse(cls, text: str) -> Week:
        """Read windows; one that ends before it begins crosses midnight. Raises UsageError."""
        covered: list[tuple[int, int]] = []
        parts = [part.strip() for part in text.casefold().split(",")]
        if len(parts) > _MOST_WINDOWS:
            raise UsageError(f"at most {_MOST_WINDOWS} windows make a week, these are {len(parts)}")
        days: list[int] | None = None
        for part in parts:
            named, span = _split(part)
            days = _days(named) if named else days
            if days is None:
                days = list(range(7))
            for day in days:
                covered += _in_week(day * _DAY + span[0], day * _DAY + span[1])
        return cls(tuple(_merged(covered)))

    def __str__(self) -> str:
        """Return the windows as people write them: days with the same hours together."""
        by_hours: dict[tuple[tuple[int, int], ...], list[int]] = {}
        for day, spans in enumerate(self.by_day()):
            if spans:
                by_hours.setdefault(tuple(spans), []).append(day)
        if self.is_always:
            return "mon-sun 00:00-24:00"
        said = []
        for hours, together in by_hours.items():
            for run in _runs(together):
                said += [f"{_named(run)} {_clock(begin)}-{_clock(end)}" for begin, end in hours]
        return ", ".join(said)

    def __or__(self, other: Week) -> Week:
        """Return the hours in which either holds."""
        return Week(tuple(_merged([*self.ranges, *other.ranges])))

    def __invert__(self) -> Week:
        """Return the hours in which it does not hold."""
        edges = [0, *(edge for span in self.ranges for edge in span), WEEK]
        return Week(tuple((begin, end) for begin, end in zip(edges[::2], edges[1::2], strict=True) if begin < end))

    def __and__(self, other: Week) -> Week:
        """Return the hours in which both hold."""
        return ~(~self | ~other)

    @property
    def is_always(self) -> bool:
        """Tell whether it holds the whole week."""
        return self.ranges == ((0, WEEK),)

    def holds(self, wall: datetime) -> bool:
        """Tell whether a time on the wall is in a window; a window's beginning is in it, its end is not."""
        minute = wall.weekday() * _DAY + wall.hour * 60 + wall.minute
        return any(begin <= minute < end for begin, end in self.ranges)

    def by_day(self) -> list[list[tuple[int, int]]]:
        """Return the windows by the day on which they begin, in its minutes; one over midnight ends after 1440."""
        days: list[list[tuple[int, int]]] = [[] for _ in range(7)]
        if self.is_always:
            return [[(0, _DAY)] for _ in range(7)]
        for begin, end in self._whole():
            day = begin // _DAY
            # A window that would end on the next day later than it begins is split at midnight.
            while end - day * _DAY > _DAY and end - (day + 1) * _DAY >= begin - day * _DAY:
                days[day % 7].append((begin - day * _DAY, _DAY))
                day += 1
                begin = day * _DAY
            days[day % 7].append((begin - day * _DAY, end - day * _DAY))
        return days

    def next_change(self, after: datetime, local: Local) -> datetime | None:
        """Return the first moment after ``after`` at which a window begins or ends; None if there is none."""
        if not self.ranges or self.is_always:
            return None
        before = self.holds(local(after))
        hour = after.replace(second=0, microsecond=0)
        for _ in range(16 * 24):  # no window is farther than a week, and none is skipped twice in a row
            for moment in self._edges(hour, local):
                if moment > after and self.holds(local(moment)) != before:
                    return moment
            hour += _HOUR
        return None

    def _edges(self, hour: datetime, local: Local) -> Iterator[datetime]:
        """Yield the moments of the hour from ``hour`` on at which something may change."""
        wall, end = local(hour), local(hour + _HOUR)
        if end.replace(tzinfo=None) - wall.replace(tzinfo=None) != _HOUR:  # the clock is changed in this hour
            yield from (hour + minute * _MINUTE for minute in range(60))
            return
        at = wall.weekday() * _DAY + wall.hour * 60 + wall.minute
        yield from sorted(
            hour + ahead * _MINUTE for span in self.ranges for edge in span if (ahead := (edge - at) % WEEK) < 60
        )

    def _whole(self) -> list[tuple[int, int]]:
        """Return the ranges, with one that crosses the end of the week in one piece."""
        if len(self.ranges) > 1 and self.ranges[0][0] == 0 and self.ranges[-1][1] == WEEK:
            first, *between, last = self.ranges
            return [*between, (last[0], WEEK + first[1])]
        return list(self.ranges)


WHOLE = Week(((0, WEEK),))
NEVER = Week(())
_SPAN = re.compile(
    r"(?P<days>[a-z][a-z ,-]{0,80}?)?\s{0,8}(?P<begin>\d{1,2}:\d{2})\s{0,8}(?:-|–|to)\s{0,8}(?P<end>\d{1,2}:\d{2})"
)


def _split(part: str) -> tuple[str, tuple[int, int]]:
    match = _SPAN.fullmatch(part)
    if match is None:
        raise UsageError(f"{part!r} are no hours: {_HOW}")
    begin, end = _minutes(match["begin"]), _minutes(match["end"])
    if begin == _DAY:
        raise UsageError(f"{part!r} begins at the end of a day: write 00:00 of the next one")
    if begin == end:
        raise UsageError(f"{part!r} has no length: the whole day is 00:00-24:00")
    return (match["days"] or "").strip(), (begin, end if end > begin else end + _DAY)


def _minutes(text: str) -> int:
    hours, minutes = map(int, text.split(":"))
    if hours > 24 or minutes > 59 or (hours == 24 and minutes):
        raise UsageError(f"there is no time of day {text}")
    return hours * 60 + minutes


def _days(text: str) -> list[int]:
    first, dash, last = _WORDS.get(text, text).partition("-")
    begin, end = _day(first.strip()), _day(last.strip()) if dash else _day(first.strip())
    return [(begin + step) % 7 for step in range((end - begin) % 7 + 1)]


def _day(word: str) -> int:
    found = parse_weekday(word)
    if found is None:
        raise UsageError(f"{word!r} is not a day of the week: {_HOW}")
    return found


def _in_week(begin: int, end: int) -> list[tuple[int, int]]:
    return [(begin, end)] if end <= WEEK else [(begin, WEEK), (0, end - WEEK)]


def _merged(ranges: list[tuple[int, int]]) -> list[tuple[int, int]]:
    merged: list[tuple[int, int]] = []
    for begin, end in sorted(ranges):
        if merged and begin <= merged[-1][1]:
            merged[-1] = (merged[-1][0], max(end, merged[-1][1]))
        else:
            merged.append((begin, end))
    return merged


def _runs(days: list[int]) -> list[list[int]]:
    """Return runs of days that follow each other."""
    runs: list[list[int]] = []
    for day in days:
        if runs and runs[-1][-1] == day - 1:
            runs[-1].append(day)
        else:
            runs.append([day])
    return runs


def _named(run: list[int]) -> str:
    return DAYS[run[0]] if len(run) == 1 else f"{DAYS[run[0]]}-{DAYS[run[-1]]}"


def _clock(minute: int) -> str:
    hour = 24 if minute == _DAY else minute // 60 % 24
    return f"{hour:02}:{minute % 60:02}"
