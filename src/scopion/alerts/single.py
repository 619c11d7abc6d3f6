"""Words the message about one event: which device, what, where, when, what it looks like, and the commands to react."""

from __future__ import annotations

import shlex
from dataclasses import dataclass
from datetime import timedelta

from scopion.alerts.message import Action, Message
from scopion.alerts.missing_words import actions_of_one, subject_of_one, what_of_one
from scopion.alerts.news import sentence
from scopion.alerts.phrases import About, Phrases, article, reference
from scopion.model.alert import Alert
from scopion.model.clock import spoken_span
from scopion.model.device import Event, EventKind, Standing
from scopion.model.text import capitalised, clean, closed
from scopion.wire.serial import event_to_json

# These are not about the device whose event they are.
_OF_SENSORS = (EventKind.SENSOR_LOST, EventKind.SENSOR_BACK)
_OF_NETWORKS = (EventKind.NETWORK_DOWN, EventKind.NETWORK_BACK, EventKind.SHEET_DUE, *_OF_SENSORS)


def message_about_one(alert: Alert, event: Event, about: About, phrases: Phrases) -> Message:
    """Return the message for an alert with a single event."""
    one = _One(event, about, phrases)
    return Message(
        identity=alert.identity,
        site=phrases.site,
        subject=clean(one.subject(), 160),
        severity=alert.severity,
        at=event.at,
        paragraphs=tuple(one.paragraphs()),
        facts=tuple(one.facts()),
        items=about.steps,
        actions=tuple(one.actions()),
        thread=f"sheet-{event.name}" if event.kind is EventKind.SHEET_DUE else f"device-{event.device_id}",
        events=(event_to_json(event),),
    )


@dataclass(frozen=True, slots=True)
class _One:
    """An event, and the parts of its message."""

    event: Event
    about: About
    phrases: Phrases

    def subject(self) -> str:
        event, about, phrases = self.event, self.about, self.phrases
        who, where = phrases.who(event, about), f"on {about.subnet or phrases.site}"
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
            case EventKind.SENSOR_LOST:
                return f"The sensor {event.name}{f' in {event.place}' if event.place else ''} is silent"
            case EventKind.SENSOR_BACK:
                return f"The sensor {event.name}{f' in {event.place}' if event.place else ''} is back"
            case EventKind.MISSING | EventKind.MISSING_BACK:
                return subject_of_one(event, who)
            case EventKind.REFUSED_ATTEMPT:
                return f"Refused on {event.name}: {who}"
            case EventKind.MOVED:
                return f"Moved: {who}, now at {event.name}"
            case EventKind.USES_MUCH:
                return f"Uses much of the line: {who}"
            case EventKind.SHEET_DUE:
                return f"To type in: the list of {event.name!r} has changed"
            case _:
                said = sentence(event, about.device, phrases.vendors)
                return capitalised(said)

    def paragraphs(self) -> list[str]:
        event, about = self.event, self.about
        said = [self.what()]
        device = about.device
        if device is not None and event.kind not in (EventKind.NETWORK_BACK, EventKind.SHEET_DUE, *_OF_SENSORS):
            if about.kind and not device.label:
                said.append(f"It may be {article(about.kind)} {about.kind} ({about.kind_evidence}).")
            if event.mac and event.mac.is_private and event.kind not in _OF_NETWORKS:
                said.append(
                    "Its MAC is a private address, made up by the device itself: it tells no vendor, and the device "
                    "may come back under another one."
                )
            if about.looks_like:
                said.append(f"It looks like {about.looks_like}.")
        if event.kind in (EventKind.UNWANTED_PRESENT, EventKind.UNLISTED_PRESENT):
            said.append(
                "A MAC address can be read off the air and copied, so no list is a lock: a new passphrase for the "
                "wireless network is one."
            )
        return said

    def what(self) -> str:
        event, about, phrases = self.event, self.about, self.phrases
        who = phrases.at_the_beginning(phrases.who(event, about))
        place = f"the network {about.subnet}" if about.subnet else "the network"
        when = phrases.when(event.at)
        match event.kind:
            case EventKind.JOINED:
                at = f", at {about.socket}" if about.socket else ""
                return f"{who} joined {place} {when}{at}. It has not been seen here before."
            case EventKind.UNWANTED_PRESENT:
                said = about.device.because if about.device else ""
                because = f" You marked it so because: {closed(said)}" if said else ""
                at = f", at {about.socket}" if about.socket else ""
                return f"{who} is unwanted, and has been on {place} since {phrases.hour(event.at)}{at}.{because}"
            case EventKind.UNLISTED_PRESENT:
                return (
                    f"{who} came on {place} {when} over the air, though it is on no allow list. Either a radio "
                    "does not have the list yet, or something uses a copied address."
                )
            case EventKind.CONTESTED:
                of_gateway = (
                    " That is the gateway's address: unless you are replacing the router, another machine may pose "
                    "as it to read what others send."
                    if about.at_gateway
                    else " Both will lose their connection now and then until one of them gets another address."
                )
                return f"{who} claims the address {event.address}, which {event.other_mac} uses, {when}.{of_gateway}"
            case EventKind.GATEWAY_CHANGED:
                since = phrases.hour(event.at)
                return (
                    f"The gateway {event.address} of {place} has had the MAC {event.mac} since {since}. "
                    f"Before, it was {event.other_mac}. If you have not replaced the router, another machine may be "
                    "posing as it to read what others send."
                )
            case EventKind.NETWORK_DOWN:
                why = event.was_name or "no device on it answers any more, not even the gateway"
                since = phrases.hour(event.at)
                return capitalised(
                    f"{place} has been down since {since}: {closed(why)} You get no message for each device."
                )
            case EventKind.NETWORK_BACK:
                gone = f" It was down for {spoken_span(event.at - event.away_since)}." if event.away_since else ""
                return capitalised(f"{place} has been back since {phrases.hour(event.at)}.{gone}")
            case EventKind.MISSING | EventKind.MISSING_BACK:
                return what_of_one(event, who, place, phrases)
            case EventKind.SHEET_DUE:
                return self.due()
            case EventKind.USES_MUCH:
                at = f" It hangs at {about.hangs_at}." if about.hangs_at else ""
                return f"{who} uses much of the line: {event.name}.{at} You get no other message of it in this time."
            case EventKind.MOVED:
                return (
                    f"{who} was moved: since {phrases.hour(event.at)} it is at {event.name}. Before, it was at "
                    f"{event.was_name}. Your settings say that it does not move."
                )
            case EventKind.REFUSED_ATTEMPT:
                where = f" at {event.was_name}" if event.was_name else ""
                never = " It has never been on the network." if about.device and not about.device.stays else ""
                return (
                    f"{who} asked to join {event.name!r}{where} {when}, and was refused, as the lists say.{never} You "
                    "get no other message when it asks again soon."
                )
            case _:
                said = sentence(event, about.device, phrases.vendors)
                return capitalised(f"{said}, {when}.")

    def due(self) -> str:
        """Return what is due, and since when."""
        event, phrases = self.event, self.phrases
        due = f"The list of the wireless network {event.name!r} changed {phrases.when(event.away_since or event.at)}."
        if not self.about.steps:
            return f"{due} By now its sheet is said to be typed in: there is nothing to do."
        return (
            f"{due} Its router has only a web page, so you have to type that in: these are the steps. You get this "
            "message each day until you say that it is done."
        )

    def facts(self) -> list[tuple[str, str]]:
        event, about, phrases = self.event, self.about, self.phrases
        if event.kind is EventKind.SHEET_DUE:
            return [("wireless network", event.name)]
        if event.kind in _OF_SENSORS:
            return [("sensor", event.name), *([("place", event.place)] if event.place else [])]
        device, mac = about.device, event.mac
        maker = phrases.vendors.of(mac) if mac else None
        refused = event.kind is EventKind.REFUSED_ATTEMPT  # where it was before is not where it is
        places = () if refused else (about.address, event.address)
        addresses = [each for each in places if each and not each.is_unspecified]
        known = [("address", ", ".join(map(str, addresses)))] if addresses else []
        if mac is not None:
            known.append(("MAC", f"{mac} (private)" if mac.is_private else str(mac)))
        if maker is not None and maker.organisations:
            known.append(("vendor", ", ".join(filter(None, (maker.name, maker.place)))))
        if device is not None:
            names = list(dict.fromkeys(each.value for each in device.host_names))
            known += [("calls itself", ", ".join(names[:4]))] if names else []
            known.append(("standing", str(device.standing)))
            if device.first_seen < event.at - timedelta(minutes=1):
                known.append(("first seen", phrases.hour(device.first_seen)))
            known += [(name, getattr(device, name)) for name in ("owner", "place", "note") if getattr(device, name)]
        if refused:
            return known
        known += [("on the air", about.on_air)] if about.on_air else []
        known += [("cable", about.hangs_at)] if about.hangs_at else []
        return [*known, ("network", about.subnet)] if about.subnet else known

    def actions(self) -> list[Action]:
        event, about, phrases = self.event, self.about, self.phrases
        which = shlex.quote(reference(event, about.device))
        show = Action(f"{phrases.program} show {which}", "everything that is known about it")
        known = Action(f"{phrases.program} mark {which} known", "it belongs here")
        unwanted = Action(
            f"{phrases.program} mark {which} unwanted", "it does not: you get an alert whenever it is here"
        )
        block = Action(f"{phrases.program} block {which}", "keep it off the Wi-Fi")
        match event.kind:
            case EventKind.JOINED | EventKind.UNLISTED_PRESENT:
                standing = about.device.standing if about.device else Standing.NEW
                return [show, known, unwanted, block] if standing is Standing.NEW else [show, unwanted, block]
            case EventKind.UNWANTED_PRESENT:
                return [show, block, known]
            case EventKind.CONTESTED | EventKind.GATEWAY_CHANGED:
                other = Action(f"{phrases.program} show {event.other_mac}", "the one that was there before")
                scan = Action(f"{phrases.program} scan", "see which devices are there now")
                return [show, other, scan] if event.other_mac else [show, scan]
            case EventKind.REFUSED_ATTEMPT:
                allow = f"{phrases.program} wifi allow {shlex.quote(event.name)} {which}"
                others = Action(f"{phrases.program} wifi stations --refused", "who else was refused, and how often")
                if about.device and about.device.standing is Standing.UNWANTED:
                    return [show, others]
                return [show, Action(allow, "let it in"), others]
            case EventKind.GUEST_OVERSTAYED:
                longer = Action(f"{phrases.program} mark {which} guest --until '1 week'", "a week more")
                return [longer, known, unwanted]
            case EventKind.MISSING | EventKind.MISSING_BACK:
                return actions_of_one(event, about, phrases)
            case EventKind.SHEET_DUE:
                ssid = shlex.quote(event.name)
                sheet = Action(f"{phrases.program} wifi sheet {ssid}", "the sheet as it is by now, to print")
                return [sheet, Action(f"{phrases.program} wifi done {ssid}", "once it is typed in")]
            case EventKind.SENSOR_LOST | EventKind.SENSOR_BACK:
                return [
                    Action(f"{phrases.program} sensors", "which sensors are heard, and how far behind they are"),
                    Action(f"{phrases.program} events --kind {event.kind}", "when that was before"),
                ]
            case EventKind.USES_MUCH:
                used = Action(f"{phrases.program} usage {which}", "how much, hour by hour")
                return [used, Action(f"{phrases.program} usage", "who else uses the line"), show]
            case EventKind.MOVED:
                return [Action(f"{phrases.program} where {which}", "where it is now, and was in the last week"), show]
            case EventKind.NETWORK_DOWN | EventKind.NETWORK_BACK:
                return [Action(f"{phrases.program} here", "how this machine is attached")]
            case _:
                return [show]
