"""On which days and at which hours a device is here: the last thirty days, and the usual day against today.

Pure: stays and the times of scans go in, in the local time of the site.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from enum import StrEnum

from scopion.model.week import WEEKDAYS

DAYS = 30
_WEEKS = 4  # the usual is what held in these last weeks
_ENOUGH = 2  # this many Tuesdays tell what is usual on a Tuesday
USUAL = 0.5
_RULE = 3
Spans = Sequence[tuple[datetime, datetime]]


class DayMark(StrEnum):
    """What is known of one day."""

    HERE = "here"
    AWAY = "away"
    NOT_LOOKED = "not-looked"  # no scan looked on that day
    NOT_KNOWN = "not-known"  # before it was first seen


@dataclass(frozen=True, slots=True)
class Rhythm:
    """The last days, and the hours."""

    days: tuple[tuple[date, DayMark], ...]  # the oldest first, the last one is today
    usual_days: str  # which days the usual hours are of: "Tuesdays", "working days", "days"
    usual_hours: tuple[float, ...]  # 24 shares of such days on which it was here in that hour; empty if unknown
    today: tuple[bool | None, ...]  # 24: here in that hour; None for hours to come
    sentence: str  # "mostly Monday to Friday, 8 to 18 o'clock"; empty if there is no rule

    @property
    def days_here(self) -> int:
        """Return on how many of the days it was here."""
        return sum(mark is DayMark.HERE for _, mark in self.days)


def rhythm(
    stays: Iterable[tuple[datetime, datetime]],
    looked: Iterable[tuple[datetime, datetime]],
    known_since: datetime,
    now: datetime,
    local: Callable[[datetime], datetime],
) -> Rhythm:
    """Return the rhythm of a device that was here in ``stays`` (from, to; an open one lasts until now)."""
    here = _on_the_wall(stays, local)
    seeing = _on_the_wall(looked, local)
    today = local(now).date()
    first = local(known_since).date()
    marks = []
    for back in range(DAYS - 1, -1, -1):
        day = today - timedelta(days=back)
        begin, end = _bounds(day)
        if _touches(here, begin, end):
            mark = DayMark.HERE
        elif day < first:
            mark = DayMark.NOT_KNOWN
        else:
            mark = DayMark.AWAY if _touches(seeing, begin, end) else DayMark.NOT_LOOKED
        marks.append((day, mark))
    sample = [day for day, mark in marks[-7 * _WEEKS - 1 : -1] if mark in (DayMark.HERE, DayMark.AWAY)]
    titled, chosen = _comparable(sample, today)
    usual = tuple(_share(here, chosen, hour) for hour in range(24)) if chosen else ()
    wall = local(now).replace(tzinfo=None)
    hours = tuple(
        _in_hour(here, today, hour) if _bounds_of_hour(today, hour)[0] <= wall else None for hour in range(24)
    )
    said = rule_in_words(sample, lambda day: _touches(here, *_bounds(day)), lambda day, hour: _in_hour(here, day, hour))
    return Rhythm(tuple(marks), titled, usual, hours, said)


def _on_the_wall(spans: Iterable[tuple[datetime, datetime]], local: Callable[[datetime], datetime]) -> Spans:
    """Return spans on the site's clock: a day has 24 hours there, also when the clock is changed."""
    return [(local(begin).replace(tzinfo=None), local(end).replace(tzinfo=None)) for begin, end in spans]


def _bounds(day: date) -> tuple[datetime, datetime]:
    begin = datetime.combine(day, time(0))
    return begin, begin + timedelta(days=1)


def _bounds_of_hour(day: date, hour: int) -> tuple[datetime, datetime]:
    begin = datetime.combine(day, time(hour))
    return begin, begin + timedelta(hours=1)


def _touches(spans: Spans, begin: datetime, end: datetime) -> bool:
    return any(since < end and until >= begin for since, until in spans)


def _in_hour(spans: Spans, day: date, hour: int) -> bool:
    return _touches(spans, *_bounds_of_hour(day, hour))


def _share(spans: Spans, days: Sequence[date], hour: int) -> float:
    return sum(_in_hour(spans, day, hour) for day in days) / len(days)


def _comparable(sample: Sequence[date], today: date) -> tuple[str, list[date]]:
    """Return days that are like today: the same weekday, else working days or weekends, else all."""
    same = [day for day in sample if day.weekday() == today.weekday()]
    if len(same) >= _ENOUGH:
        return f"{WEEKDAYS[today.weekday()]}s", same
    working = today.weekday() < 5
    alike = [day for day in sample if (day.weekday() < 5) is working]
    if len(alike) >= _ENOUGH:
        return ("working days" if working else "weekends"), alike
    return "days", list(sample)


def rule_in_words(sample: Sequence[date], on_day: Callable[[date], bool], in_hour: Callable[[date, int], bool]) -> str:
    """Return when a device is usually here, from some days, their weekdays and hours; empty if there is no rule."""
    of_weekday = [[day for day in sample if day.weekday() == number] for number in range(7)]
    if sum(bool(days) for days in of_weekday) < 5 or sum(map(on_day, sample)) < _RULE:
        return ""  # less than a week, or a day or two, is no rule
    usual = [number for number, days in enumerate(of_weekday) if days and sum(map(on_day, days)) > len(days) * USUAL]
    if not usual:
        return "seldom"
    days = [day for day in sample if day.weekday() in usual]
    hours = [hour for hour in range(24) if sum(in_hour(day, hour) for day in days) > len(days) * USUAL]
    if len(hours) == 24 and len(usual) == 7:
        return "always"
    when = "every day" if len(usual) == 7 else _runs([WEEKDAYS[number] for number in usual], usual, " to ")
    if len(hours) == 24:
        return f"{when}, all day"
    return f"{when}, {_hours(hours)}" if hours else when


def _hours(hours: Sequence[int]) -> str:
    """Return ``8 to 18 o'clock``; over midnight it is one run."""
    begins = [hour for hour in hours if (hour - 1) % 24 not in hours]
    runs = []
    for begin in begins:
        length = next(count for count in range(1, 25) if (begin + count) % 24 not in hours)
        runs.append(f"{begin} to {(begin + length) % 24 or 24} o'clock")
    return " and ".join(runs)


def _runs(names: Sequence[str], numbers: Sequence[int], to: str) -> str:
    """Return neighbouring days together: ``Monday to Friday``."""
    runs: list[list[int]] = []
    for at, number in enumerate(numbers):
        if runs and numbers[runs[-1][-1]] == number - 1:
            runs[-1].append(at)
        else:
            runs.append([at])
    words = [names[run[0]] if len(run) == 1 else f"{names[run[0]]}{to}{names[run[-1]]}" for run in runs]
    return ", ".join(words)
