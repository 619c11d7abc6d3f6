"""What a push would do, radio by radio, against what the enforcers hold now; and what it must not do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.attachment.way_in import way_in
from scopion.model.device import Device
from scopion.model.errors import Refused
from scopion.model.mac import MacAddress
from scopion.model.text import joined
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import known_network
from scopion.operations.wifi.load_policy import essential_on, own_on, policy_for, refuse_too_long
from scopion.operations.wifi.open_enforcers import enforcers
from scopion.roster.read_devices import all_devices
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi import lists
from scopion.roster.wifi.lists import ListMode, Network
from scopion.roster.wifi.push_deadlines import left_s
from scopion.roster.wifi.pushes import Push, PushState, pushes
from scopion.wireless.enforcers.enforcer import Enforcer, Held, read_held
from scopion.wireless.list_policy import Policy, Wanted, wanted
from scopion.wireless.order_steps import refused_on_the_way
from scopion.wireless.plan_radio import RadioPlan, plan_radio
from scopion.wireless.refusals import INSIST, on_the_air, quoted


@dataclass(frozen=True, slots=True)
class Preview:
    """A network's list as it should be now, and what each radio holds."""

    network: Network
    policy: Policy
    wanted: Wanted
    plans: tuple[RadioPlan, ...]
    devices: tuple[Device, ...]
    interrupted: Push | None  # the last push, if it was ended half-way
    waiting: Push | None  # the last push, if it is taken back unless kept
    taken_back: datetime | None  # when, by this machine's clock as it is now


@dataclass(frozen=True, slots=True)
class Which:
    """To which radios of which enforcer; None: all."""

    enforcer: str | None = None
    radios: tuple[str, ...] | None = None


def preview(site: Site, ssid: str, which: Which, *, drop_foreign: bool = False) -> Preview:
    """What a push would do now. Raises EnforcerUnreachable, Refused where a person is the enforcer."""
    roster = site.roster_for_reading()
    network = known_network(site, roster, ssid)
    if roster is None:
        raise lists.no_network(ssid)
    devices = all_devices(roster)
    policy = policy_for(roster, network, devices)
    now = wanted(policy, site.clock.now(), site.clock.local)
    plans = []
    with enforcers(site, ssid, which.enforcer) as opened:
        for enforcer in opened:
            for radio in chosen_radios(enforcer, which):
                plans.append(plan_of(site, roster, enforcer, radio, now, devices, drop_foreign=drop_foreign))
    latest = pushes(roster, ssid, 50)
    running = next((each for each in latest if each.state in (PushState.RUNNING, PushState.INTERRUPTED)), None)
    last_done = next((each for each in latest if each.state is PushState.DONE), None)
    interrupted = running if running and (last_done is None or running.id > last_done.id) else None
    waiting = next((each for each in latest if each.revert_at is not None), None)
    moment = site.clock.now()
    due = moment + timedelta(seconds=left_s(roster, waiting, moment, site.boot())) if waiting is not None else None
    return Preview(network, policy, now, tuple(plans), tuple(devices), interrupted, waiting, due)


def chosen_radios(enforcer: Enforcer, which: Which) -> list[str]:
    """The radios of an enforcer that are meant. Raises Refused for one that it has not."""
    has = enforcer.radios()
    if not has:
        raise Refused(f"{enforcer.name} carries {enforcer.ssid!r} on no radio")
    missing = [radio for radio in which.radios or () if radio not in has]
    if missing:
        raise Refused(f"{enforcer.name} has no {joined(missing)} GHz radio for {enforcer.ssid!r}: {joined(list(has))}")
    return [radio for radio in has if which.radios is None or radio in which.radios]


def plan_of(
    site: Site,
    roster: Roster,
    enforcer: Enforcer,
    radio: str,
    now: Wanted,
    devices: Sequence[Device],
    *,
    drop_foreign: bool = False,
) -> RadioPlan:
    """Read a radio, and say what it would need."""
    enforcer.check(radio)
    held = enforcer.held(radio)
    stations = tuple(enforcer.stations(radio)) if enforcer.traits.reads_stations else ()
    return plan_radio(
        enforcer.name,
        radio,
        enforcer.traits,
        enforcer.capacity,
        held,
        left_there(roster, enforcer, radio),
        now,
        stations,
        first=protected(site, roster, enforcer.ssid, devices),
        drop_foreign=drop_foreign,
    )


def left_there(roster: Roster, enforcer: Enforcer, radio: str, *, before: int | None = None) -> Held:
    """What of our own the pushes to a radio, or those ``before`` one, have left there; an interrupted one may have."""
    ours = Held()
    for push in pushes(roster, enforcer.ssid):
        if before is not None and push.id >= before:
            continue
        if push.enforcer == enforcer.name and radio in push.radios and push.state is not PushState.ROLLED_BACK:
            told = read_held(push.radios[radio]["ours"])
            ours = Held(ours.allow | told.allow, ours.deny | told.deny, ours.mode or told.mode)
            if push.state is PushState.DONE:
                break
    return ours


def protected(site: Site, roster: Roster, ssid: str, devices: Sequence[Device]) -> list[MacAddress]:
    """Who may not be refused at any time: own wireless adapters, the way of the administrator, essential devices."""
    own = sorted(own_on(site, roster, ssid, devices))
    essential = [mac for device in essential_on(roster, ssid, devices) for mac in on_the_air(device)]
    return list(dict.fromkeys([*own, *_way_in(devices), *essential]))


def _way_in(devices: Sequence[Device]) -> list[MacAddress]:
    """The station from which somebody is logged in to this machine; each that it may be, if that is not certain."""
    addresses = way_in() or frozenset()
    found = []
    for device in devices:
        if any(stay.present and stay.address in addresses for stay in device.stays):
            found += on_the_air(device)
    return found


def unknown_way_in() -> str:
    """What to say if the command was given over SSH from an address that is not known; else empty."""
    if way_in() is not None:
        return ""
    return "it is not known from which device you are logged in over SSH: check that the list admits it"


def require_harmless(site: Site, roster: Roster, network: Network, plan: RadioPlan, devices: Sequence[Device]) -> None:
    """Raise Refused for a plan that would lock somebody out, now or on the way."""
    ssid, name = network.ssid, {mac: device for device in devices for mac in device.macs}
    if plan.target.mode is ListMode.ALLOW and not plan.target.allow:
        raise Refused(f"the allow list of {ssid!r} would be empty, so nobody could associate: {INSIST}")
    own = own_on(site, roster, ssid, devices)
    here = {each.mac for each in plan.stations}
    for mac in protected(site, roster, ssid, devices):
        # This machine's adapter needs an entry where it is used: who is on cable, or on another network, is not here.
        if mac in own and plan.traits.reads_stations and mac not in here:
            continue
        if not plan.target.admits(mac):
            device = name.get(mac)
            who = (
                f"this machine's own wireless adapter {mac}"
                if mac in own
                else f"{device.called if device else mac}, by which you are logged in,"
                if device is None or not device.essential
                else f"{device.called}, which is essential,"
            )
            raise Refused(
                f"{who} would be refused on {ssid!r} ({plan.enforcer}, {plan.radio} GHz): "
                f"scopion wifi allow {quoted(ssid)} {mac} first, or {INSIST}"
            )
    on_the_way = refused_on_the_way(plan.held, plan.steps, [mac for mac in here & set(name) if plan.target.admits(mac)])
    if on_the_way:
        raise Refused(f"{on_the_way[0]} would be refused on {plan.radio} GHz for a moment: that is a mistake of ours")


def require_room(site: Site, roster: Roster, network: Network, plan: RadioPlan, devices: Sequence[Device]) -> None:
    """Raise Refused for more entries than a radio holds."""
    if plan.capacity is None or plan.target.entries <= plan.capacity:
        return
    foreign = plan.foreign.entries
    also = f", {foreign} of them not ours (wifi push --drop-foreign removes those)" if foreign else ""
    from dataclasses import replace

    limited = replace(network, capacity=min(network.capacity or plan.capacity, plan.capacity))
    refuse_too_long(site, limited, roster, devices, plan.wanted.mode)
    raise Refused(
        f"{plan.enforcer} holds {plan.capacity} entries on {plan.radio} GHz, {plan.target.entries} are needed{also}"
    )
