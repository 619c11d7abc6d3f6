"""The order of steps from what a radio holds to what it should hold, so that no essential device is refused on the way.

Pure. An address that is admitted before and after is admitted at each step between, the own device and essential ones
first of all; the mode is switched on last, and off first. So going back is safe, too: it is the same problem, reversed.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from scopion.model.mac import MacAddress
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcers.enforcer import Act, Held, ListStep, Station, Traits
from scopion.wireless.list_policy import WantedList


def target_of(wanted: WantedList, foreign: Held) -> Held:
    """Return what a radio should hold: the wanted list, and what others have put there."""
    allow = wanted.macs if wanted.mode is ListMode.ALLOW else frozenset()
    deny = wanted.macs if wanted.mode is ListMode.DENY else frozenset()
    return Held(allow | foreign.allow, deny | foreign.deny, wanted.mode)


def foreign_in(held: Held, ours: Held, wanted: WantedList) -> Held:
    """Return what a radio holds that neither the last push nor the wanted list put there."""
    listed = target_of(wanted, Held())
    return Held(held.allow - ours.allow - listed.allow, held.deny - ours.deny - listed.deny, held.mode)


def idle_in(foreign: Held, mode: ListMode, traits: Traits) -> Held:
    """Return others' entries that have no effect in a mode, because the enforcer has one list for both modes."""
    if not traits.one_list:
        return Held(mode=foreign.mode)
    return Held(
        frozenset() if mode is ListMode.ALLOW else foreign.allow,
        frozenset() if mode is ListMode.DENY else foreign.deny,
        foreign.mode,
    )


def voided(wanted: WantedList, foreign: Held) -> list[MacAddress]:
    """Return addresses that the list denies and a foreign allow entry admits all the same, because
    that counts first.
    """
    return sorted(foreign.allow & wanted.macs) if wanted.mode is ListMode.DENY else []


def steps(
    held: Held,
    target: Held,
    traits: Traits,
    *,
    first: Sequence[MacAddress] = (),
    capacity: int | None = None,
    idle: frozenset[MacAddress] = frozenset(),
) -> list[ListStep]:
    """Return the steps on a radio.

    ``first``: the own device and the essential ones, in their order; ``idle``: others' entries that stay in a file,
    without effect.
    """
    if held.holds_the_same(target) and held.mode is target.mode:
        return []
    if traits.atomic:
        return [ListStep(Act.REPLACE, held=target, idle=idle)]
    rank = {mac: number for number, mac in enumerate(first)}

    def ordered(macs: Iterable[MacAddress]) -> list[MacAddress]:
        return sorted(macs, key=lambda mac: (rank.get(mac, len(rank)), mac))

    freed = [_remove(ListMode.DENY, mac) for mac in ordered(held.deny - target.deny)]
    admitted = [_add(ListMode.ALLOW, mac) for mac in ordered(target.allow - held.allow)]
    cleared = [_remove(ListMode.ALLOW, mac) for mac in reversed(ordered(held.allow - target.allow))]
    refused = [_add(ListMode.DENY, mac) for mac in reversed(ordered(target.deny - held.deny))]
    # A mode that cannot be read is always set. Deny and off are the same to some enforcers: setting it does no harm.
    mode = [ListStep(Act.MODE, mode=target.mode)] if held.mode is not target.mode else []
    if target.mode is not ListMode.ALLOW:
        return [*freed, *mode, *cleared, *admitted, *refused]
    room = capacity is None or held.entries - len(freed) + len(admitted) <= capacity
    # If both do not fit at the same time, the addresses that lose their place are removed first: they are refused in
    # the end.
    lists = [*admitted, *mode, *cleared] if room else [*cleared, *admitted, *mode]
    return [*freed, *lists, *refused]


def disconnections(target: Held, stations: Iterable[Station]) -> list[ListStep]:
    """Return steps that disconnect stations which are associated and refused now."""
    return [ListStep(Act.DISCONNECT, mac=each.mac) for each in stations if target.refuses(each)]


def refused_on_the_way(held: Held, plan: Sequence[ListStep], protected: Collection[MacAddress]) -> list[MacAddress]:
    """Return the addresses that a plan would refuse at some step, though they were admitted before."""
    found = []
    state = held
    for step in plan:
        state = step.after(state)
        found += [mac for mac in protected if held.admits(mac) and not state.admits(mac)]
    return found


def _add(which: ListMode, mac: MacAddress) -> ListStep:
    return ListStep(Act.ADD, which, mac)


def _remove(which: ListMode, mac: MacAddress) -> ListStep:
    return ListStep(Act.REMOVE, which, mac)
