"""The sheet: numbered steps for the person who types a list into a router's web page, in the safe order.

After each step every essential device still works: entries before the mode, the own device before the others; to switch
a list off, the mode goes first, and so it does before a list is made another one. Once something was typed in, only the
difference is left to type. Pure: what is wanted and what was typed in go in; a ``Sheet`` comes out, which
``write_sheet`` writes.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from scopion.model.mac import MacAddress
from scopion.model.text import counted, joined
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.coverage import Line
from scopion.wireless.enforcer_settings import PageSettings
from scopion.wireless.enforcers.enforcer import Held
from scopion.wireless.find_on_device import JOIN_HIDDEN, LOGIN, where_to_find
from scopion.wireless.list_policy import ListRule, WantedList
from scopion.wireless.refusals import consequence, quoted

_REFUSED_SEES = (
    "What the owner of a refused device sees: it cannot connect, or it asks for the passphrase again and again, though "
    "the passphrase is right. Nothing tells them why."
)
_LIMITS = (
    "What a list cannot do: a MAC address can be read off the air and copied, so this keeps out the casual visitor "
    "only; encryption (WPA2 or WPA3) and a passphrase changed after it has spread are what protects the network."
)


@dataclass(frozen=True, slots=True)
class SheetLine:
    """One address to type, or to remove; or another value, and what it is."""

    mac: str  # in the notation of the router
    name: str
    remark: str = ""
    caution: str = ""


@dataclass(frozen=True, slots=True)
class SheetStep:
    """One numbered step."""

    says: str
    lines: tuple[SheetLine, ...] = ()
    then: str = ""  # what to count or see afterwards


@dataclass(frozen=True, slots=True)
class Sheet:
    """Everything on a sheet."""

    title: str
    about: str
    says: str
    steps: tuple[SheetStep, ...]
    hours: tuple[tuple[str, str, str], ...]  # MAC, name, windows: for a router that keeps a timetable itself
    hours_say: str
    tail: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class SheetTimes:
    """When a sheet was made, and when it will be another one; as a person reads them."""

    made: str
    until: str = ""  # empty: it stays as it is
    a_week: int = 0  # how often the list changes by itself in the coming week
    unsaid: str = ""  # when the last sheet was made that is not said to be done; empty: there is none


@dataclass(frozen=True, slots=True)
class RadioPart:
    """One radio: what its list should be, and the lists that it may hold, as a person has said."""

    radio: str
    wanted: WantedList
    typed: tuple[Held, ...] = ()  # several: a sheet was handed over and not said to be done; empty: not known


@dataclass(frozen=True, slots=True)
class Timing:
    """Hours, as far as they are typed: into the router's own timetable, or by another sheet at each change."""

    timed: Sequence[ListRule] = ()  # the rules of the list that have hours, at this hour or at another
    enter: Sequence[ListRule] | None = None  # those to enter into the router's timetable; None: it has none
    clear: Sequence[MacAddress] = ()  # those whose hours are to be taken out of it
    others: str = ""  # when devices on no list may associate


def make_sheet(
    page: PageSettings,
    parts: Sequence[RadioPart],
    times: SheetTimes,
    *,
    timing: Timing,
    names: Mapping[MacAddress, str],
    kinds: Sequence[str] = (),
    waits: bool = True,
) -> Sheet:
    """Return the sheet of a page for one moment; ``parts`` are its radios in order, at least one.

    ``names`` are of addresses that leave the list; ``kinds`` what the listed devices are, which show their address in
    different places; ``waits``: whether its person is to say that it is done.
    """
    steps = [step for wanted, radios in _alike(parts) for step in _Steps(page, wanted, names).of(radios)]
    steps += _steps_of_hours(page, timing)
    wanted = parts[0].wanted
    on = wanted.mode is not ListMode.OFF
    if not steps:
        steps = [SheetStep("Nothing has changed since it was typed in: there is nothing to do.")]
    else:
        steps = [_open(page), *([_find()] if on else []), *steps, *([_say_done(page)] if waits else [])]
    hours = [] if timing.enter is not None else timing.timed
    table = tuple((rule.line.mac.written(page.notation), rule.line.name, str(rule.hours)) for rule in hours)
    return Sheet(
        title=f"Wireless network {page.network!r}: {_TITLES[wanted.mode]}",
        about=f"made {times.made}, for the router at {address_of(page)}",
        says=f"{consequence(page.network, wanted.mode, wanted.lines)}{_lasting(page, times)}{_emptied(wanted)}",
        steps=tuple(steps),
        hours=table,
        hours_say=_hours_say(wanted.mode, bool(table), timing.others),
        tail=(*((*where_to_find(kinds), _REFUSED_SEES, JOIN_HIDDEN) if on else ()), _LIMITS),
    )


def address_of(page: PageSettings) -> str:
    """Return the address to open in a browser."""
    if not page.page:
        return "an address that is not known yet (scopion wifi mode with --router sets it)"
    return page.page if "://" in page.page else f"http://{page.page}/"


def _lasting(page: PageSettings, times: SheetTimes) -> str:
    """Return what to know of time: until when the sheet holds, how often it has to be typed, what is not known."""
    said = f" This list holds until {times.until}: print another sheet then." if times.until else ""
    if times.a_week > 1:
        without = "" if page.timetable else "without a timetable in the router, "
        said += f" In the coming week it changes {times.a_week} times: {without}you type it each time."
    if times.unsaid:
        said += (
            f" It is not known whether the sheet of {times.unsaid} was typed in: this one is right in both cases, so "
            "some of it may be there already."
        )
    return said


def _emptied(wanted: WantedList) -> str:
    if wanted.mode is not ListMode.ALLOW or wanted.lines:
        return ""
    return " Some routers let every device in when their allow list is empty: check that, from a cable."


def _alike(parts: Iterable[RadioPart]) -> list[tuple[WantedList, list[RadioPart]]]:
    """Return the radios by what they should hold; it is the same on all, but for sheets that go back."""
    found: list[tuple[WantedList, list[RadioPart]]] = []
    for part in parts:
        same = next((those for wanted, those in found if wanted == part.wanted), None)
        if same is None:
            found.append((part.wanted, [part]))
        else:
            same.append(part)
    return found


_TITLES = {
    ListMode.OFF: "switch the list off",
    ListMode.ALLOW: "allow only these devices",
    ListMode.DENY: "deny these devices",
}


class _Steps:
    """The steps of radios that should hold the same list."""

    def __init__(self, page: PageSettings, wanted: WantedList, names: Mapping[MacAddress, str]) -> None:
        self._page, self._wanted, self._names = page, wanted, names

    def of(self, parts: Sequence[RadioPart]) -> list[SheetStep]:
        """Return the steps: radios whose mode is right get the difference only; additions come before removals."""
        mode = self._wanted.mode
        whole = [part for part in parts if not part.typed or any(held.mode is not mode for held in part.typed)]
        if mode is ListMode.OFF:
            return _steps_off([part.radio for part in whole])
        changes = [step for part in parts if part not in whole for step in self._difference(part)]
        return changes + self._whole(whole)

    def _whole(self, parts: Sequence[RadioPart]) -> list[SheetStep]:
        """Return steps for the whole list of some radios, then their mode.

        Many pages have one list, and the mode says what it is for: while it is made another one it must be in no force.
        """
        mode, lines, radios = self._wanted.mode, self._wanted.lines, [part.radio for part in parts]
        typed, steps = self._typed(lines), [step for part in parts for step in self._off_first(part)]
        room = self._page.capacity
        for radio in radios:
            holds = f"; the router holds {room}" if room is not None else ""
            then = f"The {radio} GHz list now has {counted(len(lines), 'entry', 'entries')}{holds}. Count them."
            stays = " Leave its mode off for now." if self._page.modes else ""
            said = f"{radio} GHz: make its {mode} list hold exactly these, and save.{stays}"
            steps.append(SheetStep(said, typed, then) if typed else SheetStep(f"{radio} GHz: empty its {mode} list."))
        if not self._page.modes:
            return steps
        if radios and mode is ListMode.ALLOW:
            steps.append(print_rescue(self._page.network))
        for radio in radios:
            others = "only the listed may connect" if mode is ListMode.ALLOW else "the listed may not connect"
            steps.append(SheetStep(f"{radio} GHz: now set the mode to {mode} ({others}) and save."))
        if radios and (lines or mode is ListMode.ALLOW):
            check = "that this machine is still connected, then " if mode is ListMode.ALLOW else ""
            subject = "a device that is not listed" if mode is ListMode.ALLOW else "a listed device"
            steps.append(SheetStep(f"Check {check}that {subject} can no longer connect, on {_bands(radios)}."))
        return steps

    def _off_first(self, part: RadioPart) -> list[SheetStep]:
        """Return the step that switches a list off before it is made another one; none if it is off."""
        if not self._page.modes or (part.typed and all(held.mode is ListMode.OFF for held in part.typed)):
            return []
        sure = len(part.typed) == 1
        first = "" if sure else "if its list is switched on, "
        return [SheetStep(f"{part.radio} GHz: {first}set its mode to off (disabled) first, and save.")]

    def _difference(self, part: RadioPart) -> list[SheetStep]:
        """Return steps for what has changed on a radio since it was typed in there; it may hold any of its lists."""
        mode, lines, radio = self._wanted.mode, self._wanted.lines, part.radio
        held = [each.allow if mode is ListMode.ALLOW else each.deny for each in part.typed]
        new = [line for line in lines if not all(line.mac in those for those in held)]
        gone = sorted(frozenset().union(*held) - self._wanted.macs)
        count = f"The {radio} GHz list now has {counted(len(lines), 'entry', 'entries')}. Count them."
        sure, steps = len(held) == 1, []
        if new:
            said = "add to its {} list, and save:" if sure else "add to its {} list what is not there yet, and save:"
            steps.append(SheetStep(f"{radio} GHz: {said.format(mode)}", self._typed(new), "" if gone else count))
        if gone:
            said = "remove from its {} list, and save:" if sure else "remove from its {} list what is there, and save:"
            lines_gone = tuple(SheetLine(mac.written(self._page.notation), self._names.get(mac, "")) for mac in gone)
            steps.append(SheetStep(f"{radio} GHz: {said.format(mode)}", lines_gone, count))
        return steps

    def _typed(self, lines: Sequence[Line]) -> tuple[SheetLine, ...]:
        own = "first, so that you are not locked out" if self._wanted.mode is ListMode.ALLOW else ""
        return tuple(
            SheetLine(
                line.mac.written(self._page.notation),
                line.name,
                own if line.own else "",
                f"caution: {line.caution}" if line.caution else "",
            )
            for line in lines
        )


def print_rescue(ssid: str) -> SheetStep:
    """Return the step that comes before an allow list is switched on: only then can a person be locked out by it."""
    return SheetStep(
        "Before you go on, print what to do if you are locked out, because you cannot look it up then: "
        f"scopion wifi sheet {quoted(ssid)} --rescue"
    )


def _steps_off(radios: Sequence[str]) -> list[SheetStep]:
    if not radios:
        return []
    steps = [
        SheetStep(f"{radio} GHz: set the mode of its list to off (disabled) and save. This goes first.")
        for radio in radios
    ]
    steps.append(SheetStep("The entries may stay where they are: without a mode they have no effect."))
    steps.append(SheetStep(f"Check that a device which was refused can connect again, on {_bands(radios)}."))
    return steps


def _steps_of_hours(page: PageSettings, timing: Timing) -> list[SheetStep]:
    """Return what to change in the router's own timetable."""
    where, steps = "in the router's timetable (often under access control or parental control)", []
    if timing.enter:
        verb = "allowed" if timing.enter[0].list is ListMode.ALLOW else "denied"
        lines = tuple(
            SheetLine(rule.line.mac.written(page.notation), rule.line.name, str(rule.hours)) for rule in timing.enter
        )
        steps.append(SheetStep(f"These are {verb} at certain hours only: enter the hours {where}, and save:", lines))
    if timing.clear:
        lines = tuple(SheetLine(mac.written(page.notation), "") for mac in timing.clear)
        steps.append(SheetStep(f"These have no hours any more: take them out {where}, and save:", lines))
    return steps


def _hours_say(mode: ListMode, timed: bool, others: str) -> str:
    said = []
    if others:
        said.append(f"Devices on no list may connect {others} only; at other hours only the allow list may.")
    if timed:
        verb = "allowed" if mode is ListMode.ALLOW else "denied"
        said.append(
            f"Some are {verb} at certain hours only, so print a sheet at each change. If the router keeps a timetable "
            'itself, say so in site.toml ([[enforcer]] with type = "page" and timetable = true): then these hours are '
            "typed once:"
        )
    return " ".join(said)


def _open(page: PageSettings) -> SheetStep:
    return SheetStep(f"Open {address_of(page)} in a browser, on cable if you can, and log in: {LOGIN}.")


def _find() -> SheetStep:
    return SheetStep(
        "Find the page where wireless clients are allowed or denied by MAC address; it is usually under Wireless, "
        "Wi-Fi or Security."
    )


def _say_done(page: PageSettings) -> SheetStep:
    return SheetStep(
        f"Say that it is done, so that the next sheet has the difference only: scopion wifi done {quoted(page.network)}"
    )


def _bands(radios: Sequence[str]) -> str:
    return joined([f"{radio} GHz" for radio in radios])
