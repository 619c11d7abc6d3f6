"""The sheet: numbered steps for the person who types a list into a router's web page, in the safe order.

After each step everybody who must work still works: entries before the mode, the own device before the others; to
switch a list off, the mode goes first. Once something was typed in, only the difference is left to type. Pure: what is
wanted and what was typed in go in; a ``Sheet`` comes out, which ``text`` and ``sheet_html`` write.
"""

from __future__ import annotations

import textwrap
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from scopion.model.mac import MacAddress
from scopion.model.text import counted, joined
from scopion.roster.lists import ListMode, Network
from scopion.wireless.coverage import Line
from scopion.wireless.enforcers.base import Held
from scopion.wireless.policy import Rule
from scopion.wireless.refusals import consequence

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

    mac: str  # as the router wants it written
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
    """Everything that stands on a sheet."""

    title: str
    about: str
    says: str
    steps: tuple[SheetStep, ...]
    hours: tuple[tuple[str, str, str], ...]  # MAC, name, windows: for a router that keeps a timetable itself
    hours_say: str
    tail: tuple[str, ...]


def make_sheet(
    network: Network,
    rules: Sequence[Rule],
    made: str,
    typed: Mapping[str, Held] | None = None,
    *,
    others: str = "",
) -> Sheet:
    """The sheet of a network.

    ``rules`` are those of its mode's list, whenever they hold; ``typed``, by radio, what was typed in before: then
    only the difference is to be typed; ``made`` is the date as a person reads it; ``others`` when those may associate
    who are on no list.
    """
    lines = [rule.line for rule in rules]
    if network.mode is ListMode.OFF:
        steps = _steps_off(network)
    elif typed is not None and all(held.mode is network.mode for held in typed.values()) and typed:
        steps = _steps_difference(network, lines, typed)
    else:
        steps = _steps_list(network, lines)
    hours = [
        (rule.line.mac.written(network.notation), rule.line.name, str(rule.hours))
        for rule in rules
        if rule.hours is not None
    ]
    return Sheet(
        title=f"Wireless network {network.ssid!r}: {_TITLES[network.mode]}",
        about=f"made {made}, for the router at {page(network)}",
        says=consequence(network, network.mode, lines),
        steps=tuple(steps),
        hours=tuple(hours),
        hours_say=_hours_say(network, hours, others),
        tail=(*((_REFUSED_SEES,) if network.mode is not ListMode.OFF else ()), _LIMITS),
    )


def text(sheet: Sheet) -> str:
    """The sheet as plain text."""
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
    """The address to open in a browser."""
    if not network.router:
        return "an address that is not known yet (scopion wifi mode with --router sets it)"
    return network.router if "://" in network.router else f"http://{network.router}/"


_TITLES = {
    ListMode.OFF: "switch the list off",
    ListMode.ALLOW: "allow only these devices",
    ListMode.DENY: "deny these devices",
}


def _steps_list(network: Network, lines: Sequence[Line]) -> list[SheetStep]:
    mode = network.mode
    steps = [_open(network), _find("Leave its mode as it is for now.")]
    typed = _typed(network, lines)
    for radio in network.radios:
        holds = f"; the router holds {network.capacity}" if network.capacity is not None else ""
        then = f"The {radio} GHz list now has {counted(len(lines), 'entry', 'entries')}{holds}. Count them."
        steps.append(SheetStep(f"{radio} GHz: make its {mode} list hold exactly these, and save:", typed, then))
    for radio in network.radios:
        others = "only the listed may connect" if mode is ListMode.ALLOW else "the listed may not connect"
        steps.append(SheetStep(f"{radio} GHz: now set the mode to {mode} ({others}) and save."))
    check = "that this machine is still connected, then " if mode is ListMode.ALLOW else ""
    subject = "a device that is not listed" if mode is ListMode.ALLOW else "a listed device"
    steps.append(SheetStep(f"Check {check}that {subject} can no longer connect, on {_radios(network)}."))
    return [*steps, _say_done(network)]


def _steps_difference(network: Network, lines: Sequence[Line], typed: Mapping[str, Held]) -> list[SheetStep]:
    """Only what has changed since it was typed in; what is new comes before what goes."""
    wanted = {line.mac: line for line in lines}
    mode = network.mode
    changes: list[SheetStep] = []
    for radio in network.radios:
        held = typed.get(radio, Held())
        before = held.allow if mode is ListMode.ALLOW else held.deny
        new = [line for line in lines if line.mac not in before]
        gone = sorted(before - set(wanted))
        count = f"The {radio} GHz list now has {counted(len(lines), 'entry', 'entries')}. Count them."
        if new:
            then = "" if gone else count
            said = f"{radio} GHz: add to its {mode} list, and save:"
            changes.append(SheetStep(said, _typed(network, new), then))
        if gone:
            said = f"{radio} GHz: remove from its {mode} list, and save:"
            changes.append(SheetStep(said, tuple(_removed(network, mac) for mac in gone), count))
    if not changes:
        return [SheetStep("Nothing has changed since it was typed in: there is nothing to do.")]
    return [_open(network), _find(f"Its mode stays {mode}."), *changes, _say_done(network)]


def _steps_off(network: Network) -> list[SheetStep]:
    steps = [_open(network)]
    for radio in network.radios:
        steps.append(SheetStep(f"{radio} GHz: set the mode of its list to off (disabled) and save. This goes first."))
    steps.append(SheetStep("The entries may stay where they are: without a mode they have no effect."))
    steps.append(SheetStep(f"Check that a device which was refused can connect again, on {_radios(network)}."))
    return [*steps, _say_done(network)]


def _typed(network: Network, lines: Sequence[Line]) -> tuple[SheetLine, ...]:
    return tuple(
        SheetLine(
            line.mac.written(network.notation),
            line.name,
            "first, so that you are not locked out" if line.own and network.mode is ListMode.ALLOW else "",
            f"caution: {line.caution}" if line.caution else "",
        )
        for line in lines
    )


def _removed(network: Network, mac: MacAddress) -> SheetLine:
    return SheetLine(mac.written(network.notation), "")


def _hours_say(network: Network, hours: Sequence[tuple[str, str, str]], others: str) -> str:
    said = []
    if hours:
        verb = "allowed" if network.mode is ListMode.ALLOW else "denied"
        said.append(
            f"Some are {verb} at certain hours only. If the router keeps a timetable itself (often under access "
            "control or parental control), enter these hours there; else print a sheet at each change:"
        )
    if others:
        said.append(f"Who is on no list may connect {others} only; at other hours only the allow list may.")
    return " ".join(reversed(said)) if hours else " ".join(said)


def _open(network: Network) -> SheetStep:
    return SheetStep(f"Open {page(network)} in a browser and log in - on cable if you can.")


def _find(then: str) -> SheetStep:
    return SheetStep(
        "Find the page where wireless clients are allowed or denied by MAC address; it is usually under Wireless, "
        f"Wi-Fi or Security. {then}"
    )


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


def _radios(network: Network) -> str:
    return joined([f"{radio} GHz" for radio in network.radios])


def _wrapped(said: str, first: str = "", rest: str = "") -> list[str]:
    return textwrap.wrap(
        said, WIDTH, initial_indent=first, subsequent_indent=rest, break_long_words=False, break_on_hyphens=False
    )
