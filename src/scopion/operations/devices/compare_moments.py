"""What has changed in the network between two moments, two scans, or since an export was saved."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from scopion.alerts.news import who
from scopion.model.device import NAME_ORDER, Device, Standing, short_name
from scopion.model.errors import NotFound
from scopion.model.mac import MacAddress
from scopion.model.observation import TraitKind
from scopion.operations.devices.compare_snapshots import ORDER, Difference, Seen, Snapshot, Speech, differences
from scopion.operations.site.open_site import Site
from scopion.roster.places import known_places
from scopion.roster.read_devices import all_devices
from scopion.roster.read_events import EventFilter, find_events
from scopion.roster.read_history import stays_at
from scopion.roster.scans import ScanRecord, find_scan, first_look, latest_scans
from scopion.roster.store.open_roster import Roster

SAID = ("label", "standing", "owner", "place", "note", "guest_until")


@dataclass(frozen=True, slots=True)
class Compared:
    """What differs, and between which moments."""

    since: datetime
    until: datetime
    differences: list[Difference]
    devices: Mapping[int, Device]
    present: int  # at the later moment
    unchanged: int  # devices that were present at both, as they were
    asked: datetime | None = None  # the earlier moment as it was asked for: the roster may begin later


def changes_between(site: Site, since: datetime | None, until: datetime | None, place: str | None = None) -> Compared:
    """Return what differs between two moments, in one place or in each; without the first moment, since the scan before
    the latest one.
    """
    site.require_roster()
    roster = site.roster_for_reading()
    now = site.clock.now()
    end = until or now
    asked = since or _before_latest(roster, place)
    begin = max(asked, first_look(roster) or asked)
    devices = {device.id: device for device in all_devices(roster)}
    parts = [
        _in_place(site, roster, devices, begin, end, each)
        for each in ([place] if place is not None else known_places(roster))
    ]
    return replace(_together(parts), asked=asked)


def _in_place(
    site: Site, roster: Roster, devices: Mapping[int, Device], begin: datetime, end: datetime, place: str
) -> Compared:
    """Return what differs in one place: the same address may be used in each."""
    before, after = (snapshot(roster, devices.values(), at, place) for at in (begin, end))
    events = find_events(roster, EventFilter(begin, end, place=place))
    found = differences(before, after, events, _speech(site, devices))
    there = f" in {place}" if place else ""
    found = [replace(each, text=each.text + there) if each.address is not None else each for each in found]
    return _compared(begin, end, found, devices, before, after)


def _together(parts: Sequence[Compared]) -> Compared:
    """Return the differences of all places; what is no matter of a place, as a name, is told once."""
    first = parts[0]
    told = {(each.device, each.text): each for part in parts for each in part.differences}
    return replace(
        first,
        differences=sorted(told.values(), key=lambda each: (ORDER.index(each.kind), each.at is None, each.at)),
        present=sum(part.present for part in parts),
        unchanged=sum(part.unchanged for part in parts),
    )


def changes_since_export(site: Site, saved: Sequence[tuple[Seen, str]], at: datetime) -> Compared:
    """Return what differs between an export (its devices with a name for each) and now."""
    site.require_roster()
    roster = site.roster_for_reading()
    now = site.clock.now()
    devices = {device.id: device for device in all_devices(roster)}
    owner = {mac: device.id for device in devices.values() for mac in device.macs}
    before: dict[int, Seen] = {}
    for number, (seen, _) in enumerate(saved, 1):
        known = next((owner[mac] for mac in sorted(seen.macs) if mac in owner), -number)
        before[known] = seen
    after = {
        number: Seen(seen.macs, seen.holds, seen.name, said(devices[number]))
        for number, seen in snapshot(roster, devices.values(), now).items()
    }
    gone = {
        -number: Device(-number, Standing.NEW, at, label=name or str(next(iter(sorted(seen.macs)), "")))
        for number, (seen, name) in enumerate(saved, 1)
    }
    return _compared(at, now, differences(before, after, (), _speech(site, devices)), gone | devices, before, after)


def scan_moment(site: Site, number: int) -> datetime:
    """Return when a scan ended. Raises NotFound."""
    scan = find_scan(site.roster_for_reading(), number)
    if scan is None or scan.ended is None:
        raise NotFound(f"no scan {number} is remembered: scopion changes --scans lists those that are")
    return scan.ended


def scans(site: Site, limit: int, place: str | None = None) -> list[ScanRecord]:
    """Return the latest scans of a place, this machine's for None; the latest first."""
    return latest_scans(site.roster_for_reading(), limit, place)


def snapshot(roster: Roster, devices: Iterable[Device], at: datetime, place: str | None = None) -> Snapshot:
    """Return the devices that were known at a moment, and where they were: in one place, or in any."""
    stays = stays_at(roster, at)
    return {
        device.id: Seen(
            macs=frozenset(device.macs),
            holds={stay.address: stay.mac for stay in stays.get(device.id, ()) if place in (None, stay.place)},
            name=_name_at(device, at),
        )
        for device in devices
        if device.first_seen <= at
    }


def said(device: Device) -> dict[str, str]:
    """Return what people say of a device, for comparing."""
    return {key: str(getattr(device, key) or "") for key in SAID}


def teller(site: Site) -> Callable[[datetime], str]:
    """Return a function that words a moment: the day only if it is not today."""
    clock = site.clock
    today = clock.local(clock.now()).date()

    def told(moment: datetime) -> str:
        local = clock.local(moment)
        days = (today - local.date()).days
        form = "%H:%M" if days == 0 else "%a %H:%M" if days < 6 else "%a %d %b %H:%M"
        return local.strftime(form)

    return told


def _speech(site: Site, devices: Mapping[int, Device]) -> Speech:
    of_mac = {mac: device for device in devices.values() for mac in device.macs}

    def named(mac: MacAddress | None) -> str:
        return who(mac, of_mac.get(mac) if mac else None, site.vendors)

    return Speech(teller(site), named)


def _before_latest(roster: Roster, place: str | None) -> datetime:
    """Return when the complete scan before the latest one of a place ended. Raises NotFound."""
    ended = [scan.ended for scan in latest_scans(roster, 50, place) if scan.completed and scan.ended]
    if len(ended) < 2:
        raise NotFound("there are no two scans to compare yet: say --since WHEN, or scan again")
    return ended[1]


def _name_at(device: Device, at: datetime) -> str:
    """Return its best name then: by source, and of one source the latest that had been given."""
    names = [known for known in device.traits if known.trait.kind is TraitKind.NAME and known.first_seen <= at]
    best = min(
        names, key=lambda known: (NAME_ORDER.index(known.trait.source), -known.first_seen.timestamp()), default=None
    )
    return short_name(best.trait.value) if best else ""


def _compared(
    since: datetime,
    until: datetime,
    found: list[Difference],
    devices: Mapping[int, Device],
    before: Snapshot,
    after: Snapshot,
) -> Compared:
    differing = {each.device for each in found}
    here = [number for number, seen in after.items() if seen.present]
    same = [number for number in here if number not in differing and number in before and before[number].present]
    return Compared(since, until, found, devices, len(here), len(same))
