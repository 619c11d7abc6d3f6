"""Wireless networks, modes, entries and the sheet: the rules of wireless/ applied to the roster, in one transaction."""

from __future__ import annotations

import ipaddress
import re
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace

from scopion.model.device import Device
from scopion.model.errors import InvalidMacAddress, NotFound, Refused, ScopionError, UsageError
from scopion.model.mac import MacAddress, Notation
from scopion.model.observation import Medium
from scopion.model.text import clean, entered, joined
from scopion.operations.site import Site
from scopion.roster import lists
from scopion.roster.devices import all_devices
from scopion.roster.lists import Entry, ListMode, Network
from scopion.roster.resolve import resolve
from scopion.roster.scans import known_subnets
from scopion.roster.store import Roster
from scopion.wireless.coverage import Line, caution_about, lines_of, of_unknown_medium
from scopion.wireless.refusals import (
    consequence,
    refuse_cable_only,
    refuse_denying,
    refuse_lockout,
    refuse_more_than_fits,
    require_single_address,
)
from scopion.wireless.sheet import sheet

RADIOS = ("2.4", "5", "6")  # GHz
MAX_SSID_OCTETS = 32  # IEEE Std 802.11-2020, 9.4.2.2
_ROUTER = re.compile(r"(?:https?://)?[\w.-]+(?::\d{1,5})?(?:/[\w./~%-]*)?", re.ASCII)


@dataclass(frozen=True, slots=True)
class NetworkSettings:
    """What is asked about a network when it is made; None: as it is, or the default."""

    notation: Notation | None = None
    capacity: int | None = None
    radios: tuple[str, ...] | None = None
    router: str | None = None


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


def networks(site: Site) -> list[tuple[Network, int, int]]:
    """Every network with the number of its allow and deny entries."""
    roster = site.roster_for_reading()
    if roster is None:
        return []
    entries = lists.all_entries(roster)
    counts = Counter((entry.ssid, entry.list) for entry in entries)
    return [
        (each, counts[each.ssid, ListMode.ALLOW], counts[each.ssid, ListMode.DENY])
        for each in lists.all_networks(roster)
    ]


def default_settings(site: Site) -> NetworkSettings:
    """What a new network gets where nothing is said: the gateway as router, two radios, colons."""
    roster = site.roster_for_reading()
    gateways = [str(each.gateway) for each in known_subnets(roster) if each.gateway] if roster else []
    return NetworkSettings(Notation.COLON, None, ("2.4", "5"), gateways[0] if gateways else "")


def is_known(site: Site, ssid: str) -> bool:
    """Whether a network has been made."""
    roster = site.roster_for_reading()
    return roster is not None and any(each.ssid == ssid for each in lists.all_networks(roster))


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
    roster, now = site.roster, site.clock.now()
    with roster.transaction():
        devices = all_devices(roster)
        existing = _existing(roster, ssid)
        network = _with_settings(existing or _new_network(site, ssid), settings)
        lists.save_network(roster, network)
        before = {_subject_of(entry): entry for entry in lists.all_entries(roster, ssid)}
        names, moved, cautions = [], [], []
        for text in subjects:
            device, mac = _device_or_mac(devices, text)
            if device is not None:
                _check_device(device, ssid, which, insist)
                cautions += _cautions(device)
            elif mac is not None:
                require_single_address(mac)
                cautions += [f"{mac}: {caution}" for caution in [caution_about(mac)] if caution]
            subject = device.id if device else mac
            assert subject is not None
            old = before.get(subject)
            name = device.called if device else str(mac)
            if old is not None and old.list is not which:
                moved.append(name)
            names.append(name)
            kept = entered(description, "a description") or (old.description if old else "")
            lists.add_entry(roster, ssid, which, subject, kept, now)
        lines = _lines(roster, ssid, which, devices)
        refuse_more_than_fits(network, lines)
        _refuse_switched_on_lockout(site, network, roster, devices, insist)
        return Listed(network, existing is None, names, moved, cautions, lines)


def drop_from_lists(site: Site, ssid: str, subjects: Sequence[str], *, insist: bool = False) -> list[str]:
    """Take devices or bare MACs off a network's lists; all of them or none. Returns their names."""
    roster = site.roster
    with roster.transaction():
        network = lists.network(roster, ssid)
        devices = all_devices(roster)
        names = []
        for text in subjects:
            device, mac = _device_or_mac(devices, text)
            name = device.called if device else str(mac)
            ids: list[int | MacAddress] = [device.id, *device.macs] if device else [mac] if mac else []
            if not [subject for subject in ids if lists.drop_entry(roster, ssid, subject)]:
                raise NotFound(f"{name} is on no list of {ssid!r}: see scopion wifi entries")
            names.append(name)
        _refuse_switched_on_lockout(site, network, roster, devices, insist)
        return names


def set_mode(
    site: Site, ssid: str, mode: ListMode | None, settings: NetworkSettings | None, *, insist: bool = False
) -> tuple[Network, str]:
    """Change a network's mode or settings. Returns it, and what that means in one sentence."""
    roster = site.roster
    with roster.transaction():
        network = _with_settings(lists.network(roster, ssid), settings)
        network = replace(network, mode=mode or network.mode)
        devices = all_devices(roster)
        lines = _lines(roster, ssid, network.mode, devices)
        refuse_more_than_fits(network, lines)
        _refuse_switched_on_lockout(site, network, roster, devices, insist)
        lists.save_network(roster, network)
        return network, consequence(network, network.mode, lines)


def entries(site: Site, ssid: str | None = None) -> list[ListedEntry]:
    """The entries of one network, or everything that is refused anywhere."""
    roster = site.roster_for_reading()
    if roster is None:
        if ssid is not None:
            raise NotFound(f"no wireless network {ssid!r} is known: scopion wifi allow or deny makes it")
        return []
    known = {each.ssid: each for each in lists.all_networks(roster)}
    if ssid is not None:
        lists.network(roster, ssid)
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
        raise NotFound(f"no wireless network {ssid!r} is known: scopion wifi allow or deny makes it")
    network = lists.network(roster, ssid)
    lines = _lines(roster, ssid, network.mode, all_devices(roster))
    if network.mode is ListMode.ALLOW and not lines:
        raise Refused(f"the allow list of {ssid!r} is empty: a sheet for it would lock everybody out")
    made = site.clock.local(site.clock.now()).strftime("%Y-%m-%d %H:%M")
    return sheet(network, lines, made)


def _existing(roster: Roster, ssid: str) -> Network | None:
    return next((each for each in lists.all_networks(roster) if each.ssid == ssid), None)


def _new_network(site: Site, ssid: str) -> Network:
    if clean(ssid) != ssid or not ssid or len(ssid.encode()) > MAX_SSID_OCTETS:
        raise UsageError(
            f"{clean(ssid)!r} cannot be an SSID: it has 1 to {MAX_SSID_OCTETS} octets, no control characters and no "
            "blanks at its ends"
        )
    default = default_settings(site)
    return Network(
        ssid=ssid,
        mode=ListMode.OFF,
        notation=default.notation or Notation.COLON,
        capacity=None,
        radios=default.radios or ("2.4", "5"),
        router=default.router or "",
        since=site.clock.now(),
    )


def _with_settings(network: Network, settings: NetworkSettings | None) -> Network:
    if settings is None:
        return network
    if settings.capacity is not None and not 1 <= settings.capacity <= 100_000:
        raise UsageError(f"a router cannot hold {settings.capacity} entries: give what its page says, 1 or more")
    if settings.router and not _is_page(settings.router):
        raise UsageError(f"{clean(settings.router)!r} is not a router's address: write 192.0.2.1 or http://192.0.2.1/")
    return replace(
        network,
        notation=settings.notation or network.notation,
        capacity=network.capacity if settings.capacity is None else settings.capacity,
        radios=settings.radios or network.radios,
        router=network.router if settings.router is None else settings.router,
    )


def _is_page(text: str) -> bool:
    if not _ROUTER.fullmatch(text):
        return False
    host = re.sub(r"^https?://", "", text).split("/")[0].split(":")[0]
    if re.fullmatch(r"[\d.]+", host):
        with suppress(ValueError):
            ipaddress.IPv4Address(host)
            return True
        return False
    return True


def _device_or_mac(devices: Sequence[Device], text: str) -> tuple[Device | None, MacAddress | None]:
    """The device that is meant; a whole MAC address that no device has stands for itself."""
    try:
        return resolve(devices, text), None
    except NotFound:
        try:
            return None, MacAddress.parse(text)
        except InvalidMacAddress:
            pass
        raise


def _check_device(device: Device, ssid: str, which: ListMode, insist: bool) -> None:
    if which is ListMode.DENY and not insist:
        refuse_denying(ssid, device)
    refuse_cable_only(device)


def _cautions(device: Device) -> list[str]:
    told = [f"{device.called}: {mac} is {caution_about(mac)}" for mac in device.macs if caution_about(mac)]
    unknown = joined([str(mac) for mac in of_unknown_medium(device)])
    if unknown:
        whose = f" of {device.called}" if device.label else ""
        told.append(
            f"whether {unknown} is the wireless adapter{whose} is not known: a device with a socket for a cable has "
            "another one for Wi-Fi"
        )
    return told


def _lines(roster: Roster, ssid: str, which: ListMode, devices: Sequence[Device]) -> list[Line]:
    of_mac = {mac: device for device in devices for mac in device.macs}
    return lines_of(lists.all_entries(roster, ssid), which, {device.id: device for device in devices}, of_mac)


def _subject_of(entry: Entry) -> int | MacAddress | None:
    return entry.device_id if entry.device_id is not None else entry.mac


def _refuse_switched_on_lockout(
    site: Site, network: Network, roster: Roster, devices: Sequence[Device], insist: bool
) -> None:
    if network.mode is ListMode.ALLOW and not insist:
        lines = _lines(roster, network.ssid, ListMode.ALLOW, devices)
        refuse_lockout(network, lines, _own_wireless(site, devices))


def _own_wireless(site: Site, devices: Sequence[Device]) -> set[MacAddress]:
    """This machine's wireless adapters that are in use: as the system tells, else as the roster remembers."""
    try:
        interfaces = site.attachment.interfaces()
    except ScopionError:  # no live network here, or it is locked: what is remembered has to do
        adapters = [adapter for device in devices if device.own for adapter in device.adapters]
        return {adapter.mac for adapter in adapters if adapter.medium is Medium.WIRELESS}
    return {each.mac for each in interfaces if each.mac and each.up and each.medium is Medium.WIRELESS}
