"""Pushing lists to enforcers: everything is looked at before anything is changed, and one push goes on at a time."""

from __future__ import annotations

from collections.abc import Sequence

from scopion.model.device import Device
from scopion.model.errors import Divided, EnforcerUnreachable
from scopion.model.text import joined
from scopion.operations.site.open_site import Site
from scopion.operations.site.take_turns import only_push
from scopion.operations.wifi.edit_networks import known_network
from scopion.operations.wifi.load_policy import policy_for
from scopion.operations.wifi.open_enforcers import enforcers, remember_stations, settings_of
from scopion.operations.wifi.preview_push import (
    Which,
    chosen_radios,
    plan_of,
    protected,
    require_harmless,
    require_room,
)
from scopion.operations.wifi.send_push import OnStep, Pushed, Sending, Wish
from scopion.roster.read_devices import all_devices
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.pushes import Push, PushState, end_push, pushes
from scopion.wireless.enforcers.enforcer import Located
from scopion.wireless.list_policy import Policy, read_policy, wanted


def push(site: Site, ssid: str, wish: Wish, *, on_step: OnStep = lambda *_: None) -> list[Pushed]:
    """Put a network's list in force on its enforcers, one after the other.

    Raises Refused for what would lock somebody out, EnforcerUnreachable if it failed and all is as it was before,
    Divided if it failed and all is not.
    """
    with only_push(site.folder):
        roster = site.roster
        network = known_network(site, roster, ssid)
        settle_interrupted(site)
        devices = all_devices(roster)
        policy = policy_for(roster, network, devices)
        return _push(site, roster, ssid, policy, wish, devices, on_step)


def push_published(site: Site, last: Push, because: str, *, radios: Sequence[str] = ()) -> list[Pushed]:
    """Put in force what was published with an earlier push, as it is to be by now: the watch does at each change.

    An earlier one that is to be taken back still is, and takes this one with it.
    """
    assert last.policy is not None
    with only_push(site.folder):
        roster = site.roster
        settle_interrupted(site)
        which = Which(last.enforcer, tuple(radios or last.radios))
        # Nobody is there to insist; whoever published it has.
        wish = Wish(which, because, insist=True)
        return _push(site, roster, last.ssid, read_policy(last.policy), wish, all_devices(roster), lambda *_: None)


def _push(
    site: Site,
    roster: Roster,
    ssid: str,
    policy: Policy,
    wish: Wish,
    devices: Sequence[Device],
    on_step: OnStep,
) -> list[Pushed]:
    network = known_network(site, roster, ssid)
    now = wanted(policy, site.clock.now(), site.clock.local)
    found = []
    with enforcers(site, ssid, wish.which.enforcer) as opened:
        planned = []
        for enforcer in opened:  # all is looked at before anything is changed
            plans = [
                plan_of(site, roster, enforcer, radio, now, devices, drop_foreign=wish.drop_foreign)
                for radio in chosen_radios(enforcer, wish.which)
            ]
            for plan in plans:
                require_room(site, roster, network, plan, devices)
                if not wish.insist:
                    require_harmless(site, roster, network, plan, devices)
            planned.append((enforcer, plans))
            now_there = site.clock.now()
            remember_stations(
                roster,
                [Located(each, ssid, enforcer.name, plan.radio, now_there) for plan in plans for each in plan.stations],
            )
        for enforcer, plans in planned:
            first = protected(site, roster, ssid, devices)
            sending = Sending(site, roster, enforcer, plans, wish, policy, first, on_step)
            try:
                found.append(sending.run())
            except EnforcerUnreachable as error:
                if not found:
                    raise
                have = joined([each.push.enforcer for each in found])
                verb = "holds" if len(found) == 1 else "hold"
                raise Divided(
                    f"{error}; but {have} {verb} the new list already: scopion wifi push goes on, scopion wifi revert "
                    "goes back"
                ) from None
    return found


def settle_interrupted(site: Site) -> list[Push]:
    """Note the pushes whose process has been ended. Called by who holds the lock: nobody else is pushing."""
    roster = site.roster
    found = [each for each in pushes(roster) if each.state is PushState.RUNNING]
    for each in found:
        end_push(roster, each.id, PushState.INTERRUPTED, site.clock.now(), "its process was ended half-way")
    return found


def resume_interrupted(site: Site) -> list[Pushed]:
    """Go on with pushes whose process has been ended, as they were published; what is to be taken back still is."""
    with only_push(site.folder):
        settle_interrupted(site)
        latest: dict[tuple[str, str], Push] = {}
        for each in pushes(site.roster):
            latest.setdefault((each.ssid, each.enforcer), each)
    found = []
    for each in latest.values():
        if each.state is PushState.INTERRUPTED and each.policy is not None and _is_known(site, each):
            found += push_published(site, each, f"going on with push {each.id}")
    return found


def _is_known(site: Site, each: Push) -> bool:
    return any(settings.name == each.enforcer for settings in settings_of(site, each.ssid))
