"""Says what will be true for a device once it is blocked or unblocked on a network: one sentence for each. Pure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from scopion.model.mac import MacAddress
from scopion.model.text import joined
from scopion.model.week import Local
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.list_policy import ListPolicy, admits, admitted_week, next_turn, wanted
from scopion.wireless.policy_effects import Concerned, why_unchanged

_NAMED_AT_MOST = 4


@dataclass(frozen=True, slots=True)
class Change:
    """The policies of a network before and after a change, and when it is made."""

    before: ListPolicy
    after: ListPolicy
    now: datetime


def sentence(name: str, macs: Sequence[MacAddress], change: Change, local: Local) -> str:
    """Return what will be true for a device on a network, and for others that the change concerns."""
    after, now = change.after, change.now
    was = admits(wanted(change.before, now, local), macs)
    held = wanted(after, now, local)
    is_now = admits(held, macs)
    turn, week = next_turn(after, macs, now, local), admitted_week(after, macs)
    at = f"{local(turn):%A %Y-%m-%d, %H:%M}" if turn is not None else ""
    said = f"{after.ssid!r}: {name} is "
    if week.ranges and not week.is_always:
        said += f"refused at these hours: {~week}"
        said += f"; {'now, until' if not is_now else 'next from'} {at}" if at else ""
    else:
        said += "admitted" if is_now else "refused"
        said += " as before" if was == is_now else " again" if is_now else " from now on"
        why = why_unchanged(after, held.mode, Concerned(name, tuple(macs)), now, admitted=is_now)
        said += f" ({why})" if was == is_now and why else ""
        said += f" until {at}, then {'refused' if is_now else 'admitted'}" if at else ""
    return f"{said}{_also(macs, change, local)}."


def _also(macs: Sequence[MacAddress], change: Change, local: Local) -> str:
    """Return what it means for other devices that the deny list is switched on; empty if it is not."""
    if change.before.mode is not ListMode.OFF or change.after.mode is not ListMode.DENY:
        return ""
    others = [line for line in wanted(change.after, change.now, local).lines if line.mac not in macs]
    named = [line.name or str(line.mac) for line in others]
    more = len(named) - _NAMED_AT_MOST
    who = joined([*named[:_NAMED_AT_MOST], *([f"{more} more"] if more > 0 else [])])
    said = "; its deny list, which is off now, is switched on for that"
    verb = "is" if len(named) == 1 else "are"
    if named:
        return f"{said}, and {who} on it {verb} refused, too; all other devices are admitted as before"
    return f"{said}; all other devices are admitted as before"
