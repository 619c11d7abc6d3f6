"""Picks the networks on which a device is blocked or unblocked: where it is associated, or was last."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from scopion.model.device import Device
from scopion.model.errors import NotFound
from scopion.model.mac import MacAddress
from scopion.model.text import joined
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import networks
from scopion.operations.wifi.find_subjects import Subject
from scopion.operations.wifi.load_policy import policy_for
from scopion.operations.wifi.open_enforcers import read_stations, remember_stations
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi import lists
from scopion.roster.wifi.associations import networks_of
from scopion.roster.wifi.lists import ListMode, Network
from scopion.wireless.coverage import covered_adapters
from scopion.wireless.list_policy import admits, wanted


def macs_of(subject: Subject) -> tuple[MacAddress, ...]:
    """Return the addresses of a device that entries cover, or the bare address."""
    if subject.device is None:
        return (subject.mac,) if subject.mac is not None else ()
    return tuple(adapter.mac for adapter in covered_adapters(subject.device))


def networks_to_block(site: Site, subject: Subject) -> tuple[list[str], str]:
    """Return where a device is associated, else where it was last, else all networks; and why, in words.

    Reads the access points. Raises NotFound if no network is known.
    """
    known = [each.ssid for each in networks(site)]
    if not known:
        raise NotFound("no wireless network is known yet: --ssid SSID names it")
    macs = macs_of(subject)
    found, unread = read_stations(site)
    if found:
        remember_stations(site, found)
    here = {each.ssid for each in found if not {each.station.mac, *each.station.links}.isdisjoint(macs)}
    silent = sorted({each.enforcer for each in unread})
    also = f"; {joined(silent)} could not be read" if silent else ""
    if chosen := _of_known(known, here):
        return chosen, "it is associated there"
    if chosen := _of_known(known, _met(site.roster_for_reading(), macs)):
        return chosen, f"it was associated there last{also}"
    if len(known) == 1:
        return known, f"it is the only network{also}"
    return known, f"it was never seen on any of them, so that all are meant{also}"


def networks_to_unblock(site: Site, subject: Subject, devices: Sequence[Device]) -> tuple[list[str], str]:
    """Return the networks that refuse a device, now or at times, or have an entry for it without effect; and why.

    An allow list on which it never was counts where it was last, or if there is no other network. Raises NotFound if no
    list refuses it.
    """
    roster = site.roster_for_reading()
    now, local, macs = site.clock.now(), site.clock.local, macs_of(subject)
    known = [each.ssid for each in networks(site)]
    met = _met(roster, macs)
    found = []
    for network in lists.all_networks(roster):
        entries = lists.all_entries(roster, network.lists)
        own = [each for each in entries if each.subject in subject.keys]
        refused = not admits(wanted(policy_for(roster, network, devices), now, local), macs)
        unlisted = refused and network.mode is ListMode.ALLOW and (network.ssid in met or len(known) == 1)
        if unlisted or any(_holds_back(each, network) for each in own):
            found.append(network.ssid)
    if not found:
        raise NotFound(
            f"no list refuses {subject.name}: scopion wifi entries shows the deny lists; --ssid names a network"
        )
    return found, "its lists refuse it"


def _holds_back(entry: lists.Entry, network: Network) -> bool:
    """Tell whether an entry refuses its device, or would admit it and has no effect."""
    if entry.list is ListMode.DENY:
        return network.mode is not ListMode.ALLOW
    off = entry.override is not None and not entry.override.on
    return network.mode is ListMode.ALLOW and (entry.paused or off or bool(entry.hours) or entry.until is not None)


def _met(roster: Roster, macs: Collection[MacAddress]) -> set[str]:
    where = networks_of(roster)
    return {where[mac] for mac in macs if mac in where}


def _of_known(known: Sequence[str], chosen: Collection[str]) -> list[str]:
    return [ssid for ssid in known if ssid in chosen]
