"""Gathers how a site is looked after, from one reading of its roster; nothing is asked of the network."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from ipaddress import IPv4Network
from pathlib import Path

from scopion.model.device import Device
from scopion.model.place import PlacedSubnet
from scopion.model.text import plain
from scopion.operations.devices.map_addresses import subnets_of
from scopion.operations.folder.take_turns import watching_process
from scopion.operations.intake.miss_devices import anything_expected, expected_devices
from scopion.operations.intake.queue_alerts import learnt_subnets
from scopion.operations.site.open_site import Site
from scopion.operations.site.refresh_vendors import listing_ages
from scopion.reports.site_status import (
    ChannelStatus,
    DueStatus,
    EssentialStatus,
    FollowedStatus,
    ListingStatus,
    ListStatus,
    RosterStatus,
    SensorStatus,
    SiteStatus,
    SubnetStatus,
    TroubleStatus,
    WatchStatus,
)
from scopion.roster.delivery_states import DeliveryState, delivery_states
from scopion.roster.folding.note_outages import down_since
from scopion.roster.follow_alerts import all_seen, unseen
from scopion.roster.read_devices import all_devices
from scopion.roster.scans import last_scans
from scopion.roster.sensors import known_sensors
from scopion.roster.store.open_roster import FILE, Roster
from scopion.roster.store.roster_copies import latest_copy
from scopion.roster.undo.record_changes import latest_changes
from scopion.roster.watch_record import WatchRecord, last_watch
from scopion.roster.wifi.associations import associations
from scopion.roster.wifi.lists import all_networks

_TAKEN_ON = timedelta(days=7)  # who takes care of what is said for so long
# By place and subnet: when any part of it was looked at last, and when all of it was.
Looked = Mapping[tuple[str, IPv4Network], tuple[datetime | None, datetime | None]]


def gather_status(site: Site) -> SiteStatus:
    """Return how a site is looked after. Raises DamagedRoster, InvalidSettings."""
    roster = site.roster_for_reading()
    with roster.snapshot():
        watch, devices, looked = last_watch(roster), all_devices(roster), last_scans(roster)
        lists, due = _wireless(site, roster, devices, watch)
        return SiteStatus(
            site=site.name,
            folder=str(site.folder),
            at=site.clock.now(),
            watch=_watch(site, watch),
            subnets=tuple(_subnets(site, roster, looked)),
            sensors=_sensors(site, roster),
            essential=tuple(_essential(site, roster, devices)),
            channels=tuple(_channels(site, roster)),
            followed=tuple(_followed(site, roster)),
            lists=lists,
            due=due,
            roster=_roster(site, roster, devices, looked),
            listing=_listing(site),
            free_octets=_free(site.folder),
        )


def _wireless(
    site: Site, roster: Roster, devices: Sequence[Device], watch: WatchRecord | None
) -> tuple[tuple[ListStatus, ...], tuple[DueStatus, ...]]:
    """Return the lists and what is due; both empty where no wireless network is known, which loads nothing."""
    if not site.settings.enforcer and not all_networks(roster):
        return (), ()
    from scopion.operations.report.gather_lists import Lists

    held = Lists(site, roster, devices, watch)
    return tuple(held.lists()), tuple(held.due())


def _watch(site: Site, record: WatchRecord | None) -> WatchStatus:
    process = watching_process(site.folder)
    if record is None:
        return WatchStatus(process is not None, process)
    if process is not None and process != record.process and site.story is None:
        return WatchStatus(running=True, process=process)  # it has not written yet, or the record is of another machine
    return WatchStatus(
        running=process is not None,
        process=record.process,
        host=record.host,
        account=record.account,
        version=record.version,
        service=record.service,
        once=record.once,
        raw_frames=record.raw_frames,
        since=record.since,
        ended=record.ended if process is None else None,
        troubles=tuple(TroubleStatus(each.doing, each.problem, each.since) for each in record.troubles),
    )


def _subnets(site: Site, roster: Roster, looked: Looked) -> list[SubnetStatus]:
    learnt = {(each.place, each.range): each.until for each in learnt_subnets(site, roster)}
    if not site.settings.channel:
        learnt = {}
    return [
        _subnet(site, roster, each, looked.get(each, (None, None)), learnt.get(each))
        for each in subnets_of(site, roster)
    ]


def _subnet(
    site: Site,
    roster: Roster,
    placed: PlacedSubnet,
    looked: tuple[datetime | None, datetime | None],
    learning_until: datetime | None,
) -> SubnetStatus:
    place, range = placed
    name, every_s = site.settings.of_subnet(range, place).name, site.settings.interval_of(range, place)
    down = down_since(roster, range, place)
    return SubnetStatus(str(range), name, place, every_s, *looked, down, learning_until, place == roster.home)


def _sensors(site: Site, roster: Roster) -> tuple[SensorStatus, ...]:
    if not site.settings.sensor and not known_sensors(roster):
        return ()
    from scopion.operations.sensors.list_sensors import list_sensors

    return tuple(
        SensorStatus(
            each.name,
            each.place,
            each.state,
            each.heard,
            each.lag.total_seconds() if each.lag is not None else None,
            each.waiting,
            each.offset.total_seconds() if each.offset is not None else None,
            each.kept,
            each.troubles,
        )
        for each in list_sensors(site)
    )


def _essential(site: Site, roster: Roster, devices: Sequence[Device]) -> list[EssentialStatus]:
    if not anything_expected(site, roster):
        return []
    return [
        EssentialStatus(
            each.device.called,
            each.device.label or str(next(iter(each.device.macs), each.device.addresses[0])),
            each.device.present,
            each.silent_since,
            each.patience.total_seconds(),
            each.planned,
            each.told,
        )
        for each in expected_devices(site, roster, devices, associations(roster))
    ]


def _channels(site: Site, roster: Roster) -> list[ChannelStatus]:
    states = delivery_states(roster, site.clock.now())
    found = []
    for each in site.settings.channel:
        state = states.get(each.name, DeliveryState())
        values = {name: getattr(state, name) for name in ChannelStatus.__slots__ if name not in ("name", "type")}
        found.append(ChannelStatus(each.name, each.type, **values))
    return found


def _followed(site: Site, roster: Roster) -> list[FollowedStatus]:
    """Return the alerts that no one has seen though a rule asks for that, and those that someone takes care of.

    Of alerts that say the same by several channels the first stands for all.
    """
    found = [
        FollowedStatus(each.alert, _subject(each.message), each.ended if not each.failed else None, None, "", "")
        for each in unseen(roster)
        if each.message is not None  # else it is gathered yet, or waits for the morning
    ]
    for seen in all_seen(roster, site.clock.now() - _TAKEN_ON):
        found.append(FollowedStatus(seen.alert, _subject(seen.message), None, seen.at, seen.who, seen.note))
    firsts = dict[tuple[object, ...], FollowedStatus]()
    for line in sorted(found, key=lambda each: each.alert):
        firsts.setdefault((line.subject, line.seen_at), line)
    return list(firsts.values())


def _subject(message: str | None) -> str:
    try:
        return plain(str(json.loads(message or "{}")["subject"]))
    except (ValueError, KeyError, TypeError):
        return "not worded yet"


def _roster(site: Site, roster: Roster, devices: Sequence[Device], looked: Looked) -> RosterStatus:
    path = site.folder / FILE
    changes = latest_changes(roster, 1)
    written = [each.at for each in changes] + [ended for ended, _ in looked.values() if ended is not None]
    copy = latest_copy(path)
    return RosterStatus(
        path=str(path),
        octets=sum(_octets(path.with_name(FILE + tail)) for tail in ("", "-wal")),
        devices=len(devices),
        present=sum(each.present for each in devices),
        new=sum(each.standing == "new" for each in devices),
        changed_at=max(written, default=None),
        copied_at=copy[0] if copy is not None else None,
        copy_octets=copy[1] if copy is not None else None,
        damaged=tuple(sorted(each.name for each in site.folder.glob(f"{FILE}.damaged-*[0-9]"))),
    )


def _octets(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _listing(site: Site) -> ListingStatus | None:
    """Return the oldest part of the listing of vendors; None if there is none."""
    ages = listing_ages(site.folder, site.clock.local(site.clock.now()).date())
    oldest = max(ages, key=lambda each: each.days, default=None)
    return ListingStatus(oldest.as_of, oldest.days) if oldest is not None else None


def _free(folder: Path) -> int | None:
    """Return how many octets the disk has left for this account; None if that cannot be seen."""
    try:
        return shutil.disk_usage(folder if folder.exists() else os.curdir).free
    except OSError:
        return None
