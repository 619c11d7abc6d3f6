"""Entries on the lists of wireless networks: the rules of wireless/ applied to the roster, each change in one step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from scopion.model.device import Device, Standing
from scopion.model.errors import InvalidMacAddress, NotFound, UsageError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.model.text import counted, entered, joined
from scopion.operations.card import habits, likeliest
from scopion.operations.change import account, change
from scopion.operations.enforcing import read_stations, remember_stations
from scopion.operations.policies import (
    lines_on,
    own_interfaces,
    policy_for,
    refuse_switched_on_lockout,
    refuse_too_long,
)
from scopion.operations.site import Site
from scopion.operations.wifi_networks import NetworkSettings, new_network, with_settings
from scopion.roster import lists
from scopion.roster.associations import networks_of
from scopion.roster.devices import all_devices, set_media
from scopion.roster.lists import Entry, EntryTerms, ListMode, Network
from scopion.roster.resolve import resolve
from scopion.roster.store import Roster
from scopion.roster.timetables import stored_hours
from scopion.wireless.coverage import Line, caution_about, covered_adapters, of_unknown_medium
from scopion.wireless.policy import lines_of_subject
from scopion.wireless.refusals import (
    addresses_behind,
    refuse_cable_only,
    refuse_denying,
    refuse_denying_own,
    require_single_address,
)

ALWAYS = "always"  # hours that are none
NEVER = "never"  # an end that is none


@dataclass(frozen=True, slots=True)
class Terms:
    """On what terms devices are put on a list; None: as the entry has it, or the default."""

    description: str = ""
    hours: str | None = None
    until: datetime | str | None = None
    paused: bool | None = None


@dataclass(frozen=True, slots=True)
class Listed:
    """What became of putting devices on a network's list."""

    network: Network
    created: bool
    names: list[str]  # who was put on the list
    moved: list[str]  # who was on the other list before
    cautions: list[str]
    lines: tuple[Line, ...]


@dataclass(frozen=True, slots=True)
class ListedEntry:
    """An entry with what the roster knows, for showing."""

    entry: Entry
    network: Network
    name: str
    macs: tuple[MacAddress, ...]
    in_effect: bool


def put_on_list(
    site: Site,
    ssids: Sequence[str],
    which: ListMode,
    subjects: Sequence[str],
    *,
    terms: Terms | None = None,
    settings: NetworkSettings | None = None,
    insist: bool = False,
) -> list[Listed]:
    """Put devices or bare MACs on the allow or deny list of networks; all of them or none."""
    given = terms or Terms()
    text = entered(given.description, "a description")
    if isinstance(given.until, datetime) and given.until <= site.clock.now():
        raise UsageError("an entry ends later than now")
    with change(site, "wifi") as (roster, described):
        devices = all_devices(roster)
        chosen = _unique([_subject(devices, each) for each in subjects])
        hours = stored_hours(roster, given.hours) if given.hours and given.hours != ALWAYS else given.hours
        whole = replace(given, description=text, hours=hours)
        listed = [
            _put(site, roster, devices, ssid, which, chosen, whole, settings, insist) for ssid in dict.fromkeys(ssids)
        ]
        named = _named(chosen)
        described.says = f"{named} on the {which} list of {joined([repr(each.network.ssid) for each in listed])}"
        return listed


def _put(
    site: Site,
    roster: Roster,
    devices: Sequence[Device],
    ssid: str,
    which: ListMode,
    chosen: Sequence[_Subject],
    terms: Terms,
    settings: NetworkSettings | None,
    insist: bool,
) -> Listed:
    existing = lists.find_network(roster, ssid)
    network = with_settings(existing or new_network(site, ssid), settings)
    lists.save_network(roster, network)
    moved, cautions = [], []
    for subject in chosen:
        cautions += _checked(site, roster, devices, subject, ssid, which, insist)
        before = lists.drop_entries(roster, network.lists, subject.keys)
        if any(entry.list is not which for entry in before):
            moved.append(subject.name)
        kept = _kept_terms(terms, before, which)
        lists.add_entry(roster, network.lists, which, subject.keys[0], site.clock.now(), kept)
    refuse_too_long(site, network, roster, devices, which)
    if not insist:
        refuse_switched_on_lockout(site, network, roster, devices)
    lines = lines_on(policy_for(roster, network, devices), which)
    return Listed(network, existing is None, [each.name for each in chosen], moved, cautions, lines)


def _kept_terms(terms: Terms, before: Sequence[Entry], which: ListMode) -> EntryTerms:
    """The terms of an entry: what is not given stays as it was, if it was on this list."""
    was = next((entry for entry in before if entry.list is which), None)
    hours = terms.hours if terms.hours is not None else was.hours if was else ""
    until = terms.until if terms.until is not None else was.until if was else None
    description = terms.description or next((each.description for each in before if each.description), "")
    paused = terms.paused if terms.paused is not None else was.paused if was else False
    return EntryTerms(
        description,
        "" if hours == ALWAYS else hours,
        until if isinstance(until, datetime) else None,
        paused,
        account(),
    )


def drop_from_lists(site: Site, ssid: str, subjects: Sequence[str], *, insist: bool = False) -> list[str]:
    """Take devices or bare MACs off a network's lists; all of them or none. Returns their names."""
    with change(site, "wifi") as (roster, described):
        network = lists.network(roster, ssid)
        devices = all_devices(roster)
        chosen = _unique([_subject(devices, each) for each in subjects])
        for subject in chosen:
            if not lists.drop_entries(roster, network.lists, subject.keys):
                raise NotFound(f"{subject.name} is on no list of {ssid!r}: see scopion wifi entries")
        if not insist:
            refuse_switched_on_lockout(site, network, roster, devices)
        described.says = f"{_named(chosen)} off the lists of {ssid!r}"
        return [subject.name for subject in chosen]


def lift_refusals(site: Site, which: str) -> list[Network]:
    """Take a device off every deny list; the networks on which it was refused. Raises NotFound if it was on none."""
    with change(site, "wifi") as (roster, described):
        devices = all_devices(roster)
        subject = _subject(devices, which)
        known = {each.ssid: each for each in lists.all_networks(roster)}
        denied = [
            entry
            for entry in lists.all_entries(roster)
            if entry.list is ListMode.DENY and entry.subject in subject.keys
        ]
        if not denied:
            raise NotFound(f"{subject.name} is on no deny list: see scopion wifi entries")
        for ssid in {entry.ssid for entry in denied}:
            lists.drop_entries(roster, ssid, subject.keys)
        described.says = f"{subject.name} off all deny lists"
        return [each for each in known.values() if each.lists in {entry.ssid for entry in denied}]


def entries(site: Site, ssid: str | None = None) -> list[ListedEntry]:
    """The entries of one network, or everything that is refused anywhere."""
    roster = site.roster_for_reading()
    if roster is None and ssid is None:
        return []
    if roster is None or (ssid is not None and lists.find_network(roster, ssid) is None):
        raise lists.no_network(ssid)
    devices = all_devices(roster)
    by_id = {device.id: device for device in devices}
    of_mac = {mac: device for device in devices for mac in device.macs}
    found = []
    for network in lists.all_networks(roster):
        if ssid not in (None, network.ssid):
            continue
        policy = policy_for(roster, network, devices)
        now = site.clock.now()
        for entry in lists.all_entries(roster, network.lists):
            if ssid is None and entry.list is not ListMode.DENY:
                continue
            covered = lines_of_subject(entry.subject, entry.description, by_id, of_mac)
            device = by_id.get(entry.device_id) if entry.device_id is not None else of_mac.get(covered[0].mac)
            name = device.called if device and (device.label or device.own or device.gateway) else ""
            over = entry.until is not None and entry.until <= now
            in_effect = policy.mode is entry.list and not entry.paused and not over
            found.append(ListedEntry(entry, network, name, tuple(line.mac for line in covered), in_effect))
    return found


def all_known(site: Site, ssid: str) -> tuple[list[str], list[str]]:
    """Everybody whom an allow list of all known devices has, by MAC, and the names of those who were left out.

    Known and guests, not on cable. Once a network's access points were read, those of whom nobody knows whether they
    are on the air are left out.
    """
    roster = site.roster_for_reading()
    devices = all_devices(roster) if roster is not None else []
    read = roster is not None and ssid in networks_of(roster).values()
    wanted = [
        device
        for device in devices
        if covered_adapters(device)
        and (device.own or device.essential or device.standing in (Standing.KNOWN, Standing.GUEST))
    ]
    sure = [each for each in wanted if any(adapter.medium is Medium.WIRELESS for adapter in each.adapters)]
    chosen = sure if read else wanted
    if not chosen:
        raise NotFound("nobody is known yet: scopion mark DEVICE... known, or scopion review, says who is")
    left = [each.called for each in wanted if each not in chosen]
    return [str(each.macs[0]) for each in chosen], left


def associated(site: Site, ssid: str) -> list[str]:
    """Everybody who is associated with a network now, by MAC. Raises NotFound if nobody is, or nobody can tell."""
    found, unread = read_stations(site, ssid)
    if found:
        remember_stations(site.roster, found)
        return [str(each.station.mac) for each in found]
    why = f": {unread[0].enforcer} was not read, {unread[0].problem}" if unread else ""
    raise NotFound(f"nobody is known to be associated with {ssid!r}{why}")


def unknown_media(site: Site, subjects: Sequence[str]) -> list[tuple[Device, MacAddress]]:
    """The adapters among some devices of which nobody knows whether they are wireless."""
    roster = site.roster_for_reading()
    devices = all_devices(roster) if roster is not None else []
    chosen = [_subject(devices, each).device for each in subjects]
    return [(device, mac) for device in dict.fromkeys(filter(None, chosen)) for mac in of_unknown_medium(device)]


def say_media(site: Site, media: dict[MacAddress, Medium]) -> None:
    """Note what adapters are connected by, as somebody says."""
    with change(site, "wifi", f"the medium of {counted(len(media), 'adapter')}") as (roster, _):
        set_media(roster, dict(media))


@dataclass(frozen=True, slots=True)
class _Subject:
    """Whom an entry is about: a device, or a MAC address that no device has."""

    device: Device | None
    mac: MacAddress | None
    name: str

    @property
    def keys(self) -> list[int | MacAddress]:
        """Under what its entries may stand: a device's number first, then its bare MACs from before it was known."""
        return [self.device.id, *self.device.macs] if self.device else [self.mac] if self.mac else []


def subject_keys(devices: Sequence[Device], which: str) -> tuple[str, int | MacAddress]:
    """What somebody is called, and under what an entry of it stands. Raises NotFound, AmbiguousDevice."""
    found = _subject(devices, which)
    return found.name, found.keys[0]


def _subject(devices: Sequence[Device], text: str) -> _Subject:
    """The device that is meant; a whole MAC address that no device has stands for itself."""
    try:
        device = resolve(devices, text)
    except NotFound:
        try:
            mac = MacAddress.parse(text)
        except InvalidMacAddress:
            mac = None
        if mac is None:
            raise
        return _Subject(None, mac, str(mac))
    return _Subject(device, None, device.called)


def _unique(chosen: Sequence[_Subject]) -> list[_Subject]:
    return list({each.keys[0]: each for each in chosen}.values())


def _named(chosen: Sequence[_Subject]) -> str:
    return joined([each.name for each in chosen]) if len(chosen) <= 3 else counted(len(chosen), "device")


def _checked(
    site: Site,
    roster: Roster,
    devices: Sequence[Device],
    subject: _Subject,
    ssid: str,
    which: ListMode,
    insist: bool,
) -> list[str]:
    """What to be careful about. Raises Refused or UsageError for what should not, or cannot, be listed."""
    device = subject.device
    if device is None:
        assert subject.mac is not None
        require_single_address(subject.mac)
        if which is ListMode.DENY and not insist:
            refuse_denying_own(ssid, subject.mac, {each.mac for each in own_interfaces(site) or () if each.mac})
        caution = caution_about(subject.mac)
        return [f"{subject.mac} is {caution}"] if caution else []
    if which is ListMode.DENY and not insist:
        refuse_denying(ssid, device)
    refuse_cable_only(device)
    told = []
    unknown = joined([str(mac) for mac in of_unknown_medium(device)])
    if unknown:
        whose = f" of {device.called}" if device.label else ""
        told.append(
            f"whether {unknown} is the wireless adapter{whose} is not known: a device with a socket for a cable has "
            "another one for Wi-Fi"
        )
    if which is ListMode.ALLOW and (behind := addresses_behind(device)):
        told.append(f"{device.called} answers for {behind} addresses: everybody behind it is admitted with it")
    return [*told, *_of_private(roster, devices, device, which), *_of_look_alike(roster, devices, device, which)]


def _of_private(roster: Roster, devices: Sequence[Device], device: Device, which: ListMode) -> list[str]:
    """What to know of a private address before it is listed; one that was seen to stay needs no caution."""
    told = []
    for each in habits(roster, devices, device):
        if each.advice:
            then = each.advice if which is ListMode.ALLOW else "it may come back under another address"
            told.append(
                f"{device.called}: {each.mac} is a private address that may change, {each.habit} ({each.why}): {then}"
            )
    return told


def _of_look_alike(roster: Roster, devices: Sequence[Device], device: Device, which: ListMode) -> list[str]:
    """That the same thing may be known under another address, which this entry does not cover."""
    proposal = likeliest(roster, devices, device)
    if proposal is None:
        return []
    other = next(each for each in devices if each.id == proposal.other(device.id))
    effect = "admit" if which is ListMode.ALLOW else "refuse"
    return [
        f"{device.called} is {proposal.words} the same as {other.called}"
        + (f" ({other.macs[0]})" if other.macs and other.called != str(other.macs[0]) else "")
        + f", which this entry does not {effect}: scopion same joins them"
    ]
