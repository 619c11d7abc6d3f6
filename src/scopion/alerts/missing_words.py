"""Words what is told when devices are missed, and when they are back: alone, or several with something in common."""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence

from scopion.alerts.message import Action
from scopion.alerts.phrases import About, Phrases, reference
from scopion.model.clock import spoken_span
from scopion.model.device import Event, EventKind
from scopion.model.text import closed

_NAMED = 3  # a subject names this many devices


def subject_of_one(event: Event, who: str) -> str:
    """Return the subject about one device."""
    if event.kind is EventKind.MISSING_BACK:
        return f"Back: {who}, after {_span(event)}"
    return f"Missing: {', '.join(filter(None, (who, event.was_name)))}"


def subject_of_several(events: Sequence[Event], about: Mapping[int, About], phrases: Phrases) -> str:
    """Return the subject about several: their names, and what they have in common."""
    who = [phrases.who(each, about.get(each.device_id, About(None))) for each in events]
    who = list(dict.fromkeys(who))  # one that came and went is among the events several times
    named, more = ", ".join(who[:_NAMED]), len(who) - _NAMED
    word = "Back" if all(each.kind is EventKind.MISSING_BACK for each in events) else "Missing"
    return f"{word}: {named}{f' and {more} more' if more > 0 else ''} (in common: {events[0].name})"


def what_of_one(event: Event, who: str, place: str, phrases: Phrases) -> str:
    """Return what has happened to one device."""
    since = phrases.hour(event.away_since or event.at)
    if event.kind is EventKind.MISSING_BACK:
        return f"{who} has been back on {place} since {phrases.hour(event.at)}. It was missing for {_span(event)}."
    missing = closed(", ".join(filter(None, (f"{who} is missing", event.was_name))))
    return f"{missing} It must be here, and has not been heard on {place} since {since}."


def why_together(events: Sequence[Event]) -> str:
    """Return why several are told together, and where to look."""
    common = events[0].name
    if all(each.kind is EventKind.MISSING_BACK for each in events):
        return f"These devices were missing together, and are back. What they have in common: {common}."
    why = events[0].was_name
    missing = closed(", ".join(filter(None, ("These devices must be here, and are missing together", why))))
    return f"{missing} What they have in common: {common}. Look there first."


def actions_of_one(event: Event, about: About, phrases: Phrases) -> list[Action]:
    """Return what to do about a device that is missed, or is back."""
    which = shlex.quote(reference(event, about.device))
    show = Action(f"{phrases.program} show {which}", "where it was, and since when")
    if event.kind is EventKind.MISSING_BACK:
        return [show]
    pause = Action(f"{phrases.program} alerts mute {which} --until 18:00", "if it is away on purpose")
    return [show, Action(f"{phrases.program} scan", "look again now"), pause]


def _span(event: Event) -> str:
    return spoken_span(event.at - event.away_since) if event.away_since else "a while"
