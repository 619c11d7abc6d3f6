"""Moments as people write them: ``yesterday 14:00``, ``monday``, ``3 days``, ``2026-09-14 08:30``.

Days and weeks are counted on the site's clock, so that ``3 days`` is the same time of day across a change to summer
time; hours and less are counted exactly.
"""

from __future__ import annotations

import re
from contextlib import suppress
from datetime import UTC, date, datetime, time, timedelta

from scopion.model.clock import UNITS, Clock
from scopion.model.week import parse_time, parse_weekday

_FIRST_YEAR = 1970
_DAYS = {"today": 0, "yesterday": -1, "tomorrow": 1}
_SPAN = re.compile(r"(?P<ahead>in )?(?P<count>\d{1,5}(?:\.\d{1,2})?|an?) ?(?P<unit>[a-z]+?)s?(?P<ago> ago)?")
HOW = "write it as 2026-09-14, '2026-09-14 14:00', yesterday, monday, 14:00 or '3 days'"


def parse_moment(text: str, clock: Clock, *, ahead: bool = False, end: bool = False) -> datetime:
    """Read a moment and return it in UTC. Without ``ahead`` it is in the past: the latest Monday, three days ago.

    A day alone is its beginning, with ``end`` its end. Raises ValueError with the forms that are understood.
    """
    with suppress(OverflowError, OSError):  # a year that datetime cannot hold
        found = _parsed(text, clock, ahead=ahead, end=end)
        if found.year >= _FIRST_YEAR:
            return found
    raise ValueError(f"{text.strip()!r} is too far from now")


def _parsed(text: str, clock: Clock, *, ahead: bool, end: bool) -> datetime:
    plain = " ".join(text.strip().casefold().split())
    now = clock.now()
    if plain == "now":
        return now
    span = _span(plain, clock, now, ahead)
    if span is not None:
        return span
    instant = _instant(plain)
    if instant is not None:
        return instant
    first, _, rest = plain.replace("t", " ", 1).partition(" ") if re.match(r"\d{4}-", plain) else plain.partition(" ")
    if first == "last" and rest:
        first, _, rest = rest.partition(" ")
    today = clock.local(now).date()
    day = _day(first, today, ahead)
    if day is None:
        at = parse_time(plain, seconds=True)
        if at is None:
            raise ValueError(f"{text.strip()!r} is not a moment: {HOW}")
        moment = clock.from_local(datetime.combine(today, at))
        if (moment > now) is not ahead and moment != now:
            step = timedelta(days=1 if ahead else -1)
            moment = clock.from_local(datetime.combine(today + step, at))
        return moment
    at = parse_time(rest.removeprefix("at "), seconds=True) if rest else time(0)
    if at is None:
        raise ValueError(f"{rest!r} is not a time of day: write it as 14:00")
    return clock.from_local(datetime.combine(day + timedelta(days=1 if end and not rest else 0), at))


def parse_day(text: str, clock: Clock) -> date:
    """Read a day in the future: ``friday``, ``tomorrow``, ``2026-12-31``, ``2 weeks``. Raises ValueError."""
    return clock.local(parse_moment(text, clock, ahead=True)).date()


def _span(plain: str, clock: Clock, now: datetime, ahead: bool) -> datetime | None:
    match = _SPAN.fullmatch(plain)
    if match is None or match["unit"] not in UNITS:
        return None
    if match["ago"] and (ahead or match["ahead"]):
        raise ValueError(f"{plain!r} lies in the past, a coming moment is needed")
    if match["ahead"] and not ahead:
        raise ValueError(f"{plain!r} lies in the future, a past moment is needed")
    count = 1.0 if match["count"].startswith("a") else float(match["count"])
    span = timedelta(**{UNITS[match["unit"]]: count if ahead else -count})
    if UNITS[match["unit"]] in ("days", "weeks"):
        return clock.from_local(clock.local(now).replace(tzinfo=None) + span)
    return now + span


def _instant(plain: str) -> datetime | None:
    """Return a moment that is written with its time zone, as the JSON output has it; None for other texts."""
    if not re.fullmatch(r"\d{4}-\d\d-\d\dt.*(z|[+-]\d\d:?\d\d)", plain):
        return None
    try:
        return datetime.fromisoformat(plain.upper()).astimezone(UTC)
    except ValueError as error:
        raise ValueError(f"{plain!r} is not a moment: {error}") from None


def _day(word: str, today: date, ahead: bool) -> date | None:
    if word in _DAYS:
        return today + timedelta(days=_DAYS[word])
    weekday = parse_weekday(word)
    if weekday is not None:
        back = (today.weekday() - weekday) % 7
        return today + timedelta(days=(7 - back) % 7) if ahead else today - timedelta(days=back)
    if re.fullmatch(r"\d{4}-\d{1,2}-\d{1,2}", word):
        year, month, day = map(int, word.split("-"))
        try:
            return date(year, month, day)
        except ValueError:
            raise ValueError(f"there is no day {word}") from None
    return None
