"""Phrases of all messages of a site: a device in a few words, and when something was."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from scopion.model.address import Address
from scopion.model.clock import Clock
from scopion.model.device import Device, Event
from scopion.model.text import capitalised
from scopion.vendors.registry import Vendors


@dataclass(frozen=True, slots=True)
class About:
    """What is known of the device of an event when it is told."""

    device: Device | None  # None: it was forgotten meanwhile
    address: Address | None = None  # the best address to reach it, if the event has another one
    subnet: str = ""  # as people call it: "workshop (192.0.2.0/24)"
    kind: str = ""
    kind_evidence: str = ""
    looks_like: str = ""  # a clause: "the apprentice telephone (very likely: ...)"
    at_gateway: bool = False  # the event is about the gateway's address
    on_air: str = ""  # where it was associated last: "Kilnhaven (workshop access point, 5 GHz)"
    hangs_at: str = ""  # where it hangs by cable: "office 3, left (port 7 of workshop switch)"
    socket: str = ""  # the same in short: the socket's name, else the port
    steps: tuple[str, ...] = ()  # sheet-due: what is to be typed, line by line; empty: it was typed in meanwhile


@dataclass(frozen=True, slots=True)
class Phrases:
    """The words of a site."""

    site: str
    clock: Clock
    vendors: Vendors
    program: str = "scopion"  # how commands begin, with --site if that is needed

    def when(self, at: datetime) -> str:
        """Return a moment on the site's clock: ``at 03:04 on Tuesday, 15 September``."""
        local = self.clock.local(at)
        return f"at {local:%H:%M} on {local:%A}, {local.day} {local:%B}"

    def hour(self, at: datetime) -> str:
        """Return the same for another preposition: ``since 03:04 on Tuesday, 15 September``."""
        return self.when(at).removeprefix("at ")

    def who(self, event: Event, about: About) -> str:
        """Return a device in a few words: its label; else name, kind and vendor, as far as known."""
        device = about.device
        if device is not None and (device.label or device.own or device.gateway):
            return device.called
        maker = self.maker(event)
        kind = f"{article(about.kind)} {about.kind}" if about.kind else ""
        by = f"{kind or 'a device'} by {maker}" if maker else kind
        name = device.name if device else ""
        if name:
            return f"{name} ({by})" if by else name
        if by:
            return by
        return "a device with a private address" if event.mac and event.mac.is_private else "an unknown device"

    @staticmethod
    def at_the_beginning(who: str) -> str:
        """Return the same for the beginning of a sentence: a name stays as it is written."""
        return capitalised(who) if who.startswith(("a ", "an ", "the ", "this ")) else who

    def maker(self, event: Event) -> str:
        """Return the vendor of its adapter, in short; empty if the registry does not have it."""
        vendor = self.vendors.of(event.mac) if event.mac else None
        return vendor.name if vendor is not None and vendor.organisations else ""


def article(noun: str) -> str:
    """Return the noun with ``a`` or ``an``."""
    return "an" if noun[:1] in "aeiou" else "a"


def reference(event: Event, device: Device | None) -> str:
    """Return how a command names the device: by its label, else by what stays the same."""
    if device is not None and device.label:
        return device.label
    return str(event.mac or event.address)
