"""What ``site.toml`` says of reports: when the weekly one is made, and which channels get it. Plain frozen values."""

from __future__ import annotations

from datetime import datetime, time, timedelta
from typing import Annotated

from annotated_types import Ge, Le, MaxLen, MinLen, Predicate

from scopion.model.settings_table import settings_table
from scopion.model.week import parse_time, parse_weekday


def weekly_of(text: str) -> tuple[int, time]:
    """Read ``monday 07:00``: the weekday (Monday is 0) and the time of day. Raises ValueError."""
    day, _, hour = text.strip().partition(" ")
    weekday, at = parse_weekday(day), parse_time(hour)
    if weekday is None or at is None:
        raise ValueError(f"{text!r} is not a weekday and time: write monday 07:00")
    return weekday, at


def _is_weekly(text: str) -> bool:
    try:
        return not text or bool(weekly_of(text))
    except ValueError:
        return False


def latest_due(text: str, wall: datetime) -> datetime:
    """Return the latest moment, on the site's clock, at which a weekly report was due."""
    weekday, at = weekly_of(text)
    due = datetime.combine(wall.date() - timedelta(days=(wall.weekday() - weekday) % 7), at)
    return due if due <= wall else due - timedelta(weeks=1)


@settings_table
class ReportSettings:
    """The weekly report of ``scopion watch``."""

    weekly: Annotated[str, Predicate(_is_weekly)] = ""  # as "monday 07:00"; empty: none
    channels: Annotated[tuple[Annotated[str, MinLen(1), MaxLen(40)], ...], MaxLen(64)] = ()  # empty: those by e-mail
    keep_weeks: Annotated[int, Ge(1), Le(1_000)] = 53  # this many pages stay in the folder reports/
