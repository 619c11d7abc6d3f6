"""Plays one made-up newcomer through rules, wording and delivery for real; nothing is recorded, each says so."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from scopion.alerts.channels.channel import DeliveryFailed, Trace
from scopion.alerts.deliver import delivered
from scopion.alerts.message import Message
from scopion.model.alert import Alert, AlertState
from scopion.operations.notify.manage_alerts import channel_called
from scopion.operations.notify.try_rules import MadeUp, Outlook, newcomer, outlook
from scopion.operations.notify.word_alerts import AlertWriter
from scopion.operations.site.open_site import Site
from scopion.roster.store.stored_values import EPOCH

_MARK = "Rehearsal"


@dataclass(frozen=True, slots=True)
class Rehearsed:
    """What came of a rehearsal on one channel."""

    outlook: Outlook
    problem: str = ""  # why it could not be delivered; empty: it was, or the rules do not tell this channel


def rehearse(site: Site, trace: Callable[[Outlook], Trace]) -> Iterator[Rehearsed]:
    """Deliver to each channel that gets an alert of a newcomer, one after the other; the others are only named.

    A delivery that would wait, as while a subnet is being learnt, is made at once here. ``trace`` returns for a channel
    what is called with each step. Raises NotFound without a channel.
    """
    roster = site.roster_for_reading()
    it = newcomer(site, roster)
    writer = AlertWriter(site, roster, made_up=it.device)
    for each in outlook(site, roster, it):
        if not each.told:
            yield Rehearsed(each)
            continue
        try:
            delivered(_message(writer, it, each), channel_called(site, each.channel), trace(each))
        except DeliveryFailed as failure:
            yield Rehearsed(each, str(failure))
        else:
            yield Rehearsed(each)


def _message(writer: AlertWriter, it: MadeUp, each: Outlook) -> Message:
    """Return the message of the newcomer as it would be sent, marked."""
    assert each.severity is not None
    alert = Alert(
        id=0,
        identity=uuid.uuid4().hex,
        channel=each.channel,
        severity=each.severity,
        gathers="",
        gathering=False,
        made=it.event.at,
        due=it.event.at,
        state=AlertState.WAITING,
        attempts=0,
        again=EPOCH,
        ended=None,
        problem="",
        events=(it.event,),
    )
    made = writer.message(alert)
    says = f"This is a rehearsal (scopion alerts rehearse): no device has joined, and {it.event.mac} does not exist."
    return replace(
        made, subject=f"{_MARK}: {made.subject}", paragraphs=(says, *made.paragraphs), thread="rehearsal", test=True
    )
