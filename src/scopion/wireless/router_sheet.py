"""The sheet: numbered steps for the person who types a list into a router's web page, in the safe order.

After each step every essential device still works: entries before the mode, the own device before the others; to switch
a list off, the mode goes first. Once something was typed in, only the difference is left to type. Pure: what is wanted
and what was typed in go in; a ``Sheet`` comes out, which ``text`` and ``html`` write.
"""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from scopion.model.text import counted, joined, plain_value
from scopion.roster.wifi.lists import ListMode, Network
from scopion.wireless.coverage import Line
from scopion.wireless.enforcers.enforcer import Held
from scopion.wireless.find_on_device import JOIN_HIDDEN, LOGIN, where_to_find
from scopion.wireless.list_policy import ListRule, WantedList
from scopion.wireless.refusals import consequence

_TEMPLATE = Path(__file__).parent / "data" / "sheet.html"
WIDTH = 88  # prints on a sheet of paper at a readable size
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
    """One address to type, or to remove."""

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


def make_sheet(
    network: Network,
    now: WantedList,
    timed: Sequence[ListRule],
    times: SheetTimes,
    *,
    typed: Mapping[str, Held] | None = None,
    others: str = "",
    kinds: Sequence[str] = (),
) -> Sheet:
    """Return the sheet of a network for one moment.

    ``now`` is the list that should be in force; ``timed`` the rules of that list which have hours, at this hour or at
    another; ``typed``, by radio, what was typed in before: then only the difference is to be typed; ``others`` when
    devices on no list may associate; ``kinds`` what the listed devices are, which show their address in different
    places.
    """
    steps = _steps(network, now, typed or {})
    hours = [(rule.line.mac.written(network.notation), rule.line.name, str(rule.hours)) for rule in timed]
    on = now.mode is not ListMode.OFF
    tail = (*where_to_find(kinds), _REFUSED_SEES, JOIN_HIDDEN) if on else ()
    lasts = f" This list holds until {times.until}: print another sheet then." if times.until else ""
    if times.a_week > 1:
        week = f"In the coming week it changes {times.a_week} times"
        lasts += f" {week}: without a timetable in the router, you type it each time."
    return Sheet(
        title=f"Wireless network {network.ssid!r}: {_TITLES[now.mode]}",
        about=f"made {times.made}, for the router at {page(network)}",
        says=f"{consequence(network, now.mode, now.lines)}{lasts}",
        steps=tuple(steps),
        hours=tuple(hours),
        hours_say=_hours_say(now.mode, hours, others),
        tail=(*tail, _LIMITS),
    )


def text(sheet: Sheet) -> str:
    """Return the sheet as plain text."""
    body: list[str] = []
    for number, step in enumerate(sheet.steps, 1):
        body += _wrapped(step.says, f"{number:>3}. ", "     ")
        if step.lines:
            body += ["", *_listed(step.lines), ""]
        if step.then:
            body += [*_wrapped(step.then, "     ", "     "), ""]
    hours = []
    if sheet.hours_say:
        width = max((len(name) for _, name, _ in sheet.hours), default=0)
        hours = ["", *_wrapped(sheet.hours_say), ""]
        hours += [f"       {mac}   {name:{width}}   {windows}".rstrip() for mac, name, windows in sheet.hours]
    tail = [line for each in sheet.tail for line in ("", *_wrapped(each))]
    return "\n".join([sheet.title, sheet.about, "", *_wrapped(sheet.says), "", *body, *hours, *tail]) + "\n"


def page(network: Network) -> str:
    """Return the address to open in a browser."""
    if not network.router:
        return "an address that is not known yet (scopion wifi mode with --router sets it)"
    return network.router if "://" in network.router else f"http://{network.router}/"


_TITLES = {
    ListMode.OFF: "switch the list off",
    ListMode.ALLOW: "allow only these devices",
    ListMode.DENY: "deny these devices",
}


def _steps(network: Network, now: WantedList, typed: Mapping[str, Held]) -> list[SheetStep]:
    """Return the steps: radios whose mode is right get the difference only; additions come before removals."""
    whole = [radio for radio in network.radios if radio not in typed or typed[radio].mode is not now.mode]
    if now.mode is ListMode.OFF:
        changes = _steps_off(whole)
    else:
        changes = [
            step
            for radio in network.radios
            if radio not in whole
            for step in _difference(network, now, radio, typed[radio])
        ] + _steps_list(network, now, whole)
    if not changes:
        return [SheetStep("Nothing has changed since it was typed in: there is nothing to do.")]
    if now.mode is ListMode.OFF:
        return [_open(network), *changes, _say_done(network)]
    stays = "Leave its mode as it is for now." if whole else f"Its mode stays {now.mode}."
    return [_open(network), _find(stays), *changes, _say_done(network)]


def _steps_list(network: Network, now: WantedList, radios: Sequence[str]) -> list[SheetStep]:
    """Return steps for the whole list of some radios, then their mode."""
    mode, lines, steps = now.mode, now.lines, []
    typed = _typed(network, mode, lines)
    for radio in radios:
        holds = f"; the router holds {network.capacity}" if network.capacity is not None else ""
        then = f"The {radio} GHz list now has {counted(len(lines), 'entry', 'entries')}{holds}. Count them."
        said = f"{radio} GHz: make its {mode} list hold exactly these, and save:"
        steps.append(SheetStep(said, typed, then) if typed else SheetStep(f"{radio} GHz: empty its {mode} list."))
    for radio in radios:
        others = "only the listed may connect" if mode is ListMode.ALLOW else "the listed may not connect"
        steps.append(SheetStep(f"{radio} GHz: now set the mode to {mode} ({others}) and save."))
    if radios:
        check = "that this machine is still connected, then " if mode is ListMode.ALLOW else ""
        subject = "a device that is not listed" if mode is ListMode.ALLOW else "a listed device"
        steps.append(SheetStep(f"Check {check}that {subject} can no longer connect, on {_bands(radios)}."))
    return steps


def _difference(network: Network, now: WantedList, radio: str, held: Held) -> list[SheetStep]:
    """Return steps for what has changed on a radio since it was typed in there."""
    mode, lines, steps = now.mode, now.lines, []
    before = held.allow if mode is ListMode.ALLOW else held.deny
    new = [line for line in lines if line.mac not in before]
    gone = sorted(before - now.macs)
    count = f"The {radio} GHz list now has {counted(len(lines), 'entry', 'entries')}. Count them."
    if new:
        said = f"{radio} GHz: add to its {mode} list, and save:"
        steps.append(SheetStep(said, _typed(network, mode, new), "" if gone else count))
    if gone:
        said = f"{radio} GHz: remove from its {mode} list, and save:"
        steps.append(SheetStep(said, tuple(SheetLine(mac.written(network.notation), "") for mac in gone), count))
    return steps


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


def _typed(network: Network, mode: ListMode, lines: Sequence[Line]) -> tuple[SheetLine, ...]:
    return tuple(
        SheetLine(
            line.mac.written(network.notation),
            line.name,
            "first, so that you are not locked out" if line.own and mode is ListMode.ALLOW else "",
            f"caution: {line.caution}" if line.caution else "",
        )
        for line in lines
    )


def _hours_say(mode: ListMode, hours: Sequence[tuple[str, str, str]], others: str) -> str:
    said = []
    if hours:
        verb = "allowed" if mode is ListMode.ALLOW else "denied"
        said.append(
            f"Some are {verb} at certain hours only. If the router keeps a timetable itself (often under access "
            "control or parental control), keep them on its list and enter these hours there; else print a sheet at "
            "each change:"
        )
    if others:
        said.append(f"Devices on no list may connect {others} only; at other hours only the allow list may.")
    return " ".join(reversed(said)) if hours else " ".join(said)


def _open(network: Network) -> SheetStep:
    return SheetStep(f"Open {page(network)} in a browser, on cable if you can, and log in: {LOGIN}.")


def _find(then: str) -> SheetStep:
    return SheetStep(
        "Find the page where wireless clients are allowed or denied by MAC address; it is usually under Wireless, "
        f"Wi-Fi or Security. {then}"
    )


def html(sheet: Sheet) -> str:
    """Return the sheet as a page to print: one file of HTML without scripts, with everything from outside escaped."""
    from jinja2 import Environment  # imported where a page is wanted

    environment = Environment(autoescape=True, finalize=plain_value)
    return environment.from_string(_TEMPLATE.read_text(encoding="utf-8")).render(sheet=sheet) + "\n"


def _say_done(network: Network) -> SheetStep:
    from scopion.wireless.refusals import quoted

    return SheetStep(
        f"Say that it is done, so that the next sheet has the difference only: scopion wifi done {quoted(network.ssid)}"
    )


def _listed(lines: Sequence[SheetLine]) -> list[str]:
    width = max((len(line.name) for line in lines), default=0)
    found = []
    for line in lines:
        found.append(f"       [ ] {line.mac}   {line.name:{width}}   {line.remark}".rstrip())
        found += _wrapped(line.caution, "           ", "           ") if line.caution else []
    return found


def _bands(radios: Sequence[str]) -> str:
    return joined([f"{radio} GHz" for radio in radios])


def _wrapped(said: str, first: str = "", rest: str = "") -> list[str]:
    return textwrap.wrap(
        said, WIDTH, initial_indent=first, subsequent_indent=rest, break_long_words=False, break_on_hyphens=False
    )
