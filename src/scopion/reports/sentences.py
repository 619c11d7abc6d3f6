"""The summary of a report, in sentences. Pure."""

from __future__ import annotations

import math
from datetime import date, datetime

from scopion.model.text import counted, joined
from scopion.model.week import WEEKDAYS
from scopion.reports.content import Report

# An hour needs at least this share more than the quietest one to be called the busiest.
_WORTH_TELLING = 1.0
_MODES = {
    "allow": ("admits listed devices only", "admit listed devices only"),
    "deny": ("refuses listed devices", "refuse listed devices"),
}


def said_day(day: date) -> str:
    """Return ``Wednesday, 30 September 2026``."""
    return f"{day:%A}, {day.day} {day:%B} {day.year}"


def said_period(since: datetime, until: datetime) -> str:
    """Return ``3 to 30 September 2026``, as short as possible."""
    first, last = since.date(), until.date()
    if first == last:
        return f"{last.day} {last:%B} {last.year}"
    if first.year != last.year:
        return f"{first.day} {first:%B} {first.year} to {last.day} {last:%B} {last.year}"
    if first.month != last.month:
        return f"{first.day} {first:%B} to {last.day} {last:%B} {last.year}"
    return f"{first.day} to {last.day} {last:%B} {last.year}"


def summary(report: Report) -> tuple[str, ...]:
    """Return a few sentences for a person who reads nothing else."""
    return tuple(filter(None, (_who(report), _new(report), _busy(report), _memory(report), _wireless(report))))


def _who(report: Report) -> str:
    devices, here = len(report.devices), sum(each.present for each in report.devices)
    standings = {name: sum(each.standing == name for each in report.devices) for name in ("known", "guest", "unwanted")}
    parts = [f"{count} {name}" for name, count in standings.items() if count]
    of_them = f": {joined(parts)}" if parts else ""
    verb = "was" if devices == 1 else "were"
    return f"{counted(devices, 'device').capitalize()} {verb} here in this time{of_them}; {here} at its end."


def _new(report: Report) -> str:
    fresh = sum(week.total for week in report.new)
    if not fresh:
        return "No device joined for the first time."
    still = sum(week.by_standing.get("new", 0) for week in report.new)
    judged = (
        "all have been reviewed" if not still
        else f"{still} of them {'is' if still == 1 else 'are'} not reviewed yet" if still < fresh
        else f"{'it is' if fresh == 1 else 'they are'} not reviewed yet"
    )  # fmt: skip
    return f"{counted(fresh, 'device')} joined for the first time; {judged}."


def _busy(report: Report) -> str:
    if not report.tells_busy_hours:
        return ""
    cells = [
        (value, weekday, hour)
        for weekday, hours in enumerate(report.busy)
        for hour, value in enumerate(hours)
        if not math.isnan(value)
    ]
    if not cells:
        return ""
    most, weekday, hour = max(cells, key=lambda cell: (cell[0], -cell[1], -cell[2]))
    least = min(cells)[0]
    if most - least < _WORTH_TELLING:
        return f"At every hour about as many are here: {most:.0f} at a time."
    return (
        f"Busiest are {WEEKDAYS[weekday]}s from {hour} to {hour + 1} o'clock with {most:.0f} devices at a time; "
        f"in the quietest hours there are {least:.0f}."
    )


def _memory(report: Report) -> str:
    if report.memory_since is None:
        return ""
    return f"The roster begins on {said_day(report.memory_since.date())}: nothing is known of the time before."


def _wireless(report: Report) -> str:
    if not report.networks:
        return ""
    working = [each.ssid for each in report.networks if each.works]
    listed = [each for each in report.networks if each.mode != "off"]
    if not listed:
        return f"No list is in force on {joined([each.ssid for each in report.networks])}."
    said = [
        f"{joined(names)} {words[len(names) > 1]}"
        for mode, words in _MODES.items()
        if (names := [each.ssid for each in listed if each.mode == mode])
    ]
    seen = f"; verified: {joined(working)}" if working else "; none of it has been verified"
    return f"{', '.join(said)}{seen}."
