"""What entries are about - devices, bare addresses, whole groups - and what to be careful of before each is listed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from scopion.model.device import Device, Standing
from scopion.model.errors import InvalidMacAddress, NotFound
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.model.text import counted, joined
from scopion.operations.devices.gather_card import habits, likeliest
from scopion.operations.devices.identify_device import described
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.load_policy import own_interfaces
from scopion.operations.wifi.open_enforcers import read_stations, remember_stations
from scopion.roster.read_devices import all_devices
from scopion.roster.resolve import resolve
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.associations import networks_of
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.coverage import caution_about, covered_adapters, of_unknown_medium
from scopion.wireless.find_on_device import PHONE
from scopion.wireless.refusals import (
    addresses_behind,
    refuse_cable_only,
    refuse_denying,
    refuse_denying_own,
    require_single_address,
)

_NAMED_AT_MOST = 4


@dataclass(frozen=True, slots=True)
class Subject:
    """What an entry is about: a device, or a MAC address that no device has."""

    device: Device | None
    mac: MacAddress | None
    name: str

    @property
    def keys(self) -> list[int | MacAddress]:
        """Return the keys of its entries: a device's number first, then its bare MACs from before it was known."""
        return [self.device.id, *self.device.macs] if self.device else [self.mac] if self.mac else []


def subject_of(devices: Sequence[Device], text: str) -> Subject:
    """Return the device that is meant; a whole MAC address that no device has stands for itself."""
    try:
        device = resolve(devices, text)
    except NotFound:
        try:
            mac = MacAddress.parse(text)
        except InvalidMacAddress:
            mac = None
        if mac is None:
            raise
        return Subject(None, mac, str(mac))
    return Subject(device, None, device.called)


def require_subject(site: Site, text: str) -> None:
    """Raise NotFound or AmbiguousDevice if no device, or several, can be meant."""
    subject_of(all_devices(site.roster_for_reading()), text)


def unique(chosen: Sequence[Subject]) -> list[Subject]:
    """Return each once."""
    return list({each.keys[0]: each for each in chosen}.values())


def named(chosen: Sequence[Subject]) -> str:
    """Return their names for a sentence."""
    return joined([each.name for each in chosen]) if len(chosen) <= 3 else counted(len(chosen), "device")


def subject_keys(devices: Sequence[Device], which: str) -> tuple[str, int | MacAddress]:
    """Return the name of a device, and the key of its entry. Raises NotFound, AmbiguousDevice."""
    found = subject_of(devices, which)
    return found.name, found.keys[0]


def all_known(site: Site, ssid: str) -> tuple[list[str], list[str]]:
    """Return the devices for an allow list of all known ones, by MAC, and the names of those left out.

    They are known or guests, and not on cable. Once a network's access points were read, devices of unknown medium are
    left out.
    """
    roster = site.roster_for_reading()
    devices = all_devices(roster)
    read = ssid in networks_of(roster).values()
    wanted = [
        device
        for device in devices
        if covered_adapters(device)
        and (device.own or device.essential or device.standing in (Standing.KNOWN, Standing.GUEST))
    ]
    sure = [each for each in wanted if any(adapter.medium is Medium.WIRELESS for adapter in each.adapters)]
    chosen = sure if read else wanted
    if not chosen:
        raise NotFound("no device is marked known yet: use scopion mark DEVICE... known, or scopion review")
    left = [each.called for each in wanted if each not in chosen]
    return [str(each.macs[0]) for each in chosen], left


def associated(site: Site, ssid: str) -> list[str]:
    """Return all devices that are associated with a network now, by MAC. Raises NotFound if none is, or it cannot be
    read.
    """
    found, unread = read_stations(site, ssid)
    if found:
        remember_stations(site, found)
        return [str(each.station.mac) for each in found]
    why = (
        f": {unread[0].enforcer}, {unread[0].problem}"
        if unread
        else ": copy the router's list of wireless clients into scopion import -"
    )
    raise NotFound(f"no device is known to be associated with {ssid!r}{why}")


def unknown_media(site: Site, subjects: Sequence[str]) -> list[tuple[Device, MacAddress]]:
    """Return the adapters of some devices whose medium is not known."""
    devices = all_devices(site.roster_for_reading())
    chosen = [subject_of(devices, each).device for each in subjects]
    return [(device, mac) for device in dict.fromkeys(filter(None, chosen)) for mac in of_unknown_medium(device)]


def checked(
    site: Site,
    roster: Roster,
    devices: Sequence[Device],
    subject: Subject,
    ssid: str,
    which: ListMode,
    insist: bool,
) -> list[str]:
    """Return what to be careful about. Raises Refused or UsageError for what should not, or cannot, be listed."""
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
    if which is ListMode.ALLOW and (behind := addresses_behind(device)):
        told.append(f"{device.called} answers for {behind} addresses: every device behind it is admitted with it")
    return [*told, *_of_private(roster, devices, device, which), *_of_look_alike(roster, devices, device, which)]


def kinds_in_doubt(site: Site, chosen: Sequence[Subject]) -> list[str]:
    """Return the kinds of the devices whose wireless address a person had better check on the device; empty: unknown.

    These are addresses that no device of the roster has, private ones, and those of an unknown medium.
    """
    found = []
    for each in chosen:
        if each.mac is not None:
            found.append(PHONE if each.mac.is_private else "")
        elif each.device is not None and (
            of_unknown_medium(each.device) or any(mac.is_private for mac in each.device.macs)
        ):
            found.append(described(each.device, site.vendors, site.kinds).guess.kind)
    return list(dict.fromkeys(found))


def of_unknown_media(chosen: Sequence[Subject]) -> list[str]:
    """Return one caution for all devices whose wireless adapter is not known."""
    unknown = {each.device: of_unknown_medium(each.device) for each in chosen if each.device is not None}
    doubtful = [device for device, macs in unknown.items() if macs]
    if not doubtful:
        return []
    if len(doubtful) == 1:
        (device,) = doubtful
        whose = f" of {device.called}" if device.label else ""
        what = f"whether {joined([str(mac) for mac in unknown[device]])} is the wireless adapter{whose} is not known"
    elif len(doubtful) <= _NAMED_AT_MOST:
        named_all = joined([device.called for device in doubtful])
        what = f"of {named_all} it is not known whether their addresses are those of the wireless adapters"
    else:
        what = f"of {len(doubtful)} devices it is not known whether their addresses are those of the wireless adapters"
    return [f"{what}: a device with a socket for a cable has another one for Wi-Fi"]


def _of_private(roster: Roster, devices: Sequence[Device], device: Device, which: ListMode) -> list[str]:
    """Return what to know of a private address before it is listed; one that was seen to stay needs no caution."""
    told = []
    for each in habits(roster, devices, device):
        if each.advice:
            then = each.advice if which is ListMode.ALLOW else "it may come back under another address"
            told.append(
                f"{device.called}: {each.mac} is a private address that may change, {each.habit} ({each.why}): {then}"
            )
    return told


def _of_look_alike(roster: Roster, devices: Sequence[Device], device: Device, which: ListMode) -> list[str]:
    """Return that the same device may be known under another address, which this entry does not cover."""
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
