"""Tells which devices are missed, and which of them are back: those that are essential, or that ``site.toml`` expects.

Whether a device is here is decided by scans and what is heard, with its patience. This says whether that is told: not
in hours in which it need not be here, not while a person has muted it, and once for one cause.
"""

from __future__ import annotations

from collections.abc import Container, Mapping, Sequence
from datetime import datetime, timedelta
from ipaddress import IPv4Network

from scopion.alerts.missing import AccessPoint, Expected, away_as_planned, back, expectation, missed
from scopion.model.device import Device, Event, EventKind
from scopion.model.mac import MacAddress
from scopion.operations.intake.patience import Patience
from scopion.operations.intake.take_in import TakenIn, recorded
from scopion.operations.site.open_site import Site
from scopion.roster.folding.note_missing import note_missing, note_missing_back, told_missing
from scopion.roster.mutes import Mute, mutes
from scopion.roster.read_devices import all_devices
from scopion.roster.scans import known_subnets
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.associations import Association, associations
from scopion.wireless.enforcer_settings import EnforcerSettings, PageSettings

# What an access point told of a device says where it was when it fell silent, if it is not older than this.
_FRESH = timedelta(minutes=15)


def tell_missing(site: Site, looked: Container[IPv4Network]) -> TakenIn:
    """Record and queue what is missed now, and what is back, in subnets that are looked at.

    Of others - this machine was carried away, or its cable is out - the roster knows only what was.
    """
    roster, now = site.roster, site.clock.now()
    if not anything_expected(site, roster):
        return TakenIn()
    devices, met = all_devices(roster), associations(roster)
    expected = [each for each in expected_devices(site, roster, devices, met) if each.subnet in looked]
    known = {each.device.id for each in expected}
    others = [_last_heard(site, each) for each in devices if not (each.present or each.own or each.id in known)]
    groups, returned = missed(expected, access_points(site, devices, met), now, others), back(expected)
    if not groups and not returned:
        return TakenIn()

    def note() -> list[Event]:
        events = list[Event]()
        for group in groups:
            silent = [(each.device, each.silent_since) for each in group.missing]
            events += note_missing(roster, silent, now, group.common, group.why)
        for each in returned:
            told = told_missing(roster, each.device.id)
            events += note_missing_back(roster, each.device, told, now) if told is not None else []
        return events

    return recorded(site, note)


def anything_expected(site: Site, roster: Roster) -> bool:
    """Tell whether any device is to be missed at all."""
    if any(each.devices for each in site.settings.expect):
        return True
    with roster.guarded():
        return roster.db.execute("SELECT 1 FROM device WHERE essential LIMIT 1").fetchone() is not None


def expected_devices(
    site: Site, roster: Roster, devices: Sequence[Device], met: Mapping[MacAddress, Association]
) -> list[Expected]:
    """Return the devices that must be here, with what is known of their silence and where they were ``met`` last."""
    now = site.clock.now()
    muted = mutes(roster, now)
    patience_by = {each.range: Patience(site, each.range) for each in known_subnets(roster)}
    found = []
    for device in devices:
        wanted = expectation(device, site.settings.expect)
        if wanted is None or not device.stays or not patience_by:
            continue
        # A device that has shown only an IPv6 address so far is taken for one of the first subnet.
        here = (each for stay in device.stays_in(roster.home) for each in patience_by if stay.address in each)
        subnet = next(here, next(iter(patience_by)))
        patience = patience_by[subnet](device)
        planned = _muted_until(site, muted, device, now)
        if not planned and away_as_planned(wanted, patience, now, site.clock.local):
            planned = "at this hour"
        told = told_missing(roster, device.id)
        at, point = told.at if told is not None else None, _access_point(device, met)
        found.append(Expected(device, _last_heard(site, device), patience, planned, point, at, subnet))
    return found


def _last_heard(site: Site, device: Device) -> datetime:
    if site.watch_state is None:
        return device.last_seen
    return site.watch_state.last_heard(device.last_seen, device.macs)


def _muted_until(site: Site, muted: Sequence[Mute], device: Device, now: datetime) -> str:
    """Return until when people want to hear nothing of a device; empty if they do."""
    until = max((each.until for each in muted if each.covers(device.id, EventKind.MISSING, now)), default=None)
    return f"until {site.clock.local(until):%a %H:%M}" if until is not None else ""


def _access_point(device: Device, met: Mapping[MacAddress, Association]) -> str:
    """Return the access point that a device was associated with when it was last seen."""
    last = max((met[mac] for mac in device.macs if mac in met), key=lambda each: each.seen, default=None)
    return last.access_point if last is not None and last.seen > device.last_seen - _FRESH else ""


def access_points(site: Site, devices: Sequence[Device], met: Mapping[MacAddress, Association]) -> list[AccessPoint]:
    """Return the access points whose own device is known: by the enforcer's name as its label, or by its address."""
    names: dict[int, set[str]] = {}
    home, place_of = site.roster_for_reading().home, {each.name: each.place for each in site.settings.sensor}
    for enforcer in site.settings.enforcer:
        known_by = {enforcer.name.casefold(), _host(enforcer)} - {""}
        place = place_of.get(enforcer.via, home)  # another place may use the very same addresses
        for device in devices:
            there = {str(stay.address) for stay in device.stays_in(place)} & set(map(str, device.addresses))
            if not device.own and known_by & {device.label.casefold(), *there}:
                names.setdefault(device.id, set()).add(enforcer.name)
                break
    found = []
    for device in devices:
        if device.id in names:
            since = _last_heard(site, device)
            on_it = [each for each in met.values() if each.access_point in names[device.id]]
            stations = sum(each.seen > since - _FRESH for each in on_it)
            found.append(AccessPoint(frozenset(names[device.id]), device, since, stations))
    return found


def _host(enforcer: EnforcerSettings) -> str:
    """Return the address or name by which an enforcer is reached; empty if it is this machine."""
    if enforcer.ssh is not None:
        return enforcer.ssh.host
    page = enforcer.page if isinstance(enforcer, PageSettings) else ""
    return page.removeprefix("http://").removeprefix("https://").partition("/")[0].partition(":")[0]
