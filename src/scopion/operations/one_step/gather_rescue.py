"""Finds out what is the case for a person who is locked out of a wireless network, with whatever still works."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import timedelta

from scopion.model.device import Device
from scopion.model.errors import NotFound, ScopionError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.operations.pages.held_by import is_only_asked_for, named_enforcers, pages_of, reached, settings_of
from scopion.operations.pages.typed_lists import last_published
from scopion.operations.scan.ask_network import who_answers
from scopion.operations.scan.prepare_scan import ScanRequest, prepare_scan
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import as_held, known_network, networks
from scopion.operations.wifi.load_policy import own_interfaces
from scopion.operations.wifi.open_enforcers import open_enforcer
from scopion.operations.wifi.revert_push import time_left
from scopion.operations.wifi.type_lists import whole_sheet
from scopion.roster.read_devices import all_devices
from scopion.roster.scans import known_subnets
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.lists import ListMode, Network
from scopion.roster.wifi.pushes import Push, PushState, pushes
from scopion.wireless.enforcer_settings import EnforcerSettings
from scopion.wireless.enforcers.enforcer import Held
from scopion.wireless.radius.radius_settings import RadiusSettings, radius_lists
from scopion.wireless.rescue_sheet import LastChange, OwnAdapter, RescueFacts, rescue_sheet
from scopion.wireless.router_sheet import Sheet, address_of, print_rescue


def rescue(site: Site, ssid: str | None = None, *, beforehand: bool = False) -> list[Sheet]:
    """Return a sheet for each network that this machine is locked out of, for one network, or for all.

    With ``beforehand`` nothing is asked of the network. Raises NotFound if no network is known.
    """
    roster = site.roster_for_reading()
    known = [known_network(site, roster, ssid)] if ssid is not None else [each.network for each in networks(site)]
    if not known:
        raise NotFound("no wireless network is known yet, so that no list of Scopion locks this machine out")
    answers = None if beforehand else _router_answers(site)
    found = [_facts(site, roster, each, answers, beforehand=beforehand) for each in known]
    refusing = [each for each in found if any(adapter.refused_on for adapter in each.adapters)]
    return [rescue_sheet(each) for each in refusing or found]


def _facts(site: Site, roster: Roster, network: Network, answers: bool | None, *, beforehand: bool) -> RescueFacts:
    network, devices = as_held(site, network), all_devices(roster)
    held = {
        (each.name, radio): there
        for each in settings_of(site, network.ssid)
        for radio, there in last_published(roster, network.ssid, each.name).items()
    }
    mode = next((each.mode for each in held.values() if each.mode is not None), network.mode)
    pages = pages_of(site, network.ssid)
    page = next(iter(pages), None)
    now = site.clock.now()
    only_asked = is_only_asked_for(site, network.ssid)
    # One that is asked for by RADIUS forgets nothing when its access points are switched off and on.
    holding = [each for each in reached(site, network.ssid) if not isinstance(each, RadiusSettings)]
    asking = tuple(
        (str(point.address), point.name)
        for each in radius_lists(settings_of(site, network.ssid))
        for point in each.access_point
    )
    router = f"http://{network.router}/" if network.router and "://" not in network.router else network.router
    return RescueFacts(
        ssid=network.ssid,
        made=f"{site.clock.local(now):%Y-%m-%d %H:%M}",
        beforehand=beforehand,
        router=address_of(page) if page is not None and page.page else router,
        notation=network.notation,
        radios=network.radios,
        mode=mode,
        by_hand=bool(pages),
        enforcers=tuple(each.name for each in holding),
        restart=_restart(site, holding),
        asking=asking,
        only_asked=only_asked,
        adapters=_adapters(site, devices, held),
        router_answers=answers,
        last=_last(site, roster, network.ssid),
        admitted=_admitted(devices, held, mode),
        again=_again(site, roster, network),
        whole=_whole(site, network),
    )


def _adapters(site: Site, devices: Sequence[Device], held: dict[tuple[str, str], Held]) -> tuple[OwnAdapter, ...]:
    """Return this machine's adapters: those of its interfaces, then those that only the roster remembers."""
    own = {adapter.mac: adapter.medium for device in devices if device.own for adapter in device.adapters}
    found = {}
    for each in own_interfaces(site) or ():
        medium = own.get(each.mac, each.medium) if each.medium is Medium.UNKNOWN and each.mac else each.medium
        if each.mac is not None and (medium is Medium.WIRELESS or (medium is Medium.CABLE and not each.virtual)):
            connected = each.up and bool(each.subnets)
            found[each.mac] = OwnAdapter(each.name, each.mac, medium is Medium.WIRELESS, connected)
    for mac, medium in own.items():
        if medium is Medium.WIRELESS:
            found.setdefault(mac, OwnAdapter("not plugged in now", mac, wireless=True, connected=False))
    return tuple(
        replace(
            each, refused_on=tuple(dict.fromkeys(radio for (_, radio), there in held.items() if not there.admits(mac)))
        )
        if each.wireless
        else each
        for mac, each in found.items()
    )


def _admitted(devices: Sequence[Device], held: dict[tuple[str, str], Held], mode: ListMode) -> tuple[str, ...]:
    """Return the devices of other people, by name, that an allow list in force admits; the present ones first."""
    if mode is not ListMode.ALLOW:
        return ()

    def admits(mac: MacAddress) -> bool:
        return any(mac in there.allow for there in held.values())

    found = [each for each in devices if not each.own and any(map(admits, each.macs))]
    found.sort(key=lambda each: (not each.present, not each.label, each.called.casefold()))
    return tuple(each.called for each in found)


def _last(site: Site, roster: Roster, ssid: str) -> LastChange | None:
    """Return what was put in force last, and when it is taken back."""
    push = next((each for each in pushes(roster, ssid) if each.state is not PushState.SKIPPED), None)
    if push is None:
        return None
    waits = next((each for each in pushes(roster, ssid) if each.revert_at is not None), None)
    local = site.clock.local
    at = ""
    if waits is not None:
        due = site.clock.now() + max(time_left(site, roster, waits), timedelta())
        at = f"{local(due):%A, %H:%M:%S}"
    return LastChange(_said(site, push, f"{local(push.at):%A %Y-%m-%d, %H:%M}"), at)


def _said(site: Site, push: Push, when: str) -> str:
    by = f" by {push.who}" if push.who else ""
    if any(each.name == push.enforcer for each in pages_of(site, push.ssid)):
        state = "is not said to be typed in" if push.state is PushState.WAITING else "is said to be typed in"
        return f"the last sheet, of {when}{by}, {state}"
    return f"the last push was number {push.id}, of {when}{by}, to {push.enforcer}"


def _restart(site: Site, holding: Sequence[EnforcerSettings]) -> str:
    """Return what becomes of the list at a restart of what holds it; nothing is reached for that."""
    for each in holding:
        try:
            if survives := open_enforcer(site, each).traits.survives:
                return survives
        except ScopionError:
            continue
    return ""


def _again(site: Site, roster: Roster, network: Network) -> tuple[str, ...]:
    """Return what is known of the router's settings, which a reset makes it forget."""
    found = [f"name of the Wi-Fi: {network.ssid}"]
    for each in known_subnets(roster):
        settings = site.settings.of_subnet(each.range)
        gateway = f", the router is {each.gateway}" if each.gateway else ""
        found.append(f"home network: {each.range}{gateway}")
        found += [f"DHCP gives out: {pool}" for pool in settings.dhcp_pool]
    return tuple(found)


def _whole(site: Site, network: Network) -> Sheet | None:
    """Return the full list to type again where a person types it; a push gives it again to all others."""
    if named_enforcers(site, network.ssid) and not pages_of(site, network.ssid):
        return None
    try:
        sheet = whole_sheet(site, network.ssid)
    except ScopionError:  # an allow list without an entry: there is nothing to type
        return None
    proposal = print_rescue(network.ssid)
    return replace(sheet, steps=tuple(each for each in sheet.steps if each != proposal))


def _router_answers(site: Site) -> bool | None:
    """Tell whether the gateway answers now; None if this machine has no connection to ask it by."""
    try:
        prepared = prepare_scan(site, ScanRequest(no_names=True))
        gateway = prepared.choice.interface.gateway
        if gateway is None:
            return None
        prepared = prepare_scan(site, ScanRequest(targets=(str(gateway),), no_names=True))
        return any(each.address == gateway for each in who_answers(site, prepared))
    except ScopionError:
        return None
