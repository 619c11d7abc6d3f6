"""One push to one enforcer, from its record's beginning to its end: step by step, read back, rolled back if it fails.

It is recorded in the roster before anything is sent, and after each radio: a process that is killed half-way leaves
behind what is needed to go on, or to go back.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from scopion.model.band import at_band, spoken_band
from scopion.model.errors import Divided, EnforcerUnreachable, ScopionError
from scopion.model.text import joined
from scopion.operations.pages.typed_lists import last_published
from scopion.operations.sensors.guard_push import guard_push, settle_guards
from scopion.operations.site.change_roster import account
from scopion.operations.wifi.network_context import NetworkContext
from scopion.operations.wifi.read_radios import RadioChoice
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.lists import ListMode
from scopion.roster.wifi.push_deadlines import note_deadline
from scopion.roster.wifi.pushes import NewPush, Push, PushState, begin_push, end_push, note_radios, push_of, pushes
from scopion.wireless.enforcers.enforcer import (
    Act,
    Enforcer,
    Held,
    ListStep,
    RadioReading,
    RadioStep,
    Readings,
    held_document,
    read_held,
    whole,
)
from scopion.wireless.list_policy import policy_document
from scopion.wireless.order_steps import disconnections
from scopion.wireless.plan_radio import RadioPlan, back_to

OnStep = Callable[[str, str, ListStep], None]  # enforcer, radio, the step


@dataclass(frozen=True, slots=True)
class PushRequest:
    """What a push is to do besides putting the list in force."""

    choice: RadioChoice = field(default_factory=RadioChoice)
    because: str = ""
    revert_at: datetime | None = None
    insist: bool = False
    drop_foreign: bool = False


@dataclass(frozen=True, slots=True)
class Pushed:
    """The result of a push to one enforcer."""

    push: Push
    plans: tuple[RadioPlan, ...]
    problem: str = ""  # what was noticed and did not stop it
    first: bool = False  # nothing was pushed to this enforcer before

    @property
    def read_back(self) -> Mapping[str, Held]:
        """Return what each radio held afterwards, by band."""
        return {radio: read_held(told["after"]) for radio, told in self.push.radios.items() if told["after"]}


class PushRun:
    """One push to one enforcer, from its record's beginning to its end."""

    def __init__(
        self,
        context: NetworkContext,
        enforcer: Enforcer,
        plans: Sequence[RadioPlan],
        request: PushRequest,
        on_step: OnStep,
        *,
        publishes: bool = True,
    ) -> None:
        """Take a plan for each radio; ``publishes``: whether the context's policy is put in force, with its hours."""
        self._site, self._roster, self._enforcer = context.site, context.roster, enforcer
        self._plans, self._request = tuple(plans), request
        self._policy = context.policy if publishes else None
        self._first, self._on_step = context.protected(), on_step
        roster = context.roster
        self._radios: dict[str, dict[str, Any]] = {
            plan.radio: {
                "before": held_document(_with_mode(plan, roster, enforcer)),
                "target": held_document(plan.target),
                "ours": held_document(plan.ours),
                "after": None,
            }
            for plan in plans
        }
        self._files: Mapping[str, str | None] = {}
        self._touched: list[RadioPlan] = []
        self._mode_set: set[str] = set()

    def run(self) -> Pushed:
        """Write all radios step by step, read them back, and make them last. Returns the result."""
        clock = self._site.clock
        # Files that this account may not read do not stop the list: making it last reports that.
        with suppress(EnforcerUnreachable):
            self._files = self._enforcer.files()
        with self._roster.transaction():
            now = clock.now()
            new = NewPush(
                self._enforcer.ssid,
                self._enforcer.name,
                now,
                account(),
                self._request.because,
                self._radios,
                policy_document(self._policy) if self._policy is not None else None,
                self._request.revert_at,
            )
            number = begin_push(self._roster, new)
            if self._request.revert_at is not None:
                left = (self._request.revert_at - now).total_seconds()
                note_deadline(self._roster, number, self._site.boot(), left)
        problem = ""
        try:
            guard_push(self._site, self._roster, number, self._radios, self._first)
            for radio, reading in self._put().items():
                self._radios[radio]["after"] = held_document(reading.held)
            note_radios(self._roster, number, self._radios)
            problem = self._keep()
        except (ScopionError, OSError) as error:
            self._go_back(number, str(error), error)
        except BaseException as error:  # told to stop: nothing is left half-done if possible
            self._go_back(number, "it was told to stop", error)
            raise
        end_push(self._roster, number, PushState.DONE, clock.now(), problem)
        again = f"scopion wifi revert --to {number} goes back"
        self._site.stands.append(f"{self._enforcer.name} holds the new list (push {number}): {again}")
        sent = push_of(self._roster, number)
        before = [each for each in pushes(self._roster, sent.ssid) if each.enforcer == sent.enforcer]
        return Pushed(sent, self._plans, problem, first=len(before) == 1)

    def _put(self) -> dict[str, RadioReading]:
        """Take all steps; return what each radio holds then. Raises EnforcerUnreachable if it is not what was sent."""
        steps = [RadioStep(plan.radio, step) for plan in self._plans for step in self._steps_of(plan)]
        if not steps:  # nothing has changed since the radios were read
            return {plan.radio: plan for plan in self._plans}
        told = self._take(steps)
        readings = whole({plan.radio: told[plan.radio] for plan in self._plans})
        late = []
        for plan in self._plans:
            reading = readings[plan.radio]
            self._compare(plan, reading.held)
            # Stations that have associated while the list was being written.
            late += [RadioStep(plan.radio, step) for step in disconnections(plan.target, reading.stations)]
        if late:
            self._take(late)
        return readings

    def _steps_of(self, plan: RadioPlan) -> list[ListStep]:
        """Return a plan's steps. One that keeps hours is given the policy: perhaps only later hours have changed."""
        if not plan.traits.keeps_hours:
            return list(plan.steps)
        others = [each for each in plan.steps if each.act is not Act.REPLACE]
        return [ListStep(Act.REPLACE, held=plan.target, policy=self._policy), *others]

    def _take(self, steps: Sequence[RadioStep]) -> Readings:
        return self._enforcer.take(steps, self._begins)

    def _begins(self, each: RadioStep) -> None:
        plan = next(plan for plan in self._plans if plan.radio == each.radio)
        if plan not in self._touched:
            self._touched.append(plan)
        if each.step.act in (Act.MODE, Act.REPLACE):
            self._mode_set.add(plan.radio)
        self._on_step(plan.enforcer, plan.radio, each.step)

    def _compare(self, plan: RadioPlan, held: Held) -> None:
        """Raise EnforcerUnreachable if a radio does not hold what was sent."""
        if held.holds_the_same(plan.target):
            return
        lacking = (plan.target.allow | plan.target.deny) - (held.allow | held.deny)
        more = (held.allow | held.deny) - (plan.target.allow | plan.target.deny)
        said = [
            f"{len(lacking)} of its entries {'is' if len(lacking) == 1 else 'are'} missing" if lacking else "",
            f"{len(more)} more" if more else "",
        ]
        raise EnforcerUnreachable(
            f"{at_band(plan.enforcer, plan.radio)}, does not hold what was sent: "
            f"{joined(list(filter(None, said))) or f'its mode is {held.mode}'}; has it restarted meanwhile?"
        )

    def _keep(self) -> str:
        """Make it last through a restart; a failure of that does not undo what is in force."""
        try:
            self._enforcer.keep({plan.radio: plan.target for plan in self._plans})
        except ScopionError as error:
            return f"in force, but it will not last: {error}"
        return ""

    def _go_back(self, number: int, problem: str, error: BaseException) -> None:
        """Bring every radio that was touched back to what it held. Raises EnforcerUnreachable, or Divided."""
        stuck: dict[str, str] = {}
        now: dict[str, Held] = {}  # as far as the radios can be read
        try:
            if self._touched:
                now = _held_by(self._enforcer.read())
                way, before = self._way_back(now)
                if way:
                    now = _held_by(self._enforcer.take(way, lambda _: None))
                for plan in self._touched:
                    if plan.radio not in now:
                        stuck[plan.radio] = self._state_of(plan, now)
                    elif not now[plan.radio].holds_the_same(before[plan.radio]):
                        stuck[plan.radio] = "holds neither the old list nor the new one"
        except (ScopionError, OSError):
            now = {}
            with suppress(ScopionError, OSError):
                now = _held_by(self._enforcer.read())
            stuck = {plan.radio: self._state_of(plan, now) for plan in self._touched}
        if not stuck and self._touched:
            stuck = self._put_files_back()
        if not stuck:
            end_push(self._roster, number, PushState.ROLLED_BACK, self._site.clock.now(), problem)
            with suppress(ScopionError, OSError):  # at worst it is taken back to where it is already
                settle_guards(self._site, self._roster, push_of(self._roster, number))
            self._site.stands.append(f"{self._enforcer.name} holds what it held (push {number} was rolled back)")
            if isinstance(error, ScopionError | OSError):
                raise EnforcerUnreachable(f"{problem}; rolled back, every radio holds what it held before") from None
            return
        told = [f"{spoken_band(plan.radio)} {stuck.get(plan.radio, 'holds the old list')}" for plan in self._plans]
        end_push(self._roster, number, PushState.DIVIDED, self._site.clock.now(), f"{problem}; {joined(told)}")
        raise Divided(
            f"{problem}; it could not be rolled back: {joined(told)}. Once it can be reached, scopion wifi push "
            "goes on, scopion wifi revert goes back"
        ) from None

    def _put_files_back(self) -> dict[str, str]:
        """Put files back, too: the written ones would be in force after the next restart."""
        try:
            self._enforcer.put_back(self._files)
        except (ScopionError, OSError):
            where = joined(list(self._files))
            return {plan.radio: f"holds the old list, but {where} may not" for plan in self._touched}
        return {}

    def _way_back(self, now: Mapping[str, Held]) -> tuple[list[RadioStep], dict[str, Held]]:
        """Return the steps that bring every radio that was touched back, the last one first, and what each held."""
        way: list[RadioStep] = []
        target: dict[str, Held] = {}
        for plan in reversed(self._touched):
            before = read_held(self._radios[plan.radio]["before"])
            mode_set = plan.radio in self._mode_set
            if before.mode is None and mode_set:
                before = Held(before.allow, before.deny, ListMode.OFF)
            target[plan.radio] = before
            if plan.radio in now:
                back = back_to(
                    before,
                    now[plan.radio],
                    plan.traits,
                    mode=mode_set,
                    first=self._first,
                    capacity=self._enforcer.capacity,
                )
                way += [RadioStep(plan.radio, step) for step in back]
        return way, target

    def _state_of(self, plan: RadioPlan, now: Mapping[str, Held]) -> str:
        """Return what is known of a radio that was touched and cannot be brought back."""
        held = now.get(plan.radio)
        if held is None:
            done = self._radios[plan.radio]["after"] is not None
            return "held the new list when it was read last" if done else "cannot be read: it may hold some of each"
        return "holds the new list" if held.holds_the_same(plan.target) else "holds some of each"


def _held_by(readings: Readings) -> dict[str, Held]:
    return {radio: each.held for radio, each in readings.items() if not isinstance(each, ScopionError)}


def _with_mode(plan: RadioPlan, roster: Roster, enforcer: Enforcer) -> Held:
    """Return what a radio held before, with the mode that was set last if none can be read."""
    if plan.held.mode is not None:
        return plan.held
    last = last_published(roster, enforcer.ssid, enforcer.name).get(plan.radio)
    return Held(plan.held.allow, plan.held.deny, last.mode if last is not None else None)
