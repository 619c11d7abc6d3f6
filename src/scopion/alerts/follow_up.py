"""Decides what is told again because no one has seen it, and words that. Pure.

Bounded: a channel gets one message for all that is unseen there, and each alert is repeated a few times at most.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from datetime import datetime, timedelta

from scopion.alerts.message import Action, Message
from scopion.alerts.phrases import Phrases
from scopion.model.alert import AlertState
from scopion.model.clock import spoken_span
from scopion.model.text import clean, closed, counted
from scopion.roster.follow_alerts import Followed, Seen


def due_again(unseen: Iterable[Followed], now: datetime) -> dict[str, list[Followed]]:
    """Return by channel what is told again now: as soon as one alert is due, all that may be repeated there."""
    repeated: dict[str, list[Followed]] = {}
    for each in unseen:
        if each.every is not None and each.times > 0 and each.state is AlertState.SENT:
            repeated.setdefault(each.channel, []).append(each)
    return {channel: those for channel, those in repeated.items() if any(_is_due(each, now) for each in those)}


def _is_due(each: Followed, now: datetime) -> bool:
    return each.every is not None and now - (each.told or each.ended or each.due) >= each.every


def due_second(unseen: Iterable[Followed], now: datetime) -> dict[str, list[Followed]]:
    """Return by second channel what goes there now: its first one was given up, or it is unseen for too long."""
    found: dict[str, list[Followed]] = {}
    for each in unseen:
        sent = each.ended if each.state is AlertState.SENT else None
        over = each.state is AlertState.FAILED or now - (sent or each.due) >= each.after
        # A message that waits for its time, as in the night, has not failed.
        if each.second and over and (sent is not None or each.failed):
            found.setdefault(each.second, []).append(each)
    return found


def unseen_message(
    those: Sequence[tuple[Followed, Message]], phrases: Phrases, at: datetime, identity: str, *, second: bool
) -> Message:
    """Return the message that tells alerts again, or by a second channel."""
    numbers = " ".join(str(each.alert) for each, _ in those)
    seen = Action(f"{phrases.program} alerts seen {numbers}", "you take care of it: it is not told again")
    whys = [_why(each, phrases, at, second=second) for each, _ in those]
    if len(those) == 1:
        message = those[0][1]
        subject = f"{'Unseen' if second else 'Again'}: {message.subject}"
        actions = (seen, *(each for each in message.actions if each.command != seen.command))
        return replace(
            message,
            identity=identity,
            subject=clean(subject, 160),
            paragraphs=(whys[0], *message.paragraphs),
            actions=actions,
            reached=(),
        )
    first = max(those, key=lambda each: each[1].at)[1]
    return Message(
        identity=identity,
        site=phrases.site,
        subject=clean(f"{phrases.site}: {counted(len(those), 'alert')} that no one has seen", 160),
        severity=first.severity,
        at=first.at,
        paragraphs=("No one has said yet that these alerts are seen.",),
        items=tuple(f"{each.alert}: {message.subject}" for each, message in those),
        actions=(seen, Action(f"{phrases.program} alerts list", "what was sent, and what waits")),
        thread="unseen",
    )


def _why(each: Followed, phrases: Phrases, at: datetime, *, second: bool) -> str:
    if second and each.state is not AlertState.SENT:
        return f"{each.channel} could not deliver this since {phrases.hour(each.due)}: {closed(each.problem)}"
    since = each.ended or each.due
    said = f"{each.channel} delivered this {phrases.when(since)}, and for {spoken_span(at - since)} no one has seen it."
    more = each.times - 1
    left = "It is not told again." if more < 1 else f"It is told {_often(more)} more at most."
    return said if second else f"{said} {left}"


def _often(times: int) -> str:
    return "once" if times == 1 else f"{times} times"


def followed(message: Message, alert: int, every: timedelta | None, times: int, phrases: Phrases) -> Message:
    """Return an alert's message with how to take it on."""
    seen = Action(f"{phrases.program} alerts seen {alert}", "you take care of it, and it is not told again")
    if every is not None:
        again = f"Until someone has seen it, it is told again every {spoken_span(every)}, {_often(times)} at most."
        message = replace(message, paragraphs=(*message.paragraphs, again))
    return replace(message, actions=(*message.actions, seen))


def taken_on(seen: Seen, phrases: Phrases) -> str:
    """Return who takes care of something, since when, and what they wrote."""
    who = seen.who or "someone"
    note = f": {closed(seen.note)}" if seen.note else "."
    return f"{who} has taken care of this since {phrases.hour(seen.at)}{note}"
