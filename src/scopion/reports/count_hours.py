"""In which hours a device was here: the usual week, the last week, and how busy each hour is. Pure; on the site's
clock.

The hours of a span are the bits of one number, the first hour the lowest: a year of one device is 8,760 bits, and
asking about an hour takes no time.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from scopion.model.week import WEEKDAYS

HOUR, DAY_HOURS, WEEK_HOURS = timedelta(hours=1), 24, 168
_WEEKS = 8  # the usual is what held in this many weeks before the last one
_ENOUGH = 2  # this many Tuesdays tell what is usual on a Tuesday
# From this share of comparable days on, an hour counts as one in which the device is always here.
ALWAYS = 0.9


@dataclass(frozen=True, slots=True)
class HourSpan:
    """Whole days on the site's clock; ``end`` is the moment of looking back, in the last of them."""

    first: date
    end: datetime  # without a time zone

    @property
    def days(self) -> list[date]:
        """Return every day."""
        count = (self.end.date() - self.first).days + 1
        return [self.first + timedelta(days=number) for number in range(count)]

    @property
    def hours(self) -> int:
        """Return how many hours have begun."""
        return int((self.end - self.midnight) / HOUR) + 1

    @property
    def midnight(self) -> datetime:
        """Return the beginning."""
        return datetime(self.first.year, self.first.month, self.first.day)

    def number(self, wall: datetime) -> int:
        """Return the number of the hour in which a moment lies; negative before the span."""
        return (wall - self.midnight) // HOUR


def hour_runs(stays: Iterable[tuple[datetime, datetime]], span: HourSpan) -> list[tuple[int, int]]:
    """Return the hours in which any of some stays was, as inclusive runs that neither touch nor overlap."""
    last = span.hours - 1
    runs: list[tuple[int, int]] = []
    for since, until in sorted(stays):
        begin, end = max(0, span.number(since)), min(last, span.number(until))
        if begin > end:
            continue
        if runs and begin <= runs[-1][1] + 1:
            runs[-1] = runs[-1][0], max(end, runs[-1][1])
        else:
            runs.append((begin, end))
    return runs


def bits(runs: Iterable[tuple[int, int]]) -> int:
    """Return the same as bits."""
    found = 0
    for begin, end in runs:
        found |= ((1 << (end - begin + 1)) - 1) << begin
    return found


def busy(
    runs: Iterable[Sequence[tuple[int, int]]], span: HourSpan, looked: Callable[[date], bool], since: datetime
) -> list[list[float]]:
    """Return how many devices are here at a time, on average, by weekday (Monday first) and hour.

    ``runs`` has the hours of each device. Hours before ``since`` and days without a scan do not count; nan where
    nothing is left.
    """
    change = [0] * (span.hours + 1)
    for each in runs:
        for begin, end in each:
            change[begin] += 1
            change[end + 1] -= 1
    sums: Mapping[tuple[int, int], list[int]] = defaultdict(lambda: [0, 0])
    here, days, first = 0, span.days, span.number(since)
    for number in range(span.hours):
        here += change[number]
        day = days[number // DAY_HOURS]
        if number >= first and looked(day):
            cell = sums[day.weekday(), number % DAY_HOURS]
            cell[0] += here
            cell[1] += 1
    return [
        [sums[weekday, hour][0] / sums[weekday, hour][1] if sums[weekday, hour][1] else float("nan")
         for hour in range(DAY_HOURS)]
        for weekday in range(7)
    ]  # fmt: skip


@dataclass(frozen=True, slots=True)
class WeekOf:
    """The last seven days of a device, hour by hour, beside what is usual for it."""

    days: tuple[date, ...]  # seven, the last one is today
    here: tuple[bool | None, ...]  # 168; None for hours to come, and for days without a scan
    usual: tuple[float | None, ...]  # 168 shares of comparable days; None where there are too few of them

    @property
    def unusual(self) -> list[int]:
        """Return the hours in which it was here and never is; an hour next to a usual one is not worth telling."""
        around = (None, *self.usual, None)
        return [
            number
            for number, here in enumerate(self.here)
            if here and self.usual[number] == 0 and not (around[number] or around[number + 2])
        ]

    @property
    def missed(self) -> list[int]:
        """Return the hours in which it was away and nearly always is here."""
        return [
            number
            for number, here in enumerate(self.here)
            if here is False and (self.usual[number] or 0) >= ALWAYS
        ]  # fmt: skip


def week_of(here: int, span: HourSpan, known_since: date, looked: Callable[[date], bool]) -> WeekOf:
    """Return the last week of a device whose hours in a span are the bits of ``here``."""
    days = tuple(span.end.date() - timedelta(days=back) for back in range(6, -1, -1))
    # The day on which it was first seen was not a whole one.
    earliest = max(span.first, known_since + timedelta(days=1), days[0] - timedelta(weeks=_WEEKS))
    sample = [
        day for number in range((days[0] - earliest).days) if looked(day := earliest + timedelta(days=number))
    ]  # fmt: skip
    hours: list[bool | None] = []
    usual: list[float | None] = []
    for day in days:
        alike = _comparable(sample, day)
        begin = (day - span.first).days * DAY_HOURS
        for hour in range(DAY_HOURS):
            known = 0 <= begin + hour < span.hours and looked(day)
            hours.append(bool(here >> (begin + hour) & 1) if known else None)
            offsets = ((each - span.first).days * DAY_HOURS + hour for each in alike)
            share = sum(here >> offset & 1 for offset in offsets) / len(alike) if alike else None
            usual.append(share)
    return WeekOf(days, tuple(hours), tuple(usual))


def _comparable(sample: Sequence[date], day: date) -> list[date]:
    """Return days that are like one: the same weekday, else working days or weekends; none if there are too few."""
    same = [each for each in sample if each.weekday() == day.weekday()]
    if len(same) >= _ENOUGH:
        return same
    alike = [each for each in sample if (each.weekday() < 5) is (day.weekday() < 5)]
    return alike if len(alike) >= _ENOUGH else []


def said_hours(week: WeekOf, numbers: Sequence[int]) -> str:
    """Return hours of a week in words: ``Tuesday 3 to 7, Wednesday 21 to 24``; several days of the same run once."""
    said: dict[str, list[int]] = {}
    for begin, end in _runs(numbers):
        for day in range(begin // DAY_HOURS, end // DAY_HOURS + 1):
            first = max(begin, day * DAY_HOURS) % DAY_HOURS
            last = min(end, day * DAY_HOURS + DAY_HOURS - 1) % DAY_HOURS + 1
            words = "all day" if (first, last) == (0, DAY_HOURS) else f"{first} to {last} o'clock"
            said.setdefault(words, []).append(day)
    parts = []
    for words, days in said.items():
        names = [
            WEEKDAYS[week.days[begin].weekday()] if begin == end
            else f"{WEEKDAYS[week.days[begin].weekday()]} to {WEEKDAYS[week.days[end].weekday()]},"
            for begin, end in _runs(days)
        ]  # fmt: skip
        parts.append(f"{', '.join(names)} {words}")
    return "; ".join(parts).replace(",,", ",")


def _runs(numbers: Sequence[int]) -> list[tuple[int, int]]:
    found: list[tuple[int, int]] = []
    for number in sorted(numbers):
        if found and found[-1][1] == number - 1:
            found[-1] = found[-1][0], number
        else:
            found.append((number, number))
    return found
