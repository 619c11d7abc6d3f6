"""Words the messages: who, what, where, when, what it looks like, and the exact commands for what to do next.

Pure: an alert and what is known of the devices that it is about go in, a message comes out. The subject is written to
be read on a locked telephone.
"""

from __future__ import annotations

import shlex
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.alerts.message import Action, Message
from scopion.alerts.news import sentence
from scopion.model.address import Address
from scopion.model.alert import PASSED_OVER, Alert, Gathering, Severity
from scopion.model.clock import Clock, spoken_span
from scopion.model.device import Device, Event, EventKind, Standing
from scopion.model.text import clean, counted, joined
from scopion.vendors.registry import Vendors
from scopion.wire.serial import event_to_json

# A digest lists so many; more than a screen is not read.
ITEMS_SHOWN = 40


@dataclass(frozen=True, slots=True)
class About:
    """What is known of the device that an event is about, when it is told."""

    device: Device | None  # None: it was forgotten meanwhile
    address: Address | None = None  # where it is best reached, if that is not where the event was
    subnet: str = ""  # as one calls it: "workshop (192.0.2.0/24)"
    kind: str = ""
    kind_evidence: str = ""
    looks_like: str = ""  # a clause: "the apprentice telephone (very likely: ...)"
    at_gateway: bool = False  # the event is about the gateway's address


@dataclass(frozen=True, slots=True)
class Writer:
    """What all messages of a site share."""

    site: str
    clock: Clock
    vendors: Vendors
    program: str = "scopion"  # how commands begin, with --site where that is needed

    def message(self, alert: Alert, about: Mapping[int, About]) -> Message:
        """The message for an alert; ``about`` has what is known of each of its devices."""
        if len(alert.events) == 1 and not alert.more:
            return self._of_one(alert, alert.events[0], about.get(alert.events[0].device_id, About(None)))
        return self._of_several(alert, about)

    def test(self, identity: str, channel: str, at: datetime) -> Message:
        """A message that says that it is only a test."""
        return Message(
            identity=identity,
            site=self.site,
            subject=f"Test: {self.site} can reach you by {channel}",
            severity=Severity.LOW,
            at=at,
            paragraphs=(
                f"This is a test of the channel {channel}, asked for {self.when(at)}. Nothing has happened.",
                "When somebody unknown joins the network you will be told in this way.",
            ),
            actions=(Action(f"{self.program} alerts", "what was told, and what waits"),),
            thread="test",
            test=True,
        )

    def when(self, at: datetime) -> str:
        """A moment as one says it at the site: ``at 03:04 on Tuesday, 15 September``."""
        local = self.clock.local(at)
        return f"at {local:%H:%M} on {local:%A}, {local.day} {local:%B}"

    def _of_one(self, alert: Alert, event: Event, about: About) -> Message:
        return Message(
            identity=alert.identity,
            site=self.site,
            subject=clean(self._subject(event, about), 160),
            severity=alert.severity,
            at=event.at,
            paragraphs=tuple(self._paragraphs(event, about)),
            facts=tuple(self._facts(event, about)),
            actions=tuple(self._actions(event, about)),
            thread=f"device-{event.device_id}",
            events=(event_to_json(event),),
        )

    def _subject(self, event: Event, about: About) -> str:
        who, where = self._short(event, about), f"on {about.subnet or self.site}"
        at = f"at {about.address or event.address}"
        match event.kind:
            case EventKind.JOINED:
                return f"New {where}: {who}, {at}"
            case EventKind.UNWANTED_PRESENT:
                return f"Unwanted and here: {who}, {at}, {where}"
            case EventKind.UNLISTED_PRESENT:
                return f"Not on the allow list: {who}, {at}, {where}"
            case EventKind.CONTESTED:
                what = "the gateway's address" if about.at_gateway else event.address
                return f"Two devices claim {what} {where}"
            case EventKind.GATEWAY_CHANGED:
                return f"The gateway {event.address} {where} is another device now"
            case EventKind.GUEST_OVERSTAYED:
                return f"Its time as a guest is over: {who}, still {where}"
            case EventKind.NETWORK_DOWN:
                return f"The network {about.subnet or event.name} is down"
            case EventKind.NETWORK_BACK:
                return f"The network {about.subnet or event.name} is back"
            case _:
                said = sentence(event, about.device, self.vendors)
                return f"{said[:1].upper()}{said[1:]}"

    def _short(self, event: Event, about: About) -> str:
        """Who it is in a few words: its label; else name, kind and maker, as far as they are known."""
        device = about.device
        if device is not None and (device.label or device.own or device.gateway):
            return device.called
        maker = self._maker(event)
        kind = f"{_article(about.kind)} {about.kind}" if about.kind else ""
        by = f"{kind or 'a device'} by {maker}" if maker else kind
        name = device.name if device else ""
        if name:
            return f"{name} ({by})" if by else name
        if by:
            return by
        return "a device with a private address" if event.mac and event.mac.is_private else "an unknown device"

    def _maker(self, event: Event) -> str:
        vendor = self.vendors.of(event.mac) if event.mac else None
        return vendor.name if vendor is not None and vendor.organisations else ""

    def _paragraphs(self, event: Event, about: About) -> list[str]:
        said = [self._what(event, about)]
        device = about.device
        if device is not None and event.kind is not EventKind.NETWORK_BACK:
            if about.kind and not device.label:
                said.append(f"It may be {_article(about.kind)} {about.kind}: {about.kind_evidence}.")
            if event.mac and event.mac.is_private and event.kind not in _OF_NETWORKS:
                said.append(
                    "Its MAC is a private address, made up by the device itself: it names no maker, and the device may "
                    "come back under another one."
                )
            if about.looks_like:
                said.append(f"It looks like {about.looks_like}.")
        if event.kind in (EventKind.UNWANTED_PRESENT, EventKind.UNLISTED_PRESENT):
            said.append(
                "A MAC address can be read off the air and copied, so that no list is a lock: a new passphrase for the "
                "wireless network is one."
            )
        return said

    def _what(self, event: Event, about: About) -> str:
        who = self._short(event, about)
        who = f"{who[:1].upper()}{who[1:]}"
        place = f"the network {about.subnet}" if about.subnet else "the network"
        when = self.when(event.at)
        match event.kind:
            case EventKind.JOINED:
                return f"{who} joined {place} {when}. Nobody has seen it here before."
            case EventKind.UNWANTED_PRESENT:
                said = about.device.because if about.device else ""
                because = f" You marked it so because: {said}." if said else ""
                return f"{who} is unwanted, and has been on {place} since {self._hour(event.at)}.{because}"
            case EventKind.UNLISTED_PRESENT:
                return (
                    f"{who} came on {place} {when} over the air, though it is on no allow list. Either a radio "
                    "does not have the list yet, or something speaks with a copied address."
                )
            case EventKind.CONTESTED:
                of_gateway = (
                    " That is the gateway's address: unless you are replacing the router, somebody may be posing as it "
                    "to read what others send."
                    if about.at_gateway
                    else " Both will lose their connection now and then until one of them gets another address."
                )
                return f"{who} claims the address {event.address}, which {event.other_mac} uses, {when}.{of_gateway}"
            case EventKind.GATEWAY_CHANGED:
                return (
                    f"The gateway {event.address} of {place} has the MAC {event.mac} since {self._hour(event.at)}; it "
                    f"was {event.other_mac}. If nobody has replaced the router, somebody may be posing as it to read "
                    "what others send."
                )
            case EventKind.NETWORK_DOWN:
                why = event.was_name or "nobody on it answers any more, not even the gateway"
                return f"{place[:1].upper()}{place[1:]} is down since {self._hour(event.at)}: {why}. You are told once."
            case EventKind.NETWORK_BACK:
                gone = f" It was down for {spoken_span(event.at - event.away_since)}." if event.away_since else ""
                return f"{place[:1].upper()}{place[1:]} is back since {self._hour(event.at)}.{gone}"
            case _:
                said = sentence(event, about.device, self.vendors)
                return f"{said[:1].upper()}{said[1:]}, {when}."

    def _hour(self, at: datetime) -> str:
        return self.when(at).removeprefix("at ")

    def _facts(self, event: Event, about: About) -> list[tuple[str, str]]:
        device, mac = about.device, event.mac
        maker = self.vendors.of(mac) if mac else None
        known = [("address", ", ".join(map(str, filter(None, (about.address, event.address)))))]
        if mac is not None:
            known.append(("MAC", f"{mac} (private)" if mac.is_private else str(mac)))
        if maker is not None and maker.organisations:
            known.append(("maker", ", ".join(filter(None, (maker.name, maker.place)))))
        if device is not None:
            names = list(dict.fromkeys(each.value for each in device.host_names))
            known += [("calls itself", ", ".join(names[:4]))] if names else []
            known.append(("standing", str(device.standing)))
            if device.first_seen < event.at - timedelta(minutes=1):
                known.append(("first seen", self._hour(device.first_seen)))
            known += [(name, getattr(device, name)) for name in ("owner", "place", "note") if getattr(device, name)]
        return [*known, ("network", about.subnet)] if about.subnet else known

    def _actions(self, event: Event, about: About) -> list[Action]:
        which = shlex.quote(_reference(event, about.device))
        show = Action(f"{self.program} show {which}", "all that is known of it")
        known = Action(f"{self.program} mark {which} known", "it belongs here")
        unwanted = Action(f"{self.program} mark {which} unwanted", "it does not: you are told whenever it is here")
        match event.kind:
            case EventKind.JOINED | EventKind.UNLISTED_PRESENT:
                standing = about.device.standing if about.device else Standing.NEW
                return [show, known, unwanted] if standing is Standing.NEW else [show, unwanted]
            case EventKind.UNWANTED_PRESENT:
                deny = Action(f"{self.program} wifi deny SSID {which}", "refuse it on a wireless network")
                return [show, deny, known]
            case EventKind.CONTESTED | EventKind.GATEWAY_CHANGED:
                other = Action(f"{self.program} show {event.other_mac}", "the one that was there before")
                return [show, *([other] if event.other_mac else []), Action(f"{self.program} scan", "who is there now")]
            case EventKind.GUEST_OVERSTAYED:
                longer = Action(f"{self.program} mark {which} guest --until '1 week'", "a week more")
                return [longer, known, unwanted]
            case EventKind.NETWORK_DOWN | EventKind.NETWORK_BACK:
                return [Action(f"{self.program} here", "how this machine is attached")]
            case _:
                return [show]

    def _of_several(self, alert: Alert, about: Mapping[int, About]) -> Message:
        if not alert.events:
            return self._of_flood(alert)
        lines = [self._line(event, about.get(event.device_id, About(None))) for event in alert.events[:ITEMS_SHOWN]]
        hidden = alert.count - len(lines)
        if hidden:
            lines.append(f"and {hidden} more")
        review = Action(f"{self.program} review", "go through the new devices, one by one")
        log = Action(f"{self.program} events --since {shlex.quote(self._since(alert))}", "everything that happened")
        devices = {event.device_id for event in alert.events}
        return Message(
            identity=alert.identity,
            site=self.site,
            subject=clean(self._subject_of_several(alert, about), 160),
            severity=alert.severity,
            at=alert.events[-1].at,
            paragraphs=(self._why_together(alert), *([_made_up(alert)] if alert.passed_over else [])),
            items=tuple(lines),
            actions=(review, log) if any(each.kind is EventKind.JOINED for each in alert.events) else (log,),
            thread=f"device-{devices.pop()}" if len(devices) == 1 else f"digest-{alert.gathers.partition(':')[0]}",
            events=tuple(map(event_to_json, alert.events[:ITEMS_SHOWN])),
            more=max(0, alert.count - ITEMS_SHOWN),
        )

    def _of_flood(self, alert: Alert) -> Message:
        return Message(
            identity=alert.identity,
            site=self.site,
            subject=f"{self.site}: somebody makes up devices, {alert.passed_over} claims",
            severity=alert.severity,
            at=alert.made,
            paragraphs=(_made_up(alert),),
            actions=(Action(f"{self.program} scan", "who is there now"),),
            thread=f"digest-{alert.gathers}",
            more=alert.passed_over,
        )

    def _line(self, event: Event, about: About) -> str:
        return f"{self.clock.local(event.at):%a %H:%M}  {sentence(event, about.device, self.vendors)}"

    def _since(self, alert: Alert) -> str:
        return f"{self.clock.local(alert.events[0].at):%Y-%m-%d %H:%M}"

    def _subject_of_several(self, alert: Alert, about: Mapping[int, About]) -> str:
        kinds = _kinds(alert)
        reason = alert.gathers.partition(":")[0]
        if reason == Gathering.COOLING:
            first = alert.events[0]
            who = self._short(first, about.get(first.device_id, About(None)))
            span = spoken_span(alert.events[-1].at - first.at)
            return f"Again and again: {who}, {counted(alert.count, 'event')} within {span}"
        said = joined([_counted_kind(kind, count) for kind, count in kinds.most_common(3)])
        when = {Gathering.LEARNING: "in a day", Gathering.NIGHT: "in the night"}.get(Gathering(reason), "at once")
        others = f" and other things ({alert.count} in all)" if len(kinds) > 3 else ""
        return f"{self.site}: {said}{others} {when}"

    def _why_together(self, alert: Alert) -> str:
        first, last = (self.when(each.at) for each in (alert.events[0], alert.events[-1]))
        span = f"from {first.removeprefix('at ')} to {last.removeprefix('at ')}"
        match alert.gathers.partition(":")[0]:
            case Gathering.LEARNING:
                return (
                    f"This network is still being learnt, so that what joins is told once a day, {span}. "
                    f"{self.program} alerts learning says until when, and ends it."
                )
            case Gathering.NIGHT:
                return f"This was held back for the night, {span}."
            case Gathering.COOLING:
                return f"It was told that this began, and then nothing for a while, so as not to repeat it: {span}."
            case _:
                return f"Many things happened at a time, so they are told together: {span}."


_OF_NETWORKS = (EventKind.NETWORK_DOWN, EventKind.NETWORK_BACK)


def _made_up(alert: Alert) -> str:
    return (
        f"Besides, {alert.passed_over} claims of new addresses were counted and not taken in: no network gets so many "
        "devices at a time, something on it makes them up, by mistake or on purpose. They do not fill the memory."
    )


def _article(noun: str) -> str:
    return "an" if noun[:1] in "aeiou" else "a"


def _reference(event: Event, device: Device | None) -> str:
    """How a command names it: by its label, else by what stays the same."""
    if device is not None and device.label:
        return device.label
    return str(event.mac or event.address)


def _kinds(alert: Alert) -> Counter[str]:
    kinds = Counter(str(event.kind) for event in alert.events)
    kinds.update({kind: count for kind, count in alert.more.items() if kind != PASSED_OVER})
    return kinds


_NOUNS = {
    EventKind.JOINED: ("new device", "new devices"),
    EventKind.CONTESTED: ("contested address", "contested addresses"),
    EventKind.LEFT: ("device left", "devices left"),
    EventKind.RETURNED: ("device came back", "devices came back"),
    EventKind.READDRESSED: ("device moved", "devices moved"),
    EventKind.RENAMED: ("new name", "new names"),
    EventKind.GATEWAY_CHANGED: ("changed gateway", "changed gateways"),
    EventKind.UNWANTED_PRESENT: ("unwanted device", "unwanted devices"),
    EventKind.UNLISTED_PRESENT: ("device not on the allow list", "devices not on the allow list"),
    EventKind.GUEST_OVERSTAYED: ("guest whose time is over", "guests whose time is over"),
    EventKind.NETWORK_DOWN: ("network down", "networks down"),
    EventKind.NETWORK_BACK: ("network back", "networks back"),
}


def _counted_kind(kind: str, count: int) -> str:
    one, many = _NOUNS[EventKind(kind)]
    return f"{count} {one if count == 1 else many}"
