"""Modes of wireless networks: what each means for which devices, exclusive times, and the hours of other devices."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from scopion.model.device import Device
from scopion.model.errors import NotFound, UsageError
from scopion.model.text import counted, joined
from scopion.operations.site.change_roster import change
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_entries import ALWAYS
from scopion.operations.wifi.edit_networks import NetworkSettings, known_network, new_network, with_settings
from scopion.operations.wifi.find_subjects import subject_keys
from scopion.operations.wifi.load_policy import (
    policy_for,
    refuse_exclusive_lockout,
    refuse_switched_on_lockout,
    refuse_too_long,
    refuse_where_only_denied,
)
from scopion.roster.read_devices import all_devices
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi import lists
from scopion.roster.wifi.associations import networks_of
from scopion.roster.wifi.lists import ListMode, Network
from scopion.roster.wifi.timetables import stored_hours
from scopion.wireless.list_policy import WantedList, wanted
from scopion.wireless.refusals import consequence, on_the_air

_NAMED_AT_MOST = 4


@dataclass(frozen=True, slots=True)
class Lists:
    """How a network uses lists; None: unchanged."""

    mode: ListMode | None = None
    of: str | None = None  # the network whose lists it uses; empty: its own
    others_hours: str | None = None  # when devices on no list may associate


def set_mode(
    site: Site, ssid: str, wish: Lists, settings: NetworkSettings | None, *, insist: bool = False
) -> tuple[Network, str]:
    """Change a network's mode or settings. Returns it, and what that means, in a sentence or two."""
    with change(site, "wifi") as (roster, described):
        network = with_settings(_stored(site, roster, ssid), settings)
        network = replace(network, mode=wish.mode or network.mode)
        if wish.of is not None:
            network = replace(network, lists_of=_lists_of(roster, network, wish.of))
        if wish.others_hours is not None:
            hours = "" if wish.others_hours in ("", ALWAYS) else stored_hours(roster, wish.others_hours)
            network = replace(network, others_hours=hours)
        lists.save_network(roster, network)
        refuse_where_only_denied(site, network)
        devices = all_devices(roster)
        refuse_too_long(site, network, roster, devices, network.mode)
        if not insist:
            refuse_switched_on_lockout(site, network, roster, devices)
        described.says = f"mode {network.mode} or other settings of {ssid!r}"
        return network, explained(site, network, roster, devices)


def set_exclusive(
    site: Site, ssid: str, which: Sequence[str], span: timedelta, *, insist: bool = False
) -> tuple[list[str], datetime]:
    """Give a network to some devices alone for a while. Returns their names, and until when."""
    with change(site, "wifi") as (roster, described):
        network = _stored(site, roster, ssid)
        devices = all_devices(roster)
        chosen = [subject_keys(devices, each) for each in which]
        until = site.clock.now() + span
        network = replace(network, only_until=until)
        lists.save_network(roster, network)
        lists.set_exclusives(roster, ssid, list(dict.fromkeys(key for _, key in chosen)))
        refuse_where_only_denied(site, network)
        if not insist:
            refuse_exclusive_lockout(site, network, roster, devices)
        names = list(dict.fromkeys(name for name, _ in chosen))
        described.says = f"{ssid!r} for {joined(names)} only"
        return names, until


def end_exclusive(site: Site, ssid: str) -> None:
    """Open a network again to all devices that its lists admit. Raises NotFound if it was not exclusive."""
    with change(site, "wifi", f"{ssid!r} for all again") as (roster, _):
        network = lists.network(roster, ssid)
        if network.only_until is None or network.only_until <= site.clock.now():
            raise NotFound(f"{ssid!r} is not for some devices only")
        lists.save_network(roster, replace(network, only_until=None))
        lists.set_exclusives(roster, ssid, [])


def explained(site: Site, network: Network, roster: Roster, devices: Sequence[Device]) -> str:
    """Return what a network's lists mean now, and for which present devices."""
    policy = policy_for(roster, network, devices)
    now = wanted(policy, site.clock.now(), site.clock.local)
    said = consequence(
        network.ssid,
        network.mode,
        wanted(replace(policy, others=None, only_until=None), site.clock.now(), site.clock.local).lines,
    )
    if policy.others is not None:
        said += f" Devices on no list may associate {policy.others} only"
        said += (
            f" (not just now: {counted(len(now.lines), 'address', 'addresses')} may)."
            if (now.mode is not network.mode)
            else "."
        )
    return said + _affected(roster, network, now, devices)


def _affected(roster: Roster, network: Network, now: WantedList, devices: Sequence[Device]) -> str:
    """Return which devices on the air will be refused; empty if none."""
    if now.mode is ListMode.OFF:
        return ""
    where = networks_of(roster)
    # Once its access points were read, the devices on the air are known; before that, those that may be.
    otherwise = "" if network.ssid in where.values() else network.ssid
    here = [
        device
        for device in devices
        if device.present
        and not device.own
        and any(where.get(mac, otherwise) == network.ssid for mac in on_the_air(device))
    ]
    may = "may be" if otherwise else "are"
    refused = [device.called for device in here if not any(now.admits(mac) for mac in on_the_air(device))]
    if not here:
        return ""
    if not refused:
        return f" Of {counted(len(here), 'device')} here that {may} on the air, none is refused."
    named = refused[:_NAMED_AT_MOST]
    more = len(refused) - len(named)
    who = joined([*named, f"{more} more"] if more else named)
    verb = "is" if len(refused) == 1 else "are"
    return f" Of {counted(len(here), 'device')} here that {may} on the air, {len(refused)} {verb} refused: {who}."


def _stored(site: Site, roster: Roster, ssid: str) -> Network:
    """Return a network as people have set it; one that only an enforcer holds is made. Raises NotFound."""
    known_network(site, roster, ssid)
    return lists.find_network(roster, ssid) or new_network(site, ssid)


def _lists_of(roster: Roster, network: Network, other: str) -> str | None:
    """Return the network whose lists are used. Raises NotFound, UsageError."""
    if other in ("", network.ssid):
        return None
    found = lists.network(roster, other)
    if found.lists_of is not None:
        raise UsageError(f"{other!r} uses the lists of {found.lists_of!r} itself: share those")
    if any(each.lists_of == network.ssid for each in lists.all_networks(roster)):
        raise UsageError(f"other networks use the lists of {network.ssid!r}: give those others first")
    return other
