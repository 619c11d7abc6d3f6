"""Spans and moments as routers' pages write them, in the languages of the vocabulary.

Pages write local time: a moment is read in the zone of the time that the list is of.
"""

from __future__ import annotations

import itertools
import re
from datetime import datetime, timedelta

from scopion.discovery.client_lists.words import months, tokens, units

_CLOCK = re.compile(r"(?<![\d:])(\d{1,4}):(\d{2})(?::(\d{2}))?(?![\d:])")
_AFTERNOON = re.compile(r"(?<![^\W\d_])([ap])\.?m\b\.?", re.I)
_YEAR_FIRST = re.compile(r"(?<!\d)(\d{4})[-/.年](\d{1,2})[-/.月](\d{1,2})(?!\d)")
_YEAR_LAST = re.compile(r"(?<!\d)(\d{1,2})([-/.])(\d{1,2})\2(\d{4})(?!\d)")
_NAMED_MONTH = re.compile(r"(?<!\d)(\d{1,2})\.?\s{1,3}([^\W\d_]{3,10})\.?,?\s{1,3}(\d{4})(?!\d)")
_MONTH_FIRST = re.compile(r"(?<![^\W\d_])([^\W\d_]{3,10})\.?\s{1,3}(\d{1,2}),?\s{1,3}(\d{4})(?!\d)")
_MOST_S = 100 * 365 * 86_400
# A router that has not learnt the time since it was switched on says 1970 or 2000.
_FIRST_YEAR = 2010


def span_of(text: str) -> float | None:
    """Return the seconds of a span: ``1d 02:03:04``, ``2 h 5 min``, ``3 Tage``, ``85993 s``; None for anything else."""
    if _day(text) is not None or _AFTERNOON.search(text):
        return None
    clock = _CLOCK.search(text)
    total, found = 0.0, clock is not None
    if clock:
        hours, minutes, seconds = int(clock[1]), int(clock[2]), int(clock[3] or 0)
        total += hours * 3_600 + minutes * 60 + seconds
        text = text[: clock.start()] + " " + text[clock.end() :]
    words = tokens(text)
    for number, word in itertools.pairwise(words):
        if number.isdecimal() and word in units():
            total += int(number[:12]) * units()[word]
            found = True
    return total if found and total <= _MOST_S else None


def moment_of(text: str, as_of: datetime) -> datetime | None:
    """Return the moment that a text names, in the zone of ``as_of``; None if it names none, or one of two.

    Without a day it is the last time that the clock showed this. ``3/4/2026`` may be in March or in April: None.
    """
    day = _day(text)
    clock = _CLOCK.search(text)
    if day is None and clock is None:
        return None
    hour, minute, second = (int(clock[1]), int(clock[2]), int(clock[3] or 0)) if clock else (0, 0, 0)
    if (half := _AFTERNOON.search(text)) and 1 <= hour <= 12:
        hour = hour % 12 + (12 if half[1] in "pP" else 0)
    try:
        if day is not None and day[0] < _FIRST_YEAR:
            return None
        if day is not None:
            return as_of.replace(
                year=day[0], month=day[1], day=day[2], hour=hour, minute=minute, second=second, microsecond=0
            )
        moment = as_of.replace(hour=hour, minute=minute, second=second, microsecond=0)
    except ValueError:
        return None
    return moment if moment <= as_of else moment - timedelta(days=1)


def _day(text: str) -> tuple[int, int, int] | None:
    """Return year, month and day; (0, 0, 0), which no calendar has, for a day that may be one of two."""
    if match := _YEAR_FIRST.search(text):
        return int(match[1]), int(match[2]), int(match[3])
    if match := _YEAR_LAST.search(text):
        first, second, year = int(match[1]), int(match[3]), int(match[4])
        if match[2] == "." or first > 12:
            return year, second, first
        return (year, first, second) if second > 12 or first == second else (0, 0, 0)
    for pattern, day, month in ((_NAMED_MONTH, 1, 2), (_MONTH_FIRST, 2, 1)):
        if (match := pattern.search(text)) and (number := months().get(match[month].casefold())):
            return int(match[3]), number, int(match[day])
    return None
