"""Takes pushes back: the last one, or any other; by hand, or because no person kept it until its deadline."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from datetime import timedelta
from typing import Any

from scopion.model.errors import EnforcerUnreachable, NotFound, Refused, ScopionError
from scopion.operations.folder.take_turns import only_push
from scopion.operations.pages.held_by import pages_of
from scopion.operations.sensors.guard_push import settle_guards
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.network_context import NetworkContext, open_network
from scopion.operations.wifi.open_enforcers import enforcers
from scopion.operations.wifi.push_lists import settle_interrupted
from scopion.operations.wifi.read_radios import left_there
from scopion.operations.wifi.remind_sheets import tell_waiting
from scopion.operations.wifi.send_push import OnStep, Pushed, PushRequest, PushRun
from scopion.operations.wifi.type_lists import SheetOrder, hand_over
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.lists import ListMode
from scopion.roster.wifi.push_deadlines import left_s
from scopion.roster.wifi.pushes import (
    Push,
    PushState,
    keep_push,
    note_reverted,
    push_of,
    pushes,
    with_deadline,
)
from scopion.wireless.enforcers.enforcer import Held, RadioReading, read_held, whole
from scopion.wireless.list_policy import ListPolicy, WantedList, read_policy
from scopion.wireless.order_steps import target_of
from scopion.wireless.plan_radio import RadioPlan, steps_back

# A push with this much time left is not being taken back yet.
_TIME_LEFT = timedelta(seconds=2)


def keep(site: Site, ssid: str | None = None) -> list[Push]:
    """Keep pushes that would be taken back. Raises NotFound if there is none."""
    roster = site.roster
    waiting = _waiting(roster, ssid)
    # With time left no reverting has begun, so this does not wait for another push, which may take long.
    kept = [each for each in waiting if time_left(site, roster, each) >= _TIME_LEFT]
    for each in kept:
        _keep(site, roster, each)
    if len(kept) < len(waiting):
        with only_push(site.folder):  # a push that is just being taken back cannot be kept
            late = _waiting(roster, ssid)
            for each in late:
                _keep(site, roster, each)
            kept += late
    if not kept:
        raise NotFound("no push is waiting to be kept: scopion wifi revert --list shows what became of each")
    return kept


def _keep(site: Site, roster: Roster, push: Push) -> None:
    """Keep a push. Raises EnforcerUnreachable if a sensor that would take it back cannot be told: then it will."""
    try:
        settle_guards(site, roster, push, kept=True)
    except EnforcerUnreachable as error:
        raise EnforcerUnreachable(f"push {push.id} is not kept, and will be taken back where it is: {error}") from None
    keep_push(roster, push.id)


def time_left(site: Site, roster: Roster, push: Push) -> timedelta:
    """Return the time until a push is taken back, by a clock that cannot be set while the machine runs on."""
    return timedelta(seconds=left_s(roster, push, site.clock.now(), site.boot()))


def _waiting(roster: Roster, ssid: str | None) -> list[Push]:
    return [each for each in with_deadline(roster) if ssid in (None, each.ssid)]


def revert_overdue(site: Site) -> list[tuple[Push, list[Pushed], str]]:
    """Take back every push whose deadline has passed. Returns each with its result and what went wrong."""
    roster = site.roster_for_reading()
    if not any(time_left(site, roster, each) <= timedelta() for each in with_deadline(roster)):
        return []
    found = []
    for each in with_deadline(site.roster):
        if time_left(site, site.roster, each) <= timedelta():
            try:
                done = revert_to(site, each.id, because=f"push {each.id} was not kept", if_waiting=True)
                for back in done:
                    if back.push.state is PushState.WAITING:  # a person has to type it in
                        tell_waiting(site, back.push, back.push.at)
                found.append((each, done, ""))
            except ScopionError as error:
                found.append((each, [], str(error)))
    return found


def revert(site: Site, ssid: str, *, on_step: OnStep = lambda *_: None) -> list[Pushed]:
    """Take the last push to each enforcer of a network back; for a page a sheet is handed over. Raises NotFound."""
    last: dict[str, Push] = {}
    for each in pushes(site.roster, ssid):
        if each.state not in (PushState.ROLLED_BACK, PushState.SKIPPED):
            last.setdefault(each.enforcer, each)
    if not last:
        raise NotFound(f"nothing was pushed for {ssid!r} or typed in")
    done: list[Pushed] = []
    for each in last.values():
        done += revert_to(site, each.id, on_step=on_step)
    return done


def revert_to(
    site: Site, number: int, *, because: str = "", if_waiting: bool = False, on_step: OnStep = lambda *_: None
) -> list[Pushed]:
    """Put back what an enforcer held before a push, whatever has been pushed since.

    ``if_waiting``: not if a person has kept it meanwhile.
    """
    with only_push(site.folder):
        roster = site.roster
        settle_interrupted(site)
        meant = push_of(roster, number)
        if if_waiting and meant.revert_at is None:
            return []
        before = _published_before(roster, meant)
        context = open_network(site, roster, meant.ssid, before)
        done = []
        with enforcers(site, meant.ssid, meant.enforcer) as opened:
            for enforcer in opened:
                readings = enforcer.read(files=True)
                plans = [
                    _plan_back(
                        context,
                        each,
                        told,
                        left_there(roster, enforcer, radio, before=number),
                        published=before is not None,
                    )
                    for radio, each in whole(
                        {radio: readings[radio] for radio in meant.radios if radio in readings}
                    ).items()
                    for told in (meant.radios[radio],)
                ]
                if not plans:
                    raise Refused(
                        f"{enforcer.name} has no radio of push {number} any more: there is nothing to take back"
                    )
                reason = because or f"back to before push {number}"
                page = next((each for each in pages_of(site, meant.ssid) if each.name == enforcer.name), None)
                if page is not None:
                    back = hand_over(context, page, plans, SheetOrder(reason, publishes=before is not None))
                    keep_push(roster, number)  # its deadline is over, even if nothing is to be typed
                    done.append(Pushed(back, tuple(plans)))
                    continue
                sending = PushRun(
                    context, enforcer, plans, PushRequest(because=reason), on_step, publishes=before is not None
                )
                done.append(sending.run())
        for each in done:
            for later in pushes(roster, meant.ssid):
                if meant.id <= later.id < each.push.id and later.enforcer == meant.enforcer:
                    note_reverted(roster, later.id, each.push.id)
        with suppress(ScopionError, OSError):  # the next push says it, too; until then all is as it was before
            settle_guards(site, roster, meant)
        return done


def _published_before(roster: Roster, meant: Push) -> ListPolicy | None:
    """Return what was published before a push to all of its radios; None: nothing was, or to some of them only.

    The watch carries out what was published: on a radio that had no list it would bring back what was just taken back.
    """
    for each in pushes(roster, meant.ssid):
        earlier = each.id < meant.id and each.enforcer == meant.enforcer and each.state is PushState.DONE
        if earlier and not each.radios.keys().isdisjoint(meant.radios):
            whole = meant.radios.keys() <= each.radios.keys()
            return read_policy(each.policy) if whole and each.policy is not None else None
    return None


def _plan_back(
    context: NetworkContext, reading: RadioReading, told: Mapping[str, Any], ours: Held, *, published: bool
) -> RadioPlan:
    """Return the way back on a radio; ``ours`` is what earlier pushes had left there: the rest
    belonged to others then. ``published``: a policy was, and the context has it.
    """
    before = read_held(told["before"])
    target = Held(before.allow, before.deny, before.mode or ListMode.OFF)
    if reading.traits.keeps_hours and published:
        target = target_of(context.wanted, Held())  # by now its hours may say another list
    foreign = Held(target.allow - ours.allow, target.deny - ours.deny, target.mode)
    return RadioPlan(
        *reading.values(),
        target=target,
        wanted=WantedList(target.mode or ListMode.OFF),
        steps=steps_back(reading, target, context.protected()),
        foreign=foreign,
    )
