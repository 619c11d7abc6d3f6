"""The sheet for a person who is locked out of a wireless network: what to try, the easiest first.

At its end is the list to enter again. Pure: what is the case goes in, a ``Sheet`` comes out, which ``write_sheet``
writes.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from scopion.model.band import spoken_bands
from scopion.model.mac import MacAddress, Notation
from scopion.model.text import capitalised, joined
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.find_on_device import LOGIN
from scopion.wireless.refusals import quoted
from scopion.wireless.router_sheet import Sheet, SheetLine, SheetStep

_NAMED_AT_MOST = 8
_OFF = "set the mode of its list to off (disabled)"


@dataclass(frozen=True, slots=True)
class OwnAdapter:
    """One of this machine's adapters, as far as it matters here."""

    name: str
    mac: MacAddress
    wireless: bool
    connected: bool  # it is up and has an address
    refused_on: tuple[str, ...] = ()  # the radios whose list in force refuses it


@dataclass(frozen=True, slots=True)
class LastChange:
    """What was put in force last."""

    says: str  # push 4 of 17:20 by keeper; the sheet of 17:20
    reverts_at: str = ""  # when it is taken back by itself; empty: it is not


@dataclass(frozen=True, slots=True)
class RescueFacts:
    """What is known of a network and of the way to its router."""

    ssid: str
    made: str
    beforehand: bool  # it is printed before anything has gone wrong
    router: str  # what to open in a browser; empty: not known
    notation: Notation
    radios: tuple[str, ...]
    mode: ListMode  # of the list that was put in force last
    by_hand: bool  # a page holds the list
    enforcers: tuple[str, ...] = ()
    restart: str = ""  # what becomes of the list when what holds it is switched off and on; empty: it stays
    asking: tuple[tuple[str, str], ...] = ()  # access points that ask by RADIUS: address and name
    only_asked: bool = False  # nothing but these holds the list
    adapters: tuple[OwnAdapter, ...] = ()
    router_answers: bool | None = None  # None: it could not be asked
    last: LastChange | None = None
    admitted: tuple[str, ...] = ()  # devices that the list in force admits, by name
    again: tuple[str, ...] = ()  # what is known of the router's settings, to be entered after a reset
    whole: Sheet | None = None  # the full list, to be typed again; None: nothing is typed

    @property
    def is_refused(self) -> bool:
        """Tell whether a list in force refuses this machine, or may when a sheet is printed beforehand."""
        return self.beforehand or any(each.refused_on for each in self.adapters)


def rescue_sheet(facts: RescueFacts) -> Sheet:
    """Return the sheet of what to try, the easiest first."""
    steps = [*_waiting(facts), *_cable(facts), *_helpers(facts), *_page(facts), *_restart(facts), *_reset(facts)]
    return Sheet(
        title=f"Locked out of the wireless network {facts.ssid!r}?",
        about=f"made {facts.made}" + (", to be kept on paper" if facts.beforehand else ""),
        says=" ".join(_case(facts)),
        steps=tuple(steps),
        hours=(),
        hours_say="",
        tail=("Try one after the other; as soon as you are connected again, the rest is not needed.",),
    )


def _case(facts: RescueFacts) -> Iterator[str]:
    """Yield what is the case, in sentences."""
    if facts.last is not None:
        yield f"{capitalised(facts.last.says)}."
    wireless = [each for each in facts.adapters if each.wireless]
    for each in wireless:
        if each.refused_on:
            where = spoken_bands(each.refused_on)
            yield f"The list that was put in force refuses this machine's wireless adapter {each.mac} on {where}."
    if not facts.is_refused:
        yield (
            "No list that was put in force here refuses this machine: if it cannot connect, the passphrase, the "
            "signal or the router itself is the reason."
        )
    if facts.beforehand:
        return
    if facts.router_answers is None:
        yield "This machine has no connection now, so that the router could not be asked."
    else:
        yield "The router answers this machine." if facts.router_answers else "The router does not answer this machine."


def _waiting(facts: RescueFacts) -> Iterator[SheetStep]:
    if facts.last is not None and facts.last.reverts_at and not facts.by_hand:
        yield SheetStep(
            f"Wait until {facts.last.reverts_at}: then it is taken back by itself. Do nothing before, and try to "
            "connect again afterwards."
        )


def _cable(facts: RescueFacts) -> Iterator[SheetStep]:
    """Yield how to take it back from this machine, if it reaches the router, or once it has a cable."""
    word = quoted(facts.ssid)
    back = f"scopion wifi revert {word} takes the last change back"
    let_in = f"scopion unblock this-machine --ssid {word} lets this machine in"
    ready = [each for each in facts.adapters if not each.wireless and each.connected]
    if ready and facts.router_answers is not False:
        yield SheetStep(f"This machine is connected by cable ({ready[0].name}). From here {back}, or {let_in}.")
        return
    unplugged = [each.name for each in facts.adapters if not each.wireless and not each.connected]
    socket = f"its socket {joined(unplugged, 'or')}" if unplugged else "an adapter with a socket"
    which = "Connect this machine" if facts.adapters else "Connect a computer"
    yield SheetStep(
        f"{which} by a cable from {socket} to one of the router's sockets for the home network (LAN): lists do not "
        f"concern cables. Then {back}, or {let_in}."
    )


def _helpers(facts: RescueFacts) -> Iterator[SheetStep]:
    """Yield which devices are still connected, and can open the router's page."""
    address = "an access point's page" if facts.only_asked else facts.router or "the router's page"
    if facts.mode is ListMode.ALLOW:
        if not facts.admitted:
            return
        named = list(facts.admitted[:_NAMED_AT_MOST])
        more = len(facts.admitted) - len(named)
        who = joined([*named, *([f"{more} more"] if more > 0 else [])], "or")
        yield SheetStep(f"Or take a device that is still admitted - {who} - and open {address} in its browser.")
    elif facts.mode is ListMode.DENY:
        yield SheetStep(f"Or take any other device that knows the passphrase, and open {address} in its browser.")


def _page(facts: RescueFacts) -> Iterator[SheetStep]:
    """Yield what to change on the router's page, with this machine's addresses as that page wants them."""
    if facts.asking:
        yield SheetStep(
            f"On that device, or by the cable, open the page of an access point and log in: {LOGIN}. Switch MAC "
            f"authentication off for {facts.ssid!r}, and save: then it lets in every device with the passphrase.",
            tuple(SheetLine(*each) for each in facts.asking),
            f"Switch it on again afterwards: scopion wifi radius {quoted(facts.ssid)} says how.",
        )
    if facts.only_asked:
        return
    lines = tuple(
        SheetLine(each.mac.written(facts.notation), f"this machine, {each.name}")
        for each in facts.adapters
        if each.wireless
    )
    where = spoken_bands(facts.radios)
    address = facts.router or "the router's page (its address is on its label)"
    what = {
        ListMode.ALLOW: "add these to the allow list, or set its mode to off (disabled)",
        ListMode.DENY: "remove these from the deny list, or set its mode to off (disabled)",
        ListMode.OFF: _OFF,
    }[facts.mode]
    word, listed = quoted(facts.ssid), facts.is_refused and facts.mode is not ListMode.OFF
    yield SheetStep(
        f"On that device, or by the cable, open {address} and log in: {LOGIN}. Find the list of wireless clients "
        f"(Wireless, Wi-Fi or Security). On {where}, {what if listed else _OFF}, and save:",
        lines if listed else (),
        f"Afterwards change it here, too: scopion unblock this-machine --ssid {word}" if facts.by_hand else "",
    )


def _restart(facts: RescueFacts) -> Iterator[SheetStep]:
    if facts.restart and facts.enforcers:
        yield SheetStep(
            f"Or switch {joined(list(facts.enforcers))} off and on again: {facts.restart}. Until a watch pushes the "
            "list again, every device with the passphrase can connect: stop the watch first."
        )


def _reset(facts: RescueFacts) -> Iterator[SheetStep]:
    """Yield the last resort, and what has to be entered again after it."""
    what = "an access point" if facts.only_asked else "the router"
    yield SheetStep(
        f"If nothing else helps, reset {what}: hold the small button on its back (often marked Reset) with a pin "
        "for about ten seconds, until its lights go out. It forgets everything that was ever set; its label has the "
        "first name and passphrase of its Wi-Fi, and the login of its page."
    )
    known = tuple(SheetLine(each, "") for each in facts.again)
    access = "" if facts.only_asked else "the provider's access data, "
    yield SheetStep(
        f"Connect by cable and enter again on its page: {access}the Wi-Fi's name and passphrase with WPA2 or WPA3, a "
        "password of your own for the page, and:",
        known,
    )
    if facts.whole is not None:
        yield SheetStep(f"Then the list, if it is still wanted ({facts.whole.title}):")
        yield from facts.whole.steps
