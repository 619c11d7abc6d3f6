"""Hours of wireless networks: named timetables, when a device may be on the air, and when that changes next."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from scopion.model.errors import NotFound
from scopion.model.mac import MacAddress
from scopion.model.week import Week
from scopion.operations.site.change_roster import change
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import known_network
from scopion.operations.wifi.find_subjects import subject_keys
from scopion.operations.wifi.load_policy import policy_for
from scopion.roster.read_devices import all_devices
from scopion.roster.wifi import lists, timetables
from scopion.roster.wifi.lists import Entry, Network
from scopion.wireless.coverage import covered_adapters
from scopion.wireless.list_policy import ListPolicy, admits, admitted_week, next_turn, wanted


@dataclass(frozen=True, slots=True)
class Timetable:
    """A named timetable and how often it is used."""

    name: str
    week: Week
    used_by: int


@dataclass(frozen=True, slots=True)
class Hours:
    """When a device may be on a network: the week, now, and the next change."""

    network: Network
    who: str
    admitted: Week  # as it would be every week, without ends of entries and exclusive times
    now: bool  # whether it is admitted now
    at: datetime  # now, on the site's clock
    next_change: datetime | None  # on the site's clock
    entry: Entry | None  # the list that decides; None: on no list


def all_timetables(site: Site) -> list[Timetable]:
    """Return every named timetable."""
    roster = site.roster_for_reading()
    known = timetables.timetables(roster)
    kept = [each.hours for each in lists.all_entries(roster)]
    kept += [each.others_hours for each in lists.all_networks(roster)]
    return [Timetable(name, week, kept.count(timetables.MARK + name)) for name, week in known.items()]


def save_timetable(site: Site, name: str, hours: str) -> Week:
    """Make a timetable or give it other windows; all entries that use it follow. Raises UsageError."""
    week = Week.parse(hours)
    with change(site, "wifi", f"timetable {name!r}: {week}") as (roster, _):
        timetables.save_timetable(roster, name, week, site.clock.now())
    return week


def remove_timetable(site: Site, name: str) -> None:
    """Remove a timetable that is not in use. Raises NotFound, UsageError."""
    with change(site, "wifi", f"timetable {name!r} removed") as (roster, _):
        timetables.remove_timetable(roster, name)


def hours_of(site: Site, which: str, ssid: str | None = None) -> list[Hours]:
    """Return when a device may be on the networks, or on one. Raises NotFound, AmbiguousDevice."""
    site.require_roster()
    roster = site.roster_for_reading()
    devices = all_devices(roster)
    name, key = subject_keys(devices, which)
    device = next((each for each in devices if each.id == key), None)
    macs = tuple(adapter.mac for adapter in covered_adapters(device)) if device is not None else ()
    if isinstance(key, MacAddress):
        macs = (key,)
    networks = lists.all_networks(roster) if ssid is None else [known_network(site, roster, ssid)]
    if not networks:
        raise NotFound("no wireless network is known: scopion wifi allow makes one")
    keys = {key, *macs}
    found = []
    for network in networks:
        entries = lists.all_entries(roster, network.lists)
        listed = [each for each in entries if each.subject in keys]
        entry = next((each for each in listed if each.list is network.mode), next(iter(listed), None))
        policy = policy_for(roster, network, devices)
        found.append(_hours(site, network, policy, name, macs, entry))
    return found


def hours_of_others(site: Site, ssid: str) -> Hours:
    """Return when devices on no list may be on a network."""
    roster = site.roster_for_reading()
    network = known_network(site, roster, ssid)
    policy = policy_for(roster, network)
    return _hours(site, network, policy, "every device on no list", (), None)


def _hours(
    site: Site, network: Network, policy: ListPolicy, who: str, macs: tuple[MacAddress, ...], entry: Entry | None
) -> Hours:
    local, now = site.clock.local, site.clock.now()
    turn = next_turn(policy, macs, now, local)
    return Hours(
        network=network,
        who=who,
        admitted=admitted_week(policy, macs),
        now=admits(wanted(policy, now, local), macs),
        at=local(now),
        next_change=local(turn) if turn else None,
        entry=entry,
    )
