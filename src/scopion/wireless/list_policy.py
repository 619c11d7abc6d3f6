"""The policy of a network, and the list that follows from it at a moment. Pure: the site's clock is an argument.

A policy is what people decided, with devices resolved to MAC addresses. It is kept with a push, so that hours are
carried out as they were published while a person edits the lists.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from scopion.model.device import Device
from scopion.model.mac import MacAddress
from scopion.model.week import NEVER, WHOLE, Local, Week
from scopion.roster.store.stored_values import as_written
from scopion.roster.wifi.lists import Entry, ListMode, Network, Override
from scopion.roster.wifi.timetables import week_of
from scopion.wireless.coverage import Line, covered_adapters, line_of_device, line_of_mac


@dataclass(frozen=True, slots=True)
class ListRule:
    """One address on a list, and when it is on it."""

    list: ListMode
    line: Line
    hours: Week | None = None  # None: always
    until: datetime | None = None
    override: Override | None = None

    def holds(self, now: datetime, wall: datetime) -> bool:
        """Tell whether it is on its list at a moment."""
        if self.override is not None and now < self.override.until:
            return self.override.on
        return (self.until is None or now < self.until) and (self.hours is None or self.hours.holds(wall))

    def always_holds(self, now: datetime) -> bool:
        """Tell whether it is on its list from a moment on, at all times."""
        held_off = self.override is not None and not self.override.on and now < self.override.until
        return self.until is None and (self.hours is None or self.hours.is_always) and not held_off


@dataclass(frozen=True, slots=True)
class ListPolicy:
    """What people decided for a network."""

    ssid: str
    mode: ListMode
    rules: tuple[ListRule, ...] = ()
    others: Week | None = None  # when devices on no list may associate; None: as the mode says
    only: tuple[Line, ...] = ()  # until ``only_until`` only these may associate
    only_until: datetime | None = None

    @property
    def changes_by_itself(self) -> bool:
        """Tell whether time alone changes the list."""
        timed = any(rule.hours is not None or rule.until is not None or rule.override for rule in self.rules)
        return timed or self.others is not None or self.only_until is not None


@dataclass(frozen=True, slots=True)
class WantedList:
    """What an enforcer should hold at a moment: a mode, and the lines of that mode's list."""

    mode: ListMode
    lines: tuple[Line, ...] = ()

    @property
    def macs(self) -> frozenset[MacAddress]:
        """Return the addresses on the list."""
        return frozenset(line.mac for line in self.lines)

    def admits(self, mac: MacAddress) -> bool:
        """Tell whether an address may associate."""
        return self.mode is ListMode.OFF or (mac in self.macs) is (self.mode is ListMode.ALLOW)


def wanted(policy: ListPolicy, now: datetime, local: Local) -> WantedList:
    """Return the list that should be in force at a moment."""
    if policy.only_until is not None and now < policy.only_until:
        return WantedList(ListMode.ALLOW, sorted_lines(policy.only))
    wall = local(now)
    mode = policy.mode
    if policy.others is not None and not policy.others.holds(wall):
        mode = ListMode.ALLOW  # outside of their hours only devices on the allow list may associate
    if mode is ListMode.OFF:
        return WantedList(mode)
    return WantedList(
        mode, sorted_lines(rule.line for rule in policy.rules if rule.list is mode and rule.holds(now, wall))
    )


def admits(found: WantedList, macs: Sequence[MacAddress]) -> bool:
    """Tell whether a device may associate by all its addresses; without any, whether a device on no list may."""
    return all(map(found.admits, macs)) if macs else found.mode is not ListMode.ALLOW


def admitted_week(policy: ListPolicy, macs: Sequence[MacAddress]) -> Week:
    """Return when a device may be on the air in any week; without addresses, when a device on no list may.

    Ends of entries, and times at which the network is for some devices only, are left out.
    """
    week = WHOLE
    for mac in macs or (None,):
        listed = dict.fromkeys(ListMode, NEVER)
        for rule in policy.rules:
            if rule.line.mac == mac:
                listed[rule.list] |= rule.hours if rule.hours is not None else WHOLE
        allowed, denied = listed[ListMode.ALLOW], listed[ListMode.DENY]
        open_to = {ListMode.ALLOW: allowed, ListMode.DENY: ~denied, ListMode.OFF: WHOLE}[policy.mode]
        if policy.others is not None:
            open_to = (policy.others & open_to) | (~policy.others & allowed)
        week &= open_to
    return week


def next_turn(policy: ListPolicy, macs: Sequence[MacAddress], after: datetime, local: Local) -> datetime | None:
    """Return when a device is next admitted, or refused if it is admitted now; None if that never changes."""
    before = admits(wanted(policy, after, local), macs)
    moment = next_change(policy, after, local)
    for _ in range(500):
        if moment is None or admits(wanted(policy, moment, local), macs) != before:
            return moment
        moment = next_change(policy, moment, local)
    return None


def next_change(policy: ListPolicy, after: datetime, local: Local) -> datetime | None:
    """Return the first moment after ``after`` at which the wanted list is another; None if it stays."""
    weeks = {rule.hours for rule in policy.rules if rule.hours is not None}
    if policy.others is not None:
        weeks.add(policy.others)
    ends = [rule.until for rule in policy.rules if rule.until is not None]
    ends += [rule.override.until for rule in policy.rules if rule.override is not None]
    ends += [policy.only_until] if policy.only_until is not None else []
    was = _gist(wanted(policy, after, local))
    moment = after
    # A window's edge may change nothing (another window begins there, or the mode is off): then the next edge is tried.
    for _ in range(500):
        edges = [edge for week in weeks if (edge := week.next_change(moment, local)) is not None]
        coming = [*edges, *(end for end in ends if end > moment)]
        if not coming:
            return None
        moment = min(coming)
        if _gist(wanted(policy, moment, local)) != was:
            return moment
    return None


def changes_until(policy: ListPolicy, after: datetime, end: datetime, local: Local) -> int:
    """Return how often the wanted list becomes another one in a time: so often it has to be typed."""
    count, moment = 0, next_change(policy, after, local) if policy.changes_by_itself else None
    while moment is not None and moment < end:
        count += 1
        moment = next_change(policy, moment, local)
    return count


def policy_of(
    network: Network,
    entries: Iterable[Entry],
    devices: Sequence[Device],
    known: Mapping[str, Week],
    only: Sequence[int | MacAddress] = (),
) -> ListPolicy:
    """Return a network's policy: entries are of the network whose lists it uses; ``only`` are the only devices for a
    while.
    """
    by_id = {device.id: device for device in devices}
    of_mac = {mac: device for device in devices for mac in device.macs}
    weeks = dict(known)
    rules = [
        ListRule(entry.list, line, week_of(entry.hours, weeks), entry.until, entry.override)
        for entry in map(_in_effect, entries)
        if entry is not None
        for line in lines_of_subject(entry.subject, entry.description, by_id, of_mac)
    ]
    return ListPolicy(
        ssid=network.ssid,
        mode=network.mode,
        rules=tuple(rules),
        others=week_of(network.others_hours, weeks),
        only=tuple(line for subject in only for line in lines_of_subject(subject, "", by_id, of_mac)),
        only_until=network.only_until,
    )


def _in_effect(entry: Entry) -> Entry | None:
    """Return an entry as its list takes it; None for a paused one. A paused one may have its effect for a while."""
    if not entry.paused:
        return entry
    if entry.override is None or not entry.override.on:
        return None
    return replace(entry, hours="", until=entry.override.until, override=None)


def lines_of_subject(
    subject: int | MacAddress,
    description: str,
    by_id: Mapping[int, Device],
    of_mac: Mapping[MacAddress, Device],
) -> list[Line]:
    """Return the lines of a device, or of a bare MAC address."""
    if isinstance(subject, MacAddress):
        return [line_of_mac(subject, description, of_mac.get(subject))]
    device = by_id.get(subject)
    if device is None:
        return []
    return [line_of_device(adapter.mac, description, device) for adapter in covered_adapters(device)]


def sorted_lines(lines: Iterable[Line]) -> tuple[Line, ...]:
    """Return each address once: the own device first, then essential ones, then by name."""
    unique = {line.mac: line for line in reversed(list(lines))}
    return tuple(
        sorted(unique.values(), key=lambda line: (not line.own, not line.essential, line.name.casefold(), line.mac))
    )


def _gist(found: WantedList) -> tuple[ListMode, frozenset[MacAddress]]:
    return found.mode, found.macs


def policy_document(policy: ListPolicy) -> dict[str, Any]:
    """Return the policy as JSON, to be kept with a push."""
    return {
        "ssid": policy.ssid,
        "mode": str(policy.mode),
        "rules": [
            {
                "list": str(rule.list),
                **_line_document(rule.line),
                "hours": str(rule.hours) if rule.hours is not None else None,
                "until": rule.until.isoformat() if rule.until else None,
                **_override_document(rule.override),
            }
            for rule in policy.rules
        ],
        "others": str(policy.others) if policy.others is not None else None,
        "only": [_line_document(line) for line in policy.only],
        "only_until": policy.only_until.isoformat() if policy.only_until else None,
    }


@as_written("a published list")
def read_policy(document: Mapping[str, Any]) -> ListPolicy:
    """Return a policy that was kept."""
    return ListPolicy(
        ssid=document["ssid"],
        mode=ListMode(document["mode"]),
        rules=tuple(
            ListRule(
                ListMode(rule["list"]),
                _line(rule),
                Week.parse(rule["hours"]) if rule["hours"] else None,
                datetime.fromisoformat(rule["until"]) if rule["until"] else None,
                _override(rule.get("override")),
            )
            for rule in document["rules"]
        ),
        others=Week.parse(document["others"]) if document["others"] else None,
        only=tuple(map(_line, document["only"])),
        only_until=datetime.fromisoformat(document["only_until"]) if document["only_until"] else None,
    )


def _override_document(override: Override | None) -> dict[str, Any]:
    """Return it as JSON; nothing where there is none, so that such a policy is written as it always was."""
    return {"override": {"on": override.on, "until": override.until.isoformat()}} if override is not None else {}


def _override(document: Mapping[str, Any] | None) -> Override | None:
    return Override(bool(document["on"]), datetime.fromisoformat(document["until"])) if document is not None else None


def _line_document(line: Line) -> dict[str, Any]:
    return {"mac": str(line.mac), "name": line.name, "own": line.own, "essential": line.essential}


def _line(document: Mapping[str, Any]) -> Line:
    return Line(MacAddress.parse(document["mac"]), document["name"], document["own"], essential=document["essential"])
