"""Modes, entries and the sheet: the rules of wireless/ applied to the roster, each change in one transaction."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from scopion.model.device import Device
from scopion.model.errors import InvalidMacAddress, NotFound, Refused
from scopion.model.mac import MacAddress
from scopion.model.text import entered, joined
from scopion.operations.card import habits
from scopion.operations.change import change
from scopion.operations.lockout import list_lines, own_interfaces, refuse_switched_on_lockout
from scopion.operations.site import Site
from scopion.operations.wifi_networks import NetworkSettings, new_network, with_settings
from scopion.roster import lists
from scopion.roster.devices import all_devices
from scopion.roster.lists import Entry, ListMode, Network
from scopion.roster.resolve import resolve
from scopion.roster.store import Roster
from scopion.wireless.coverage import Line, caution_about, lines_of, of_unknown_medium
from scopion.wireless.refusals import (
    consequence,
    refuse_cable_only,
    refuse_denying,
    refuse_denying_own,
    refuse_more_than_fits,
    require_single_address,
)
from scopion.wireless.sheet import sheet


@dataclass(frozen=True, slots=True)
class Listed:
    """What became of putting devices on a list."""

    network: Network
    created: bool
    names: list[str]  # who was put on the list
    moved: list[str]  # who was on the other list before
    cautions: list[str]
    lines: list[Line]


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
    ssid: str,
    which: ListMode,
    subjects: Sequence[str],
    *,
    description: str = "",
    settings: NetworkSettings | None = None,
    insist: bool = False,
) -> Listed:
    """Put devices or bare MACs on a network's allow or deny list; all of them or none."""
    text = entered(description, "a description")
    with change(site, "wifi") as (roster, described):
        devices = all_devices(roster)
        existing = lists.find_network(roster, ssid)
        network = with_settings(existing or new_network(site, ssid), settings)
        lists.save_network(roster, network)
        chosen = [_subject(devices, each) for each in subjects]
        moved, cautions = [], []
        for subject in chosen:
            cautions += _checked(site, subject, ssid, which, insist)
            if subject.device is not None:
                cautions += _of_private(roster, devices, subject.device, which)
            before = lists.drop_entries(roster, ssid, subject.keys)
            if any(entry.list is not which for entry in before):
                moved.append(subject.name)
            kept = text or next((entry.description for entry in before if entry.description), "")
            lists.add_entry(roster, ssid, which, subject.keys[0], kept, site.clock.now())
        lines = list_lines(roster, ssid, which, devices)
        refuse_more_than_fits(network, lines)
        if not insist:
            refuse_switched_on_lockout(site, network, roster, devices)
        described.says = f"{joined([subject.name for subject in chosen])} on the {which} list of {ssid!r}"
        return Listed(network, existing is None, [subject.name for subject in chosen], moved, cautions, lines)


def drop_from_lists(site: Site, ssid: str, subjects: Sequence[str], *, insist: bool = False) -> list[str]:
    """Take devices or bare MACs off a network's lists; all of them or none. Returns their names."""
    with change(site, "wifi") as (roster, described):
        network = lists.network(roster, ssid)
        devices = all_devices(roster)
        chosen = [_subject(devices, each) for each in subjects]
        for subject in chosen:
            if not lists.drop_entries(roster, ssid, subject.keys):
                raise NotFound(f"{subject.name} is on no list of {ssid!r}: see scopion wifi entries")
        if not insist:
            refuse_switched_on_lockout(site, network, roster, devices)
        names = [subject.name for subject in chosen]
        described.says = f"{joined(names)} off the lists of {ssid!r}"
        return names


def set_mode(
    site: Site, ssid: str, mode: ListMode | None, settings: NetworkSettings | None, *, insist: bool = False
) -> tuple[Network, str]:
    """Change a network's mode or settings. Returns it, and what that means in one sentence."""
    with change(site, "wifi") as (roster, described):
        network = with_settings(lists.network(roster, ssid), settings)
        network = replace(network, mode=mode or network.mode)
        devices = all_devices(roster)
        lines = list_lines(roster, ssid, network.mode, devices)
        refuse_more_than_fits(network, lines)
        if not insist:
            refuse_switched_on_lockout(site, network, roster, devices)
        lists.save_network(roster, network)
        described.says = f"mode {network.mode} or other settings of {ssid!r}"
        return network, consequence(network, network.mode, lines)


def entries(site: Site, ssid: str | None = None) -> list[ListedEntry]:
    """The entries of one network, or everything that is refused anywhere."""
    roster = site.roster_for_reading()
    if roster is None and ssid is None:
        return []
    if roster is None or (ssid is not None and lists.find_network(roster, ssid) is None):
        raise lists.no_network(ssid)
    known = {each.ssid: each for each in lists.all_networks(roster)}
    devices = {device.id: device for device in all_devices(roster)}
    of_mac = {mac: device for device in devices.values() for mac in device.macs}
    found = []
    for entry in lists.all_entries(roster, ssid):
        if ssid is None and entry.list is not ListMode.DENY:
            continue
        lines = lines_of([entry], entry.list, devices, of_mac)
        device = devices.get(entry.device_id) if entry.device_id is not None else of_mac.get(lines[0].mac)
        name = device.called if device and (device.label or device.own or device.gateway) else ""
        network = known[entry.ssid]
        macs = tuple(line.mac for line in lines)
        found.append(ListedEntry(entry, network, name, macs, network.mode is entry.list))
    return found


def make_sheet(site: Site, ssid: str) -> str:
    """The steps for the router's web page. Raises NotFound, or Refused for an allow list that admits nobody."""
    roster = site.roster_for_reading()
    if roster is None:
        raise lists.no_network(ssid)
    network = lists.network(roster, ssid)
    lines = list_lines(roster, ssid, network.mode, all_devices(roster))
    if network.mode is ListMode.ALLOW and not lines:
        raise Refused(f"the allow list of {ssid!r} is empty: a sheet for it would lock everybody out")
    made = site.clock.local(site.clock.now()).strftime("%Y-%m-%d %H:%M")
    return sheet(network, lines, made)


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


def _checked(site: Site, subject: _Subject, ssid: str, which: ListMode, insist: bool) -> list[str]:
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
    return told
