"""When the hosts of a scene come: a host that comes speaks by itself, and is heard with its first frame."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from ipaddress import IPv4Address

from scopion.scenes.scene import Period, SceneHost

Coming = tuple[datetime, SceneHost, IPv4Address]


def comings(hosts: Sequence[SceneHost], after: datetime, until: datetime) -> list[Coming]:
    """Return the hosts that come after a moment and not later than another, in the order of time."""
    found = [
        (moment, host, period.address)
        for host in hosts
        for period in host.periods
        for moment in _beginnings(period, after, until)
    ]
    return sorted(found, key=lambda coming: (coming[0], int(coming[2])))


def _beginnings(period: Period, after: datetime, until: datetime) -> list[datetime]:
    """Return when a host comes to an address: when its period begins, and at its hour of each of its days."""
    found = []
    if period.since is not None and after < period.since <= until and period.holds(period.since):
        found.append(period.since)
    for number in range((until.date() - after.date()).days + 1):
        for at in period.begins_on(after.date() + timedelta(days=number)):
            if after < at <= until and at != period.since and period.holds(at):
                found.append(at)
    return found
