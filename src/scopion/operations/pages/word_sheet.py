"""Words the sheet of a push to a page, from the record of pushes: what it asks for, against what may be typed in."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta

from scopion.model.device import Device
from scopion.model.mac import MacAddress
from scopion.model.week import Week
from scopion.operations.devices.identify_device import described
from scopion.operations.pages.held_by import pages_of
from scopion.operations.pages.typed_lists import basis_of, waiting_sheet
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written
from scopion.roster.wifi.lists import ListMode, find_network
from scopion.roster.wifi.pushes import Push, PushState, pushes
from scopion.wireless.coverage import Line, caution_about, line_of_mac
from scopion.wireless.enforcer_settings import PageSettings
from scopion.wireless.enforcers.enforcer import Held, read_held
from scopion.wireless.enforcers.page import traits_of
from scopion.wireless.find_on_device import PHONE
from scopion.wireless.list_policy import (
    ListPolicy,
    ListRule,
    WantedList,
    changes_until,
    next_change,
    read_policy,
    sorted_lines,
)
from scopion.wireless.plan_radio import as_carried_out
from scopion.wireless.router_sheet import RadioPart, Sheet, SheetTimes, Timing, make_sheet
from scopion.wireless.write_sheet import in_lines

_WEEK = timedelta(days=7)
_KINDS_TOLD = 3  # a sheet is one page


@dataclass(frozen=True, slots=True)
class ToType:
    """What a push to a page asks a person to type, radio by radio, and which lists the page may hold."""

    push: Push
    page: PageSettings
    policy: ListPolicy | None  # as the page carries it out; None: it goes back to before all sheets
    parts: tuple[RadioPart, ...]
    timing: Timing
    unsaid: Push | None  # the last sheet before it that was handed over and never said to be done
    devices: Mapping[MacAddress, Device]
    names: Mapping[MacAddress, str]  # of addresses that leave the list

    @property
    def is_nothing(self) -> bool:
        """Tell whether the page holds all of it already, as a person has said."""
        there = all(len(part.typed) == 1 and _is(part.typed[0], part.wanted) for part in self.parts)
        return there and not self.timing.enter and not self.timing.clear


def to_type(roster: Roster, page: PageSettings, push: Push, *, whole: bool = False) -> ToType:
    """Return what a push asks to type into a page, against what may be typed in; ``whole``: against nothing."""
    devices = {mac: device for device in all_devices(roster) for mac in device.macs}
    policy = read_policy(push.policy) if push.policy is not None else None
    lines = {line.mac: line for line in (*(rule.line for rule in policy.rules), *policy.only)} if policy else {}

    def line(mac: MacAddress) -> Line:
        known = lines.get(mac) or line_of_mac(mac, "", devices.get(mac))
        return replace(known, caution=caution_about(mac))

    history = pushes(roster, push.ssid)
    basis = {radio: basis_of(history, push, radio) for radio in push.radios}
    unsaid = next((each for those in basis.values() for each in those if each.state is not PushState.DONE), None)
    if whole:
        basis, unsaid = {}, None
    parts = []
    # Bands that site.toml does not name any more come last.
    for radio in sorted(push.radios, key=lambda each: (each not in page.radios, (*page.radios, each).index(each))):
        held = read_held(push.radios[radio]["target"])
        mode = held.mode or ListMode.OFF
        macs = held.allow if mode is ListMode.ALLOW else held.deny if mode is ListMode.DENY else ()
        typed = dict.fromkeys(read_held(each.radios[radio]["target"]) for each in basis.get(radio, ()))
        parts.append(RadioPart(radio, WantedList(mode, sorted_lines(map(line, macs))), tuple(typed)))
    timing = _timing(push, policy, parts[0].wanted, basis, line)
    carried_out = as_carried_out(policy, traits_of(page)) if policy is not None else None
    names = {mac: device.called for mac, device in devices.items() if device.called != str(mac)}
    for each in (before for those in basis.values() for before in those if before.policy is not None):
        names |= {rule.line.mac: rule.line.name for rule in read_policy(each.policy or {}).rules if rule.line.name}
    return ToType(push, page, carried_out, tuple(parts), timing, unsaid, devices, names)


def sheet_of(site: Site, roster: Roster, asked: ToType, *, waits: bool = True) -> Sheet:
    """Return the sheet with what is to be typed; ``waits``: whether its person is to say that it is done."""
    local, at, policy, page = site.clock.local, asked.push.at, asked.policy, asked.page
    change = next_change(policy, at, local) if policy is not None and policy.changes_by_itself else None
    network = find_network(roster, asked.push.ssid)
    if not page.page and network is not None:
        page = replace(page, page=network.router)
    return make_sheet(
        page,
        asked.parts,
        SheetTimes(
            made=f"{local(at):%Y-%m-%d %H:%M}",
            until=f"{local(change):%A %Y-%m-%d, %H:%M}" if change is not None else "",
            a_week=changes_until(policy, at, at + _WEEK, local) if policy is not None else 0,
            unsaid=f"{local(asked.unsaid.at):%A %Y-%m-%d, %H:%M}" if asked.unsaid is not None else "",
        ),
        timing=asked.timing,
        names=asked.names,
        kinds=_kinds(site, asked.parts[0].wanted, asked.devices),
        waits=waits,
    )


def due_steps(site: Site, roster: Roster, ssid: str, name: str) -> tuple[str, ...]:
    """Return the steps of the sheet that waits at a page, as lines of a message; none if none waits any more."""
    waiting = waiting_sheet(roster, ssid, name)
    page = next((each for each in pages_of(site, ssid) if each.name == name), None)
    if waiting is None or page is None:
        return ()
    return tuple(in_lines(sheet_of(site, roster, to_type(roster, page, waiting))))


def typed_hours(policy: ListPolicy | None, target: Held) -> dict[str, str]:
    """Return the hours that belong into a router's own timetable beside a list, by address; as a push keeps them."""
    listed = target.allow | target.deny
    return {
        str(rule.line.mac): str(rule.hours)
        for rule in (policy.rules if policy is not None else ())
        if rule.hours is not None and rule.list is target.mode and rule.line.mac in listed
    }


def _is(held: Held, wanted: WantedList) -> bool:
    there = held.allow if wanted.mode is ListMode.ALLOW else held.deny
    return held.mode is wanted.mode and (wanted.mode is ListMode.OFF or there == wanted.macs)


def _timing(
    push: Push,
    policy: ListPolicy | None,
    wanted: WantedList,
    basis: Mapping[str, Sequence[Push]],
    line: Callable[[MacAddress], Line],
) -> Timing:
    """Return what of the hours is to be typed, or to be known."""
    others = str(policy.others) if policy is not None and policy.others is not None else ""
    timed = [
        rule
        for rule in (policy.rules if policy is not None else ())
        if rule.list is wanted.mode and rule.hours is not None and (rule.until is None or push.at < rule.until)
    ]
    if not any("hours" in told for told in push.radios.values()):
        return Timing(list({rule.line.mac: rule for rule in timed}.values()), others=others)
    asked = {mac: hours for told in push.radios.values() for mac, hours in told.get("hours", {}).items()}
    before = [each.radios[radio].get("hours", {}) for radio, those in basis.items() for each in those]
    enter = [mac for mac, hours in asked.items() if not before or any(each.get(mac) != hours for each in before)]
    with as_written("hours"):
        return Timing(
            enter=[
                ListRule(wanted.mode, line(mac), Week.parse(asked[str(mac)]))
                for mac in sorted(map(MacAddress.parse, enter))
            ],
            clear=sorted(
                mac
                for mac in map(MacAddress.parse, {mac for each in before for mac in each if mac not in asked})
                if mac in wanted.macs
            ),
            others=others,
        )


def _kinds(site: Site, wanted: WantedList, devices: Mapping[MacAddress, Device]) -> list[str]:
    """Return the kinds of the listed devices, as far as they are known."""
    listed = dict.fromkeys(devices[line.mac] for line in wanted.lines if line.mac in devices)
    kinds = [described(device, site.vendors, site.kinds).guess.kind for device in listed]
    made_up = [PHONE] if any(line.mac.is_private for line in wanted.lines) else []
    return list(dict.fromkeys(filter(None, [*made_up, *kinds])))[:_KINDS_TOLD]
