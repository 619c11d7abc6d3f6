"""What the hosts of a scene send and get: at a rate of their own, while they are there."""

from __future__ import annotations

from datetime import datetime, timedelta

from scopion.scenes.scene import Period, SceneHost

_STEP = timedelta(minutes=15)  # hours of a week begin and end at such steps


def octets_of(host: SceneHost, since: datetime, until: datetime) -> tuple[int, int]:
    """Return the octets that a host has sent and got in a time."""
    seconds = sum(_seconds(period, since, until) for period in host.periods)
    up, down = (round(rate * 1000 / 8 * seconds) for rate in host.kbit)
    return up, down


def _seconds(period: Period, since: datetime, until: datetime) -> float:
    begin = max(since, period.since) if period.since is not None else since
    end = min(until, period.until) if period.until is not None else until
    if begin >= end:
        return 0.0
    if period.week.is_always:
        return (end - begin).total_seconds()
    at, seconds = begin, 0.0
    while at < end:
        follows = min(end, at + _STEP)
        seconds += (follows - at).total_seconds() if period.week.holds(at) else 0.0
        at = follows
    return seconds
