"""Pushing lists to enforcers: recorded, in the safe order, read back, rolled back if it fails, taken back in time.

A push is begun in the roster before anything is sent, and noted after each radio: whoever is killed half-way leaves
behind what is needed to go on, or to go back.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from scopion.model.device import Device
from scopion.model.errors import Divided, EnforcerUnreachable, NotFound, Refused, ScopionError
from scopion.model.text import joined
from scopion.operations.change import account
from scopion.operations.enforcing import enforcers, remember_stations, settings_of
from scopion.operations.one_push import OnePush
from scopion.operations.policies import policy_for, site_local
from scopion.operations.previewing import Which, chosen_radios, plan_of, protected, require_harmless, require_room
from scopion.operations.site import Site
from scopion.roster import lists
from scopion.roster.devices import all_devices
from scopion.roster.pushes import (
    HAND,
    Push,
    PushState,
    begin_push,
    end_push,
    keep_push,
    note_radios,
    note_reverted,
    push_of,
    pushes,
    with_deadline,
)
from scopion.roster.store import Roster
from scopion.wireless.enforcers.base import Act, Enforcer, Held, Located, Step, held_document, read_held
from scopion.wireless.order import disconnections
from scopion.wireless.plan import RadioPlan, back_to
from scopion.wireless.policy import Policy, Wanted, policy_document, read_policy, wanted

OnStep = Callable[[str, str, Step], None]  # enforcer, radio, what is being done


@dataclass(frozen=True, slots=True)
class Wish:
    """What a push is to do besides putting the list in force."""

    which: Which = field(default_factory=Which)
    because: str = ""
    revert_at: datetime | None = None
    insist: bool = False
    drop_foreign: bool = False


@dataclass(frozen=True, slots=True)
class Pushed:
    """What became of a push to one enforcer."""

    push: Push
    plans: tuple[RadioPlan, ...]
    problem: str = ""  # what was noticed and did not stop it
    first: bool = False  # nothing was pushed to this enforcer before


def push(site: Site, ssid: str, wish: Wish, *, on_step: OnStep = lambda *_: None) -> list[Pushed]:
    """Put a network's list in force on its enforcers, one after the other.

    Raises Refused for what would lock somebody out, EnforcerUnreachable if it failed and all is as it was before,
    Divided if it failed and all is not.
    """
    with OnePush(site.folder):
        roster = site.roster
        network = lists.network(roster, ssid)
        settle_interrupted(site)
        devices = all_devices(roster)
        policy = policy_for(roster, network, devices)
        return _push(site, roster, ssid, policy, wish, devices, on_step)


def push_published(site: Site, last: Push, because: str, *, radios: Sequence[str] = ()) -> list[Pushed]:
    """Put in force what was published with an earlier push, as it is to be by now: the watch does at each change.

    An earlier one that is to be taken back still is, and takes this one with it.
    """
    assert last.policy is not None
    with OnePush(site.folder):
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
    network = lists.network(roster, ssid)
    now = wanted(policy, site.clock.now(), site_local(site))
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
            sending = _Sending(site, roster, enforcer, plans, wish, policy, first, on_step)
            found.append(sending.run())
    return found


class _Sending:
    """One push to one enforcer, from its record's beginning to its end."""

    def __init__(
        self,
        site: Site,
        roster: Roster,
        enforcer: Enforcer,
        plans: Sequence[RadioPlan],
        wish: Wish,
        policy: Policy | None,
        first: Sequence[Any],
        on_step: OnStep,
    ) -> None:
        self._site, self._roster, self._enforcer = site, roster, enforcer
        self._plans, self._wish, self._policy = tuple(plans), wish, policy
        self._first, self._on_step = first, on_step
        self._radios: dict[str, dict[str, Any]] = {
            plan.radio: {
                "before": held_document(_with_mode(plan, roster, enforcer)),
                "target": held_document(plan.target),
                "ours": held_document(plan.ours),
                "after": None,
            }
            for plan in plans
        }
        self._touched: list[RadioPlan] = []
        self._mode_set: set[str] = set()

    def run(self) -> Pushed:
        """All radios, each step by step; then read back."""
        clock = self._site.clock
        number = begin_push(
            self._roster,
            self._enforcer.ssid,
            self._enforcer.name,
            at=clock.now(),
            who=account(),
            because=self._wish.because,
            radios=self._radios,
            policy=policy_document(self._policy) if self._policy is not None else None,
            revert_at=self._wish.revert_at,
        )
        problem = ""
        try:
            for plan in self._plans:
                self._put(plan)
                self._radios[plan.radio]["after"] = held_document(self._read_back(plan))
                note_radios(self._roster, number, self._radios)
            problem = self._keep()
        except (ScopionError, OSError) as error:
            self._go_back(number, str(error), error)
        except BaseException as error:  # told to stop: nothing is left half-done if it can be helped
            self._go_back(number, "it was told to stop", error)
            raise
        end_push(self._roster, number, PushState.DONE, clock.now(), problem)
        sent = push_of(self._roster, number)
        before = [each for each in pushes(self._roster, sent.ssid) if each.enforcer == sent.enforcer]
        return Pushed(sent, self._plans, problem, first=len(before) == 1)

    def _put(self, plan: RadioPlan) -> None:
        self._touched.append(plan)
        for step in plan.steps:
            self._on_step(plan.enforcer, plan.radio, step)
            if step.act in (Act.MODE, Act.REPLACE):
                self._mode_set.add(plan.radio)
            self._enforcer.take(plan.radio, step)

    def _read_back(self, plan: RadioPlan) -> Held:
        """What the radio holds by now. Raises EnforcerUnreachable if that is not what was sent."""
        self._enforcer.check(plan.radio)
        held = self._enforcer.held(plan.radio)
        if not held.holds_the_same(plan.target):
            lacking = (plan.target.allow | plan.target.deny) - (held.allow | held.deny)
            more = (held.allow | held.deny) - (plan.target.allow | plan.target.deny)
            said = [
                f"{len(lacking)} of its entries are missing" if lacking else "",
                f"{len(more)} more" if more else "",
            ]
            raise EnforcerUnreachable(
                f"{plan.enforcer} ({plan.radio} GHz) does not hold what was sent: "
                f"{joined(list(filter(None, said))) or f'its mode is {held.mode}'}; has it begun anew meanwhile?"
            )
        if plan.traits.reads_stations:  # who has associated while the list was being written
            for step in disconnections(plan.target, self._enforcer.stations(plan.radio)):
                self._enforcer.take(plan.radio, step)
        return held

    def _keep(self) -> str:
        """Make it last through a restart; that this fails does not undo what is in force."""
        problems = []
        for plan in self._plans:
            try:
                self._enforcer.keep(plan.radio, plan.target)
            except ScopionError as error:
                problems.append(f"in force, but it will not last: {error}")
        return "; ".join(dict.fromkeys(problems))

    def _go_back(self, number: int, problem: str, error: BaseException) -> None:
        """Bring every radio that was touched back to what it held. Raises EnforcerUnreachable, or Divided."""
        stuck: dict[str, str] = {}
        for plan in reversed(self._touched):
            before = read_held(self._radios[plan.radio]["before"])
            mode_set = plan.radio in self._mode_set
            if before.mode is None and mode_set:
                before = Held(before.allow, before.deny, lists.ListMode.OFF)
            try:
                held = self._enforcer.held(plan.radio)
                way = back_to(
                    before, held, plan.traits, mode=mode_set, first=self._first, capacity=self._enforcer.capacity
                )
                for step in way:
                    self._enforcer.take(plan.radio, step)
                if not self._enforcer.held(plan.radio).holds_the_same(before):
                    stuck[plan.radio] = "holds neither the old list nor the new one"
            except (ScopionError, OSError):
                stuck[plan.radio] = self._state_of(plan)
        if not stuck:
            end_push(self._roster, number, PushState.ROLLED_BACK, self._site.clock.now(), problem)
            if isinstance(error, ScopionError | OSError):
                raise EnforcerUnreachable(f"{problem}; rolled back, every radio holds what it held before") from None
            return
        told = [f"{plan.radio} GHz {stuck.get(plan.radio, 'holds the old list')}" for plan in self._plans]
        end_push(self._roster, number, PushState.DIVIDED, self._site.clock.now(), f"{problem}; {joined(told)}")
        raise Divided(
            f"{problem}; it could not be rolled back: {joined(told)}. Once it can be reached, scopion wifi push "
            "goes on, scopion wifi revert goes back"
        ) from None

    def _state_of(self, plan: RadioPlan) -> str:
        """What can be said of a radio that was touched and cannot be brought back."""
        try:
            held = self._enforcer.held(plan.radio)
        except (ScopionError, OSError):
            done = self._radios[plan.radio]["after"] is not None
            return "held the new list when it was read last" if done else "cannot be read: it may hold some of each"
        return "holds the new list" if held.holds_the_same(plan.target) else "holds some of each"


def _with_mode(plan: RadioPlan, roster: Roster, enforcer: Enforcer) -> Held:
    """What a radio held before, with the mode that was set last where none can be read."""
    if plan.held.mode is not None:
        return plan.held
    return Held(plan.held.allow, plan.held.deny, mode_set_last(roster, enforcer.ssid, enforcer.name, plan.radio))


def mode_set_last(roster: Roster, ssid: str, enforcer: str, radio: str) -> lists.ListMode | None:
    """The mode that the last push has set on a radio; None if there was none."""
    for each in pushes(roster, ssid):
        if each.enforcer == enforcer and radio in each.radios and each.state is PushState.DONE:
            return read_held(each.radios[radio]["target"]).mode
    return None


def settle_interrupted(site: Site) -> list[Push]:
    """Note the pushes whose process has been ended. Called by who holds the lock: nobody else is pushing."""
    roster = site.roster
    found = [each for each in pushes(roster) if each.state is PushState.RUNNING]
    for each in found:
        end_push(roster, each.id, PushState.INTERRUPTED, site.clock.now(), "its process was ended half-way")
    return found


def resume_interrupted(site: Site) -> list[Pushed]:
    """Go on with pushes whose process has been ended, as they were published; what is to be taken back still is."""
    with OnePush(site.folder):
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


def keep(site: Site, ssid: str | None = None) -> list[Push]:
    """Keep pushes that would be taken back. Raises NotFound if there is none."""
    roster = site.roster
    waiting = [each for each in with_deadline(roster) if ssid in (None, each.ssid)]
    if not waiting:
        raise NotFound("no push is waiting to be kept")
    for each in waiting:
        keep_push(roster, each.id)
    return waiting


def revert_overdue(site: Site) -> list[tuple[Push, list[Pushed], str]]:
    """Take back every push whose deadline has passed; with each, what came of it and what went wrong."""
    roster = site.roster_for_reading()
    now = site.clock.now()
    if roster is None or not any(each.revert_at and each.revert_at <= now for each in with_deadline(roster)):
        return []
    found = []
    for each in with_deadline(site.roster):
        if each.revert_at is not None and each.revert_at <= now:
            try:
                found.append((each, revert_to(site, each.id, because=f"push {each.id} was not kept"), ""))
            except ScopionError as error:
                found.append((each, [], str(error)))
    return found


def revert(site: Site, ssid: str, *, on_step: OnStep = lambda *_: None) -> list[Pushed]:
    """Take the last push to each enforcer of a network back. Raises NotFound if there is none."""
    last: dict[str, Push] = {}
    for each in pushes(site.roster, ssid):
        if each.state is not PushState.ROLLED_BACK and each.enforcer != HAND:
            last.setdefault(each.enforcer, each)
    if not last:
        raise NotFound(f"nothing was ever pushed for {ssid!r}")
    done: list[Pushed] = []
    for each in last.values():
        done += revert_to(site, each.id, on_step=on_step)
    return done


def revert_to(site: Site, number: int, *, because: str = "", on_step: OnStep = lambda *_: None) -> list[Pushed]:
    """Put back what an enforcer held before a push, whatever has been pushed since."""
    with OnePush(site.folder):
        roster = site.roster
        settle_interrupted(site)
        meant = push_of(roster, number)
        if meant.enforcer == HAND:
            raise Refused(
                f"push {number} was typed in by hand: change the lists of {meant.ssid!r}, then scopion wifi sheet"
            )
        devices = all_devices(roster)
        before = _published_before(roster, meant)
        first = protected(site, roster, meant.ssid, devices)
        done = []
        with enforcers(site, meant.ssid, meant.enforcer) as opened:
            for enforcer in opened:
                plans = [
                    _plan_back(enforcer, radio, told, first)
                    for radio, told in meant.radios.items()
                    if radio in enforcer.radios()
                ]
                wish = Wish(because=because or f"back to before push {number}")
                sending = _Sending(site, roster, enforcer, plans, wish, before, first, on_step)
                done.append(sending.run())
        for each in done:
            for later in pushes(roster, meant.ssid):
                if meant.id <= later.id < each.push.id and later.enforcer == meant.enforcer:
                    note_reverted(roster, later.id, each.push.id)
        return done


def _published_before(roster: Roster, meant: Push) -> Policy | None:
    """What was published before a push to the same radios; None: nothing was."""
    for each in pushes(roster, meant.ssid):
        if each.id < meant.id and each.enforcer == meant.enforcer and each.state is PushState.DONE:
            return read_policy(each.policy) if each.policy is not None else None
    return None


def _plan_back(enforcer: Enforcer, radio: str, told: Mapping[str, Any], first: Sequence[Any]) -> RadioPlan:
    enforcer.check(radio)
    held = enforcer.held(radio)
    before = read_held(told["before"])
    target = Held(before.allow, before.deny, before.mode or lists.ListMode.OFF)
    ours = read_held(told["ours"])
    foreign = Held(target.allow - ours.allow, target.deny - ours.deny, target.mode)
    stations = tuple(enforcer.stations(radio)) if enforcer.traits.reads_stations else ()
    way = back_to(target, held, enforcer.traits, mode=True, first=first, capacity=enforcer.capacity)
    return RadioPlan(
        enforcer=enforcer.name,
        radio=radio,
        traits=enforcer.traits,
        capacity=enforcer.capacity,
        held=held,
        target=target,
        wanted=Wanted(target.mode or lists.ListMode.OFF),
        foreign=foreign,
        dropped=Held(),
        voided=(),
        leaving=(),
        stations=stations,
        steps=(*way, *(disconnections(target, stations) if enforcer.traits.reads_stations else ())),
    )
