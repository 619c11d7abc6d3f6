"""What a push would do to one radio: what is added, removed and kept, which stations go, what
others put there. Pure.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from scopion.model.mac import MacAddress
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcers.enforcer import Held, ListStep, RadioReading, Station, Traits
from scopion.wireless.list_policy import ListPolicy, WantedList
from scopion.wireless.order_steps import disconnections, foreign_in, idle_in, steps, target_of, voided

_NOTHING = Held()


@dataclass(frozen=True, slots=True, kw_only=True)
class RadioPlan(RadioReading):
    """One radio of an enforcer: what it holds, what it should hold, and the way there."""

    target: Held
    wanted: WantedList
    steps: tuple[ListStep, ...]
    foreign: Held = _NOTHING  # what others have put there and stays
    dropped: Held = _NOTHING  # others' entries that go: because that is wanted, or a single list has no place for them
    idle: Held = _NOTHING  # others' entries that stay written down, without effect in the mode that is wanted
    voided: tuple[MacAddress, ...] = ()  # addresses that the list refuses and a foreign entry admits
    leaving: tuple[Station, ...] = ()  # stations that are associated and will be disconnected right away

    @property
    def added(self) -> list[MacAddress]:
        """Return the addresses that are new on the list."""
        return sorted((self.target.allow - self.held.allow) | (self.target.deny - self.held.deny))

    @property
    def removed(self) -> list[MacAddress]:
        """Return the addresses that leave the list; those that only lose their effect are left out."""
        gone = (self.held.allow - self.target.allow) | (self.held.deny - self.target.deny)
        return sorted(gone - self.idle.allow - self.idle.deny)

    @property
    def kept(self) -> list[MacAddress]:
        """Return the addresses that are on the list before and after, foreign ones included."""
        return sorted((self.target.allow & self.held.allow) | (self.target.deny & self.held.deny))

    @property
    def is_in_force(self) -> bool:
        """Tell whether the radio holds what it should, as far as it can be read."""
        return self.held.holds_the_same(self.target)

    @property
    def ours(self) -> Held:
        """Return the part of the target that is ours."""
        allow = self.target.allow - self.foreign.allow
        return Held(allow, self.target.deny - self.foreign.deny, self.target.mode)


def as_carried_out(policy: ListPolicy, traits: Traits) -> ListPolicy:
    """Return a policy as an enforcer carries it out.

    One with a timetable of its own keeps hours itself, so its list does not change by them. One without modes denies
    what is on its list: there, off is an empty list.
    """
    if traits.timetable:
        policy = replace(policy, rules=tuple(replace(rule, hours=None) for rule in policy.rules))
    if not traits.modes and policy.mode is ListMode.OFF:
        policy = replace(policy, mode=ListMode.DENY, rules=())
    return policy


def plan_radio(
    reading: RadioReading,
    ours: Held,
    wanted: WantedList,
    *,
    first: Sequence[MacAddress] = (),
    drop_foreign: bool = False,
) -> RadioPlan:
    """Return the plan for a radio; ``ours`` is what the last push left there of our own."""
    held, traits = reading.held, reading.traits
    found = foreign_in(held, ours, wanted)
    nothing = Held(mode=found.mode)
    idle = idle_in(found, wanted.mode, traits)
    found = Held(found.allow - idle.allow, found.deny - idle.deny, found.mode)
    stays, goes = (nothing, found) if drop_foreign else (found, nothing)
    if drop_foreign or wanted.mode is not ListMode.OFF:  # a list that is in force has no place for them
        goes, idle = Held(goes.allow | idle.allow, goes.deny | idle.deny, goes.mode), nothing
    target = target_of(wanted, stays)
    return RadioPlan(
        *reading.values(),
        target=target,
        wanted=wanted,
        foreign=stays,
        dropped=goes,
        idle=idle,
        voided=tuple(voided(wanted, stays)),
        leaving=tuple(each for each in reading.stations if target.refuses(each)),
        steps=(
            *steps(held, target, traits, first=first, capacity=reading.capacity, idle=idle.allow | idle.deny),
            *disconnections(target, reading.stations),
        ),
    )


def back_to(
    before: Held,
    held: Held,
    traits: Traits,
    *,
    mode: bool,
    first: Sequence[MacAddress] = (),
    capacity: int | None = None,
) -> list[ListStep]:
    """Return the way back to what a radio held; ``mode``: whether the mode was changed, and is to be set back."""
    plan = steps(held, before, traits, first=first, capacity=capacity)
    return [step for step in plan if step.mode is None or mode]


def steps_back(reading: RadioReading, before: Held, first: Sequence[MacAddress]) -> tuple[ListStep, ...]:
    """Return all steps back to what a radio held: its list, its mode, and who has to leave then."""
    way = back_to(before, reading.held, reading.traits, mode=True, first=first, capacity=reading.capacity)
    return (*way, *disconnections(before, reading.stations))
