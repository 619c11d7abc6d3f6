"""The sheet: numbered steps for the person who types a list into a router's web page, in the safe order.

After each step everybody who must work still works: entries before the mode, the own device before the others; to
switch a list off, the mode goes first. Pure: network and lines in, text out.
"""

from __future__ import annotations

import textwrap
from collections.abc import Sequence

from scopion.model.text import counted, joined
from scopion.roster.lists import ListMode, Network
from scopion.wireless.coverage import Line
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


def sheet(network: Network, lines: Sequence[Line], made: str) -> str:
    """The whole sheet as text; ``made`` is the date as a person reads it."""
    head = [
        f"Wireless network {network.ssid!r}: {_title(network.mode)}",
        f"made {made}, for the router at {page(network)}",
        "",
        *_wrapped(consequence(network, network.mode, lines)),
        "",
    ]
    steps = _steps_off(network) if network.mode is ListMode.OFF else _steps_list(network, lines)
    body: list[str] = []
    for number, step in enumerate(steps, 1):
        first, *rest = step
        body += _wrapped(first, f"{number:>3}. ", "     ")
        body += rest
    tail = ["", *_wrapped(_REFUSED_SEES)] if network.mode is not ListMode.OFF else []
    return "\n".join([*head, *body, *tail, "", *_wrapped(_LIMITS)]) + "\n"


def page(network: Network) -> str:
    """The address to open in a browser."""
    if not network.router:
        return "an address that is not known yet (scopion wifi mode with --router sets it)"
    return network.router if "://" in network.router else f"http://{network.router}/"


def _title(mode: ListMode) -> str:
    return {
        ListMode.OFF: "switch the list off",
        ListMode.ALLOW: "allow only these devices",
        ListMode.DENY: "deny these devices",
    }[mode]


def _steps_list(network: Network, lines: Sequence[Line]) -> list[list[str]]:
    mode = network.mode
    steps = [
        _open(network),
        [
            "Find the page where wireless clients are allowed or denied by MAC address; it is usually under Wireless, "
            "Wi-Fi or Security. Leave its mode as it is for now."
        ],
    ]
    for radio in network.radios:
        steps.append(_enter(network, lines, radio))
    for radio in network.radios:
        others = "only the listed may connect" if mode is ListMode.ALLOW else "the listed may not connect"
        steps.append([f"{radio} GHz: now set the mode to {mode} ({others}) and save."])
    check = "that this machine is still connected, then " if mode is ListMode.ALLOW else ""
    subject = "a device that is not listed" if mode is ListMode.ALLOW else "a listed device"
    steps.append([f"Check {check}that {subject} can no longer connect, on {_radios(network)}."])
    return steps


def _enter(network: Network, lines: Sequence[Line], radio: str) -> list[str]:
    step = [f"{radio} GHz: make its {network.mode} list hold exactly these, and save:", ""]
    width = max((len(line.name) for line in lines), default=0)
    for line in lines:
        first = "first, so that you are not locked out" if line.own and network.mode is ListMode.ALLOW else ""
        text = f"[ ] {line.mac.written(network.notation)}   {line.name:{width}}   {first}"
        step.append(f"       {text.rstrip()}")
        step += _wrapped(f"caution: {line.caution}", "           ", "           ") if line.caution else []
    holds = f"; the router holds {network.capacity}" if network.capacity is not None else ""
    step += ["", f"     The {radio} GHz list now has {counted(len(lines), 'entry', 'entries')}{holds}. Count them.", ""]
    return step


def _steps_off(network: Network) -> list[list[str]]:
    steps = [_open(network)]
    for radio in network.radios:
        steps.append([f"{radio} GHz: set the mode of its list to off (disabled) and save. This goes first."])
    steps.append(["The entries may stay where they are: without a mode they have no effect."])
    steps.append([f"Check that a device which was refused can connect again, on {_radios(network)}."])
    return steps


def _open(network: Network) -> list[str]:
    return [f"Open {page(network)} in a browser and log in - on cable if you can."]


def _radios(network: Network) -> str:
    return joined([f"{radio} GHz" for radio in network.radios])


def _wrapped(text: str, first: str = "", rest: str = "") -> list[str]:
    return textwrap.wrap(
        text, WIDTH, initial_indent=first, subsequent_indent=rest, break_long_words=False, break_on_hyphens=False
    )
