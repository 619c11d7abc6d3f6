"""The policies of networks as the roster has them, and whether they lock out this machine or an essential device."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import timedelta

from scopion.attachment.ports import Interface
from scopion.model.device import Device
from scopion.model.errors import Refused, ScopionError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.operations.pages.held_by import pages_of
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import as_held
from scopion.roster.read_devices import all_devices
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi import lists
from scopion.roster.wifi.associations import networks_of
from scopion.roster.wifi.lists import ListMode, Network
from scopion.roster.wifi.timetables import timetables
from scopion.wireless.coverage import Line
from scopion.wireless.list_policy import ListPolicy, ListRule, policy_of, sorted_lines
from scopion.wireless.refusals import refuse_lockout, refuse_more_than_fits

# A device that was not seen for this long has probably gone for good, and takes a place on a full list.
STALE = timedelta(days=60)


def policy_for(roster: Roster, network: Network, devices: Sequence[Device] | None = None) -> ListPolicy:
    """Return what people decided for a network."""
    known = devices if devices is not None else all_devices(roster)
    entries = lists.all_entries(roster, network.lists)
    return policy_of(network, entries, known, timetables(roster), lists.exclusives(roster, network.ssid))


def rules_on(policy: ListPolicy, which: ListMode) -> list[ListRule]:
    """Return the rules of one list, each address once."""
    of_list = [rule for rule in policy.rules if rule.list is which]
    first = {rule.line.mac: rule for rule in reversed(of_list)}
    return [first[line.mac] for line in sorted_lines(rule.line for rule in of_list)]


def lines_on(policy: ListPolicy, which: ListMode) -> tuple[Line, ...]:
    """Return the lines of one list, whenever they hold."""
    return sorted_lines(rule.line for rule in policy.rules if rule.list is which)


def require_no_lockout(site: Site, roster: Roster) -> None:
    """Raise Refused if any network's allow list is on and lacks a device that must never be refused."""
    devices: list[Device] | None = None
    for network in lists.all_networks(roster):
        if network.mode is ListMode.ALLOW or network.others_hours:
            devices = devices if devices is not None else all_devices(roster)
            refuse_switched_on_lockout(site, network, roster, devices)


def refuse_where_only_denied(site: Site, network: Network) -> None:
    """Raise Refused if only listed devices may associate, now or at times, where a page can only deny."""
    allows = network.mode is ListMode.ALLOW or network.others_hours or network.only_until is not None
    if allows and not all(page.modes for page in pages_of(site, network.ssid)):
        raise only_denies(network.ssid)


def only_denies(ssid: str) -> Refused:
    """Return the error to raise when a page would need an allow list that it does not have."""
    return Refused(
        f"the page of {ssid!r} can only deny (modes = false in site.toml), so an allow list has no effect there"
    )


def refuse_switched_on_lockout(site: Site, network: Network, roster: Roster, devices: Sequence[Device]) -> None:
    """Raise Refused if an allow list is on, now or at some hours, and lacks a device that must never be refused."""
    if network.mode is not ListMode.ALLOW and not network.others_hours:
        return
    policy = policy_for(roster, network, devices)
    now = site.clock.now()
    always = [rule.line for rule in policy.rules if rule.list is ListMode.ALLOW and rule.always_holds(now)]
    essential = essential_on(roster, network.ssid, devices)
    refuse_lockout(
        network,
        always,
        own_on(site, roster, network.ssid, devices),
        essential,
        none=not lines_on(policy, ListMode.ALLOW),
    )


def refuse_exclusive_lockout(site: Site, network: Network, roster: Roster, devices: Sequence[Device]) -> None:
    """Raise Refused if the only devices of a network for a while lack one that must never be refused."""
    policy = policy_for(roster, network, devices)
    own = own_on(site, roster, network.ssid, devices)
    refuse_lockout(network, policy.only, own, essential_on(roster, network.ssid, devices))


def essential_on(roster: Roster, ssid: str, devices: Iterable[Device]) -> list[Device]:
    """Return the essential devices that use a network, or may: not those that are known to be on another one."""
    where = networks_of(roster)
    found = []
    for device in devices:
        met = {where[mac] for mac in device.macs if mac in where}
        if device.essential and not device.own and (not met or ssid in met):
            found.append(device)
    return found


def refuse_too_long(site: Site, network: Network, roster: Roster, devices: Sequence[Device], which: ListMode) -> None:
    """Raise Refused if a list does not fit, with what would."""
    if which is ListMode.OFF:
        return
    policy = policy_for(roster, network, devices)
    lines = lines_on(policy, which)
    other = ListMode.DENY if which is ListMode.ALLOW else ListMode.ALLOW
    of_mac = {mac: device for device in devices for mac in device.macs}
    before = site.clock.now() - STALE
    stale = [
        line.name or str(line.mac)
        for line in lines
        if (device := of_mac.get(line.mac)) is not None and not device.present and device.last_seen < before
    ]
    needed = len(lines_on(policy, other))
    room = as_held(site, network).capacity
    refuse_more_than_fits(network.ssid, room, len(lines), stale=stale, other=(other, needed))


def own_on(site: Site, roster: Roster, ssid: str, devices: Sequence[Device]) -> set[MacAddress]:
    """Return this machine's wireless adapters that use a network, or may: its access points tell it
    once they are read.
    """
    where = networks_of(roster)
    read = ssid in where.values()
    return {mac for mac in own_wireless(site, devices) if not read or where.get(mac) == ssid}


def own_wireless(site: Site, devices: Sequence[Device]) -> set[MacAddress]:
    """Return this machine's wireless adapters in use: as the system tells, else as the roster remembers."""
    interfaces = own_interfaces(site)
    if interfaces is None:
        adapters = [adapter for device in devices if device.own for adapter in device.adapters]
        return {adapter.mac for adapter in adapters if adapter.medium is Medium.WIRELESS}
    return {each.mac for each in interfaces if each.mac and each.up and each.medium is Medium.WIRELESS}


def own_interfaces(site: Site) -> tuple[Interface, ...] | None:
    """Return this machine's interfaces; None without a live network, or if it is locked."""
    try:
        return site.attachment.interfaces()
    except ScopionError:
        return None
