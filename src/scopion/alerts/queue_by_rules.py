"""Queues alerts for events, inside the transaction that records them: neither is ever there without the other."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from scopion.alerts.alert_settings import AlertSettings, RuleSettings
from scopion.alerts.rules import AlertHistory, Occasion, channels_told, is_grave, plan
from scopion.model.alert import Gathering, Severity
from scopion.model.clock import Clock
from scopion.model.device import Event, EventKind
from scopion.roster.mutes import mutes
from scopion.roster.outbox import gathered_since, pressing, queue, told_since
from scopion.roster.store.open_roster import Roster


@dataclass(frozen=True, slots=True)
class AlertPolicy:
    """Who is told what: the channels' names, the rules, the times."""

    channels: tuple[str, ...]
    rules: tuple[RuleSettings, ...]
    settings: AlertSettings


def queue_alerts(roster: Roster, occasions: Sequence[Occasion], policy: AlertPolicy, clock: Clock) -> int:
    """Queue what is to be told. Returns how many events were put into some alert."""
    if not policy.channels or not occasions:
        return 0
    now = clock.now()
    wall = clock.local(now)
    fitting = []
    unwanted = {each.event.device_id for each in occasions if each.event.kind is EventKind.UNWANTED_PRESENT}
    with roster.transaction() as db:
        muted = mutes(roster, now)
        for occasion in occasions:
            event = occasion.event
            if event.kind is EventKind.JOINED and event.device_id in unwanted:
                continue  # that it is unwanted and here says all
            if any(each.covers(event.device_id, event.kind, now) for each in muted):
                continue
            told = channels_told(occasion, policy.rules, policy.channels, wall)
            fitting += [(occasion, channel, severity) for channel, severity in told.items()]
        grave = [is_grave(occasion.event.kind, severity) for occasion, _, severity in fitting]
        crowds = Counter((channel, each) for (_, channel, _), each in zip(fitting, grave, strict=True))
        for (occasion, channel, severity), is_so in zip(fitting, grave, strict=True):
            told_before = _told(roster, channel, occasion.event.device_id, crowds[channel, is_so])
            telling = plan(occasion, severity, told_before, policy.settings, clock)
            queue(db, occasion.event, channel, telling.severity, now, due=telling.due, gathers=telling.gathers)
    return len(fitting)


def queue_plainly(roster: Roster, events: Sequence[Event], policy: AlertPolicy) -> int:
    """Queue events for every channel, together and at once: where the rules cannot be applied. Returns how many."""
    with roster.transaction() as db:
        for event in events:
            for channel in policy.channels:
                queue(db, event, channel, Severity.NORMAL, event.at, due=event.at, gathers=Gathering.BURST)
    return len(events)


def _told(roster: Roster, channel: str, device: int, crowd: int) -> AlertHistory:
    """``crowd`` such events are to be told to the channel now: when several are queued together, all are gathered."""

    def lately(kinds: frozenset[EventKind], since: datetime) -> bool:
        return told_since(roster.db, channel, device, kinds, since)

    def count(since: datetime) -> int:
        return max(pressing(roster.db, channel, since), crowd - 1)

    def gathered(word: str, since: datetime) -> bool:
        return gathered_since(roster.db, channel, word, since)

    return AlertHistory(lately, count, gathered)
