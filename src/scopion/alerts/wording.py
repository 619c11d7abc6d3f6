"""Words the messages; the most important words come first, for the screen of a locked phone.

Pure: an alert and what is known of its devices go in, a message comes out.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from scopion.alerts.digests import message_about_several
from scopion.alerts.message import Action, Message
from scopion.alerts.phrases import About, Phrases
from scopion.alerts.single import message_about_one
from scopion.model.alert import Alert, Severity


def worded(alert: Alert, about: Mapping[int, About], phrases: Phrases) -> Message:
    """Return the message for an alert; ``about`` has what is known of each of its devices."""
    if len(alert.events) == 1 and not alert.more:
        event = alert.events[0]
        return message_about_one(alert, event, about.get(event.device_id, About(None)), phrases)
    return message_about_several(alert, about, phrases)


def unworded(alert: Alert) -> Message:
    """Return a message from the alert alone, if the usual one cannot be made: kinds, addresses and times."""
    items = tuple(f"{each.kind}: {each.mac or each.address}, {each.at:%Y-%m-%d %H:%M} UTC" for each in alert.events)
    return Message(
        identity=alert.identity,
        site="",
        subject=items[0] if len(items) == 1 else f"{alert.count} events on your network",
        severity=alert.severity,
        at=max((each.at for each in alert.events), default=alert.made),
        paragraphs=("Scopion could not word this message as usual: its log says why.",),
        items=items,
        actions=(Action("scopion events", "what happened, with names"),),
    )


def test_message(identity: str, channel: str, at: datetime, phrases: Phrases) -> Message:
    """Return a message that says that it is only a test."""
    return Message(
        identity=identity,
        site=phrases.site,
        subject=f"Test: {phrases.site} can reach you by {channel}",
        severity=Severity.LOW,
        at=at,
        paragraphs=(
            f"This is a test of the channel {channel}, asked for {phrases.when(at)}. Nothing has happened.",
            "You will get such a message when an unknown device joins the network.",
        ),
        actions=(Action(f"{phrases.program} alerts", "what was sent, and what waits"),),
        thread="test",
        test=True,
    )
