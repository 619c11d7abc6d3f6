"""What a change of lists means for devices: which may associate after it, and which could before. Pure.

It is computed from the policy before and after, never from the name of the list that was changed: an allow entry in
mode deny may lift a refusal, and in mode off it means nothing.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from scopion.model.mac import MacAddress
from scopion.model.text import joined
from scopion.model.week import Local
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.list_policy import ListPolicy, ListRule, admits, next_turn, wanted

_NAMED_AT_MOST = 4


@dataclass(frozen=True, slots=True)
class Concerned:
    """A device, or a bare address, whose entry was changed."""

    name: str
    macs: tuple[MacAddress, ...]
    paused: bool = False  # its entry is kept without effect


def effects(
    before: ListPolicy, after: ListPolicy, concerned: Sequence[Concerned], now: datetime, local: Local
) -> tuple[str, ...]:
    """Return sentences: which devices the lists admit or refuse by the change, for which nothing changes, and why.

    They speak of the lists; a change is in force when an enforcer has it.
    """
    old, new = wanted(before, now, local), wanted(after, now, local)
    groups: dict[tuple[bool, bool, str], list[str]] = {}
    for each in concerned:
        was, is_now = admits(old, each.macs), admits(new, each.macs)
        why = "" if was != is_now else why_unchanged(after, new.mode, each, now, admitted=is_now)
        groups.setdefault((was, is_now, why), []).append(each.name)
    said = [_sentence(after.ssid, names, was, is_now, why) for (was, is_now, why), names in groups.items()]
    if len(concerned) == 1 and (turn := next_turn(after, concerned[0].macs, now, local)) is not None:
        then = "refused" if admits(new, concerned[0].macs) else "admitted"
        said.append(f"From {local(turn):%A %Y-%m-%d, %H:%M} on it is {then}.")
    return tuple(said)


def changes_what_is_sent(before: ListPolicy, after: ListPolicy) -> bool:
    """Tell whether enforcers need a change, for now or for later."""
    return _sent(before) != _sent(after)


def _sent(policy: ListPolicy) -> tuple[object, ...]:
    """Return the parts of a policy that may ever be in force: the list of its mode, and the allow list where others
    have hours.
    """
    lists = {policy.mode} | ({ListMode.ALLOW} if policy.others is not None else set())
    rules: Iterable[ListRule] = (rule for rule in policy.rules if rule.list in lists)
    places = frozenset((rule.list, rule.line.mac, rule.hours, rule.until, rule.override) for rule in rules)
    return policy.mode, places, policy.others, frozenset(line.mac for line in policy.only), policy.only_until


def why_unchanged(after: ListPolicy, mode: ListMode, each: Concerned, now: datetime, *, admitted: bool) -> str:
    """Return why lists admit or refuse a device as they did before a change, in words; empty where it is plain."""
    if after.only_until is not None and now < after.only_until:
        return "for a while the network is for some devices only"
    if mode is ListMode.OFF:
        return "the mode is off"
    if each.paused:
        return "the entry is paused"
    listed = any(rule.list is mode and rule.line.mac in each.macs for rule in after.rules)
    if listed and admitted is (mode is ListMode.DENY):
        return "the entry has no effect just now"
    if mode is ListMode.DENY and admitted:
        return "the mode is deny, and every device that is not on the deny list may associate"
    if mode is ListMode.ALLOW and not admitted:
        return "the mode is allow, and every device that is not on the allow list is refused"
    return ""


def _sentence(ssid: str, names: Sequence[str], was: bool, is_now: bool, why: str) -> str:
    who = joined(list(names)) if len(names) <= _NAMED_AT_MOST else f"{len(names)} devices"
    them = "it" if len(names) == 1 else "them"
    verb, past = ("admit", "refused") if is_now else ("refuse", "admitted")
    if was != is_now:
        return f"The lists of {ssid!r} now {verb} {who}; before this change they {past} {them}."
    return f"The lists of {ssid!r} {verb} {who} as before{f': {why}' if why else ''}."
