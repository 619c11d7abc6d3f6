"""Tells which device uses too much of the line: more than ``site.toml`` says, or far more than it ever does."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from scopion.alerts.rules import is_named, names_of
from scopion.model.device import Device, Event, EventKind
from scopion.model.text import spoken_size
from scopion.operations.intake.take_in import TakenIn, recorded
from scopion.operations.site.open_site import Site
from scopion.operations.site.usage_settings import MuchSettings
from scopion.operations.usage.device_usage import steps_of_row
from scopion.operations.usage.list_usage import UsageRow, list_usage
from scopion.roster.folding.note_attempts import NO_ADDRESS
from scopion.roster.folding.note_much import note_much, told_much
from scopion.roster.usage.history import HOUR, MINUTE, Step

_BACK = timedelta(days=28)
_LEAST_BACK = timedelta(days=7)  # with less history nothing is known of what a device usually does
# Below this no line is slow, whatever is usual.
_LEAST_OCTETS = 200_000_000


def tell_much(site: Site) -> TakenIn:
    """Record and queue which devices use too much now; each once in the time of its limit."""
    limits = site.settings.much
    if not limits:
        return TakenIn()
    found: list[Event] = []
    now = site.clock.now()
    for hours in sorted({each.within_h for each in limits}):
        span = timedelta(hours=hours)
        # Within one hour by minutes: an hour that has just begun would know little of it.
        step = MINUTE if span <= timedelta(hours=1) else HOUR
        for row in list_usage(site, since=now - span, step=step).rows:
            limit = limit_of(row.device, limits) if row.device is not None else None
            if row.device is None or limit is None or limit.within_h != hours:
                continue
            said = _too_much(site, row, limit, now)
            if said and not told_much(site.roster, row.device.id, now - span):
                found.append(_event(row.device, said, limit, now))
    return recorded(site, lambda: note_much(site.roster, found)) if found else TakenIn()


def limit_of(device: Device, limits: Sequence[MuchSettings]) -> MuchSettings | None:
    """Return the first limit that is meant for a device."""
    names = names_of(device)
    return next((each for each in limits if not each.devices or is_named(names, each.devices)), None)


def _too_much(site: Site, row: UsageRow, limit: MuchSettings, now: datetime) -> str:
    """Return what is too much, in words; empty if nothing is. The row has what was used in the limit's time."""
    used = row.week.total
    if limit.mb is not None and used > limit.mb * 1e6:
        return f"{spoken_size(used)}, more than {spoken_size(round(limit.mb * 1e6))}"
    if limit.times is not None and used > _LEAST_OCTETS:
        span = timedelta(hours=limit.within_h)
        steps = steps_of_row(site, row, HOUR, _BACK)
        if steps and steps[0].at <= now - span - _LEAST_BACK:
            most = largest_before(steps, now - span, span)
            if used > limit.times * most:
                return f"{spoken_size(used)}; before, it was never more than {spoken_size(most)}"
    return ""


def largest_before(steps: Sequence[Step], until: datetime, span: timedelta) -> int:
    """Return the most octets that passed in any time of this length that ended before a moment, both ways."""
    earlier = [each for each in steps if each.at <= until]
    most = total = first = 0
    for each in earlier:
        total += each.up + each.down
        while each.at - earlier[first].at >= span:
            total -= earlier[first].up + earlier[first].down
            first += 1
        most = max(most, total)
    return most


def _event(device: Device, said: str, limit: MuchSettings, now: datetime) -> Event:
    stay = max(device.stays, key=lambda stay: (stay.present, stay.address.version == 4), default=None)
    hours = f"{limit.within_h:g} hours" if limit.within_h != 1 else "one hour"
    return Event(
        EventKind.USES_MUCH, now, device.id, stay.mac if stay else device.macs[0],
        stay.address if stay else NO_ADDRESS, name=f"{said}, in {hours}", place=stay.place if stay else "",
    )  # fmt: skip
