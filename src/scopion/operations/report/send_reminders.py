"""Puts reminders into the outbox when they are due: each once, by the channels that alerts go by."""

from __future__ import annotations

import json
import uuid
from datetime import date

from scopion.alerts.message import message_to_json
from scopion.alerts.reminders import Dates, Reminder, reminder_message, reminders_due
from scopion.model.alert import Severity
from scopion.operations.notify.word_alerts import phrases_of
from scopion.operations.site.open_site import Site
from scopion.operations.site.refresh_vendors import listing_ages
from scopion.operations.wifi.edit_networks import networks
from scopion.roster.outbox import queue_message
from scopion.roster.scans import first_look
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written
from scopion.roster.undo.record_changes import latest_changes
from scopion.roster.wifi.network_notes import answers

_TOLD = "reminded"  # meta: the keys of what was told
_KEPT = 500


def remind(site: Site) -> list[Reminder]:
    """Queue the reminders that are due and were not told yet, together with the note that they were. Returns them."""
    channels = site.settings.remind.channels or tuple(each.name for each in site.settings.channel)
    roster, now = site.roster, site.clock.now()
    if not channels:
        return []
    with as_written("the notes of reminders"):
        told = list(map(str, json.loads(roster.meta(_TOLD) or "[]")))
    due = [each for each in reminders_due(_dates(site, roster), site.settings.remind) if each.key not in told]
    if not due:
        return []
    program = phrases_of(site).program
    with roster.transaction() as db:
        for each in due:
            for channel in channels:
                message = reminder_message(uuid.uuid4().hex, site.name, now, each, program)
                queue_message(db, channel, Severity.LOW, now, message.identity, message_to_json(message))
        roster.set_meta(_TOLD, json.dumps([*told, *(each.key for each in due)][-_KEPT:]))
    return due


def _dates(site: Site, roster: Roster) -> Dates:
    """Return when each was done last, on the site's clock."""
    local = site.clock.local
    changed = latest_changes(roster, 1)
    begun = changed[0].at if changed else first_look(roster)
    passphrases = {}
    for each in networks(site):
        said = answers(roster, each.ssid).get("passphrase-changed")
        if said is not None:
            with as_written("when a passphrase was changed"):
                passphrases[each.ssid] = date.fromisoformat(said[0])
    return Dates(
        today=local(site.clock.now()).date(),
        passphrases=passphrases,
        changed=local(begun).date() if begun is not None else None,
        listing=min((each.as_of for each in listing_ages(site.folder, date.max)), default=None),
    )
