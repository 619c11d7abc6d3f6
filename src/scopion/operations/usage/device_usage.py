"""What one device has used: the last hour by minutes, the last month by hours, and years by days."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from scopion.model.device import Device
from scopion.operations.devices.list_devices import find_device
from scopion.operations.site.open_site import Site
from scopion.operations.usage.list_usage import UsageRow, list_usage
from scopion.roster.usage.history import DAY, HOUR, MINUTE, Step, steps_of


@dataclass(frozen=True, slots=True)
class UsageHistory:
    """The answer."""

    device: Device
    row: UsageRow | None  # None: no counter has told of it
    hour: tuple[Step, ...] = ()  # by minutes
    month: tuple[Step, ...] = ()  # by hours
    years: tuple[Step, ...] = ()  # by days


def usage_of(site: Site, which: str) -> UsageHistory:
    """Return what one device has used. Raises NotFound, AmbiguousDevice."""
    device = find_device(site, which)
    rows = (each for each in list_usage(site).rows if each.device is not None and each.device.id == device.id)
    row = next(rows, None)
    if row is None:
        return UsageHistory(device, None)
    spans = ((MINUTE, timedelta(hours=1)), (HOUR, timedelta(days=31)), (DAY, timedelta(days=1_100)))
    return UsageHistory(device, row, *(steps_of_row(site, row, step, span) for step, span in spans))


def steps_of_row(site: Site, row: UsageRow, step: int, span: timedelta) -> tuple[Step, ...]:
    """Return what was used in each minute, hour or day of a time up to now; those without anything are left out."""
    return tuple(steps_of(site.roster_for_reading(), row.counters, site.clock.now() - span, step))
