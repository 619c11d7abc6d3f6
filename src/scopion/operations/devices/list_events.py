"""The log of events, for showing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from scopion.alerts.news import owners, sentence
from scopion.model.device import Device, Event, EventKind
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices
from scopion.roster.read_events import EventFilter, count_events, find_events
from scopion.roster.resolve import resolve


@dataclass(frozen=True, slots=True)
class LoggedEvent:
    """An event with its sentence and its device (None if the device was forgotten meanwhile)."""

    event: Event
    device: Device | None
    sentence: str


@dataclass(frozen=True, slots=True)
class Log:
    """A part of the log, in the order of time."""

    told: list[LoggedEvent]
    total: int  # how many events fit, shown or not


def event_log(
    site: Site,
    *,
    since: datetime | None = None,
    until: datetime | None = None,
    kinds: Sequence[str] = (),
    which: Sequence[str] = (),
    place: str | None = None,
    limit: int | None = None,
) -> Log:
    """Return the latest events of some devices, kinds, times or of a place. Raises NotFound, AmbiguousDevice."""
    roster = site.roster_for_reading()
    devices = all_devices(roster)
    chosen = tuple(resolve(devices, text).id for text in which)
    wanted = EventFilter(since, until, tuple(map(EventKind, kinds)), chosen, place)
    return Log(logged(site, find_events(roster, wanted, limit), devices), count_events(roster, wanted))


def logged(site: Site, events: Sequence[Event], devices: Sequence[Device]) -> list[LoggedEvent]:
    """Return events with their sentences; ``devices`` are those that they may be about."""
    by_id, owner = {device.id: device for device in devices}, owners(devices)
    return [
        LoggedEvent(event, device, sentence(event, device, site.vendors, other=owner.get(event.other_mac)))
        for event in events
        for device in [by_id.get(event.device_id)]
    ]
