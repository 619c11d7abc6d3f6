"""Follows alerts until someone has seen them: told again, told by a second channel, and taken on by a person."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from scopion.model.alert import Gathering, Severity
from scopion.model.errors import NotFound
from scopion.model.text import clean
from scopion.operations.notify.word_alerts import AlertWriter, phrases_of
from scopion.operations.site.change_roster import account
from scopion.operations.site.open_site import Site
from scopion.roster.follow_alerts import (
    Followed,
    note_second,
    note_seen,
    note_told_again,
    repeat_waits,
    told_by,
    unseen,
)
from scopion.roster.outbox import find_alerts, queue_message

if TYPE_CHECKING:
    from scopion.alerts.message import Message
    from scopion.model.alert import Alert

_NOTE = 200  # characters of a note


def follow_up(site: Site) -> int:
    """Queue what is told again, or by a second channel, because no one has seen it. Returns how many messages."""
    roster, now = site.roster, site.clock.now()
    those = unseen(roster, to_tell=True)
    if not those:
        return 0
    from scopion.alerts.follow_up import due_again, due_second

    channels = {each.name for each in site.settings.channel}
    second = {name: due for name, due in due_second(those, now).items() if name in channels}
    again = {name: due for name, due in due_again(those, now).items() if name in channels}
    queued = 0
    with roster.transaction() as db:
        for name, due in second.items():
            _queue(site, name, due, now, second=True)
            note_second(db, [each.alert for each in due])
            queued += 1
        for name, due in again.items():
            if not repeat_waits(db, name):
                _queue(site, name, due, now, second=False)
                note_told_again(db, [each.alert for each in due], now)
                queued += 1
    return queued


def _queue(site: Site, channel: str, due: Sequence[Followed], now: datetime, *, second: bool) -> None:
    from scopion.alerts.follow_up import unseen_message
    from scopion.alerts.message import message_to_json

    roster = site.roster
    writer, alerts = AlertWriter(site, roster), find_alerts(roster, numbers=[each.alert for each in due])
    told = [(each, _message(writer, alert)) for each, alert in zip(due, alerts, strict=True)]
    identity = uuid.uuid4().hex
    message = unseen_message(told, phrases_of(site), now, identity, second=second)
    reason = Gathering.SECOND if second else Gathering.AGAIN
    gathers = f"{reason}:{','.join(str(each.alert) for each in due)}"
    with roster.transaction() as db:
        queue_message(db, channel, Severity.HIGH, now, identity, message_to_json(message), gathers=gathers)


def _message(writer: AlertWriter, alert: Alert) -> Message:
    """Return what an alert says; in plain words if its message is damaged, because the others are told all the same."""
    from scopion.alerts.wording import unworded

    try:
        return writer.message(alert)
    except (ValueError, KeyError, TypeError):
        return unworded(alert)


@dataclass(frozen=True, slots=True)
class TakenOn:
    """What someone takes care of now."""

    numbers: tuple[int, ...]  # the alerts that are not told again: those named, and those that say the same
    who: str


def take_on(site: Site, numbers: Sequence[int], note: str = "", who: str = "") -> TakenOn:
    """Note that someone has seen alerts and takes care of them. Raises NotFound."""
    site.require_roster()
    roster = site.roster
    missing = set(numbers) - {each.id for each in find_alerts(roster, numbers=numbers)}
    if missing:
        raise NotFound(f"there is no alert {min(missing)}: scopion alerts lists them")
    every, name = told_by(roster, numbers), clean(who, 40) or account()
    note_seen(roster, every, site.clock.now(), name, clean(note, _NOTE))
    return TakenOn(tuple(every), name)
