"""Words the message about several events: which they are, why they are told together, how many are not listed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from datetime import timedelta

from scopion.alerts.message import Action, Message
from scopion.alerts.missing_words import subject_of_several, why_together
from scopion.alerts.news import sentence
from scopion.alerts.phrases import About, Phrases
from scopion.alerts.rules import is_grave, severity_of_kind
from scopion.model.alert import PASSED_OVER, Alert, Gathering
from scopion.model.clock import spoken_span
from scopion.model.device import Event, EventKind
from scopion.model.text import clean, counted, joined
from scopion.wire.serial import event_to_json

# A digest lists this many; people do not read more than a screen.
ITEMS_SHOWN = 40


def message_about_several(alert: Alert, about: Mapping[int, About], phrases: Phrases) -> Message:
    """Return the message for an alert with several events, or with more than are listed."""
    if not alert.events:
        return _of_flood(alert, phrases)
    shown = _gravest_first(alert)[:ITEMS_SHOWN]
    lines = [_line(event, about.get(event.device_id, About(None)), phrases) for event in shown]
    hidden = alert.count - len(lines)
    if hidden:
        lines.append(f"and {hidden} more")
    review = Action(f"{phrases.program} review", "go through the new devices, one by one")
    since = f"{phrases.clock.local(alert.events[0].at):%Y-%m-%d %H:%M}"
    log = Action(f"{phrases.program} events --since '{since}'", "everything that happened")
    devices = {event.device_id for event in alert.events}
    return Message(
        identity=alert.identity,
        site=phrases.site,
        subject=clean(_subject(alert, about, phrases), 160),
        severity=alert.severity,
        at=alert.events[-1].at,
        paragraphs=(_why_together(alert, phrases), *([f"Besides, {_made_up(alert)}"] if alert.passed_over else [])),
        items=tuple(lines),
        actions=(review, log) if any(each.kind is EventKind.JOINED for each in alert.events) else (log,),
        thread=f"device-{devices.pop()}" if len(devices) == 1 else f"digest-{alert.gathers.partition(':')[0]}",
        events=tuple(map(event_to_json, shown)),
        more=max(0, alert.count - ITEMS_SHOWN),
    )


def _of_flood(alert: Alert, phrases: Phrases) -> Message:
    return Message(
        identity=alert.identity,
        site=phrases.site,
        subject=f"{phrases.site}: a machine makes up devices, {counted(alert.passed_over, 'claim')}",
        severity=alert.severity,
        at=alert.made,
        paragraphs=(_made_up(alert),),
        actions=(Action(f"{phrases.program} scan", "see which devices are there now"),),
        thread=f"digest-{alert.gathers}",
        more=alert.passed_over,
    )


def _line(event: Event, about: About, phrases: Phrases) -> str:
    return f"{phrases.clock.local(event.at):%a %H:%M}  {sentence(event, about.device, phrases.vendors)}"


def _subject(alert: Alert, about: Mapping[int, About], phrases: Phrases) -> str:
    kinds = _kinds(alert)
    reason = alert.gathers.partition(":")[0]
    if reason == Gathering.COOLING:
        first = alert.events[0]
        who = phrases.who(first, about.get(first.device_id, About(None)))
        span = spoken_span(alert.events[-1].at - first.at)
        return f"Again and again: {who}, {counted(alert.count, 'event')} within {span}"
    if reason == Gathering.MISSED:
        return subject_of_several(alert.events, about, phrases)
    said = joined([_counted_kind(kind, kinds[kind]) for kind in sorted(kinds, key=_by_weight(kinds))[:3]])
    when = {Gathering.LEARNING: "in a day", Gathering.NIGHT: "in the night"}.get(Gathering(reason)) or _between(
        alert, phrases
    )
    others = f" and other things ({alert.count} in all)" if len(kinds) > 3 else ""
    return f"{phrases.site}: {said}{others} {when}"


def _between(alert: Alert, phrases: Phrases) -> str:
    """Return when it happened, for a subject: at once, or the minutes between."""
    first, last = (phrases.clock.local(alert.events[at].at) for at in (0, -1))
    return "at once" if last - first < timedelta(minutes=1) else f"between {first:%H:%M} and {last:%H:%M}"


def _why_together(alert: Alert, phrases: Phrases) -> str:
    span = f"from {phrases.hour(alert.events[0].at)} to {phrases.hour(alert.events[-1].at)}"
    match alert.gathers.partition(":")[0]:
        case Gathering.LEARNING:
            return (
                f"This network is still being learnt, so there is one message a day for what joins, {span}. "
                f"{phrases.program} alerts learning shows until when, and can end it."
            )
        case Gathering.NIGHT:
            return f"This was held back for the night, {span}."
        case Gathering.MISSED:
            return why_together(alert.events)
        case Gathering.COOLING:
            return f"A message told you that this began; later ones were held back, so as not to repeat it: {span}."
        case _:
            return (
                f"Many things happened at a time, so they are told together: {span}. This is what had happened when it "
                "was sent; more messages follow, some minutes apart."
            )


def _made_up(alert: Alert) -> str:
    such = f" (such as {joined(list(alert.examples))})" if alert.examples else ""
    return (
        f"{counted(alert.passed_over, 'claim')} of new addresses {'was' if alert.passed_over == 1 else 'were'} counted "
        f"and not taken in{such}: no network gets so many devices at a time, something on it makes them up, by mistake "
        "or on purpose. They do not fill the memory."
    )


def _gravest_first(alert: Alert) -> list[Event]:
    """Return the events of a burst by importance, those of one kind in their order; other digests follow the time."""
    if alert.gathers not in (Gathering.BURST, Gathering.GRAVE):
        return list(alert.events)
    weight = _by_weight(_kinds(alert))
    return sorted(alert.events, key=lambda event: weight(str(event.kind)))


def _by_weight(kinds: Mapping[str, int]) -> Callable[[str], tuple[bool, int]]:
    """Return the order of kinds: grave ones first, then rare ones."""
    return lambda kind: (not is_grave(EventKind(kind), severity_of_kind(EventKind(kind))), kinds[kind])


def _kinds(alert: Alert) -> Counter[str]:
    kinds = Counter(str(event.kind) for event in alert.events)
    kinds.update({kind: count for kind, count in alert.more.items() if kind != PASSED_OVER})
    return kinds


_NOUNS = {
    EventKind.JOINED: ("newcomer", "newcomers"),
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
    EventKind.SHEET_DUE: ("list to type in", "lists to type in"),
    EventKind.REFUSED_ATTEMPT: ("refused device that asked to join", "refused devices that asked to join"),
    EventKind.MISSING: ("device missing", "devices missing"),
    EventKind.MISSING_BACK: ("missing device back", "missing devices back"),
    EventKind.USES_MUCH: ("device that uses much of the line", "devices that use much of the line"),
    EventKind.MOVED: ("device that was moved", "devices that were moved"),
    EventKind.SENSOR_LOST: ("silent sensor", "silent sensors"),
    EventKind.SENSOR_BACK: ("sensor back", "sensors back"),
}


def _counted_kind(kind: str, count: int) -> str:
    one, many = _NOUNS[EventKind(kind)]
    return f"{count} {one if count == 1 else many}"
