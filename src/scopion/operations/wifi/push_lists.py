"""Pushes lists to enforcers: everything is read and checked before anything is changed, and one push runs at a time."""

from __future__ import annotations

from collections.abc import Sequence

from scopion.model.errors import Divided, EnforcerUnreachable
from scopion.model.text import joined
from scopion.operations.folder.take_turns import only_push
from scopion.operations.pages.held_by import pages_of, settings_of
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.check_push import require_harmless, require_room
from scopion.operations.wifi.network_context import NetworkContext, open_network
from scopion.operations.wifi.open_enforcers import enforcers, remember_stations
from scopion.operations.wifi.read_radios import RadioChoice, plan_radios
from scopion.operations.wifi.send_push import OnStep, Pushed, PushRequest, PushRun
from scopion.operations.wifi.type_lists import SheetOrder, hand_over
from scopion.roster.wifi.pushes import Push, PushState, end_push, pushes
from scopion.wireless.list_policy import read_policy


def push(site: Site, ssid: str, request: PushRequest, *, on_step: OnStep = lambda *_: None) -> list[Pushed]:
    """Put a network's list in force on its enforcers, one after the other; for a page a sheet is handed over.

    Raises Refused for what would lock this machine or an essential device out, EnforcerUnreachable if it
    failed and everything is as before, Divided if it failed and something is not.
    """
    with only_push(site.folder):
        settle_interrupted(site)
        return _push(open_network(site, site.roster, ssid), request, on_step)


def push_published(site: Site, last: Push, because: str, *, radios: Sequence[str] = ()) -> list[Pushed]:
    """Put in force what an earlier push published, as it is wanted by now: the watch does this at each change.

    An earlier one that is to be taken back still is, and takes this one with it.
    """
    assert last.policy is not None
    with only_push(site.folder):
        settle_interrupted(site)
        choice = RadioChoice(last.enforcer, tuple(radios or last.radios))
        # No person is there to insist; the person who published it has.
        request = PushRequest(choice, because, insist=True)
        context = open_network(site, site.roster, last.ssid, read_policy(last.policy))
        return _push(context, request, lambda *_: None)


def _push(context: NetworkContext, request: PushRequest, on_step: OnStep) -> list[Pushed]:
    site, ssid = context.site, context.ssid
    found: list[Pushed] = []
    with enforcers(site, ssid, request.choice.enforcer) as opened:
        planned = []
        pages = {each.name: each for each in pages_of(site, ssid)}
        for enforcer in opened:  # everything is read before anything is changed
            plans = plan_radios(context, enforcer, request.choice, drop_foreign=request.drop_foreign, files=True)
            for plan in plans:
                require_room(context, plan)
                if not request.insist:
                    require_harmless(context, plan)
            planned.append((enforcer, plans))
            now_there = site.clock.now()
            remember_stations(
                site,
                [each for plan in plans for each in plan.located(ssid, now_there)],
            )
        planned.sort(key=lambda each: each[0].traits.by_hand)  # what can fail goes first
        for enforcer, plans in planned:
            if enforcer.name in pages:
                sheet = hand_over(context, pages[enforcer.name], plans, SheetOrder(revert_at=request.revert_at))
                found.append(Pushed(sheet, tuple(plans)))
                continue
            try:
                found.append(PushRun(context, enforcer, plans, request, on_step).run())
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
    """Note the pushes whose process has ended. The caller holds the lock, so no other push runs."""
    roster = site.roster
    found = [each for each in pushes(roster) if each.state is PushState.RUNNING]
    for each in found:
        end_push(roster, each.id, PushState.INTERRUPTED, site.clock.now(), "its process was ended half-way")
    return found


def resume_interrupted(site: Site) -> list[Pushed]:
    """Go on with pushes whose process has ended, as they were published; deadlines stay."""
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
