"""Sends reports: the weekly one - when it is due, its page, its message in the outbox - and one at once.

Page and message are made once, and sent as often as it takes. A weekly report waits in the outbox like an alert: one
way out, and nothing is lost. What was due while no watch ran is made up for once, with the latest week. A person waits
for ``report --send``, so it goes straight to the channel.
"""

from __future__ import annotations

import re
import uuid
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

from scopion.alerts.channels.channel import Trace
from scopion.alerts.channels.registry import type_of
from scopion.alerts.message import Message, message_to_json
from scopion.alerts.weekly_message import weekly_message
from scopion.model.alert import Severity
from scopion.model.errors import ScopionError
from scopion.model.week import from_the_wall, on_the_wall
from scopion.operations.notify.manage_alerts import channel_called
from scopion.operations.notify.word_alerts import phrases_of
from scopion.operations.report.make_report import ReportRequest, report
from scopion.operations.site.open_site import Site
from scopion.reports.content import Report
from scopion.reports.page import page
from scopion.reports.report_settings import latest_due
from scopion.reports.sentences import said_period
from scopion.roster.outbox import queue_message
from scopion.roster.store.write_files import make_folder, write_atomically

FOLDER = "reports"
_MADE = "weekly_report"  # meta: until when the latest one went, or since when there is one to make
_WEEK = timedelta(weeks=1)


def recipients(site: Site) -> tuple[str, ...]:
    """Return the channels that get it: those that are named, else those that can carry a page."""
    chosen = site.settings.report.channels
    return chosen or tuple(each.name for each in site.settings.channel if type_of(each).carries_page)


def next_report(site: Site) -> datetime | None:
    """Return when the next one is due, perhaps in the past; None if none is wanted."""
    when = site.settings.report.weekly
    if not when:
        return None
    local, now = site.clock.local, site.clock.now()
    latest = from_the_wall(latest_due(when, on_the_wall(now, local)), now, local)
    noted = site.roster.meta(_MADE)
    if noted is None:  # the first week is not over yet
        with site.roster.transaction():
            site.roster.set_meta(_MADE, now.isoformat())
        noted = now.isoformat()
    if latest > datetime.fromisoformat(noted):
        return latest
    return from_the_wall(on_the_wall(latest, local) + _WEEK, now, local)


def make_weekly(site: Site) -> Message | None:
    """Make the report that is due, and queue it; None if none is due."""
    due, now = next_report(site), site.clock.now()
    if due is None or due > now:
        return None
    local = site.clock.local
    week_ago = from_the_wall(on_the_wall(due, local) - _WEEK, due, local)  # the same time on the site's clock
    made = report(site, ReportRequest(week_ago, due))
    message = _message(site, made, due, "%Y-%m-%d")
    _drop_old(site.folder / FOLDER, site.settings.report.keep_weeks)
    with site.roster.transaction() as db:
        for channel in recipients(site):
            own = replace(message, identity=uuid.uuid4().hex)
            queue_message(db, channel, Severity.LOW, now, own.identity, message_to_json(own))
        site.roster.set_meta(_MADE, due.astimezone(UTC).isoformat())
    return message


def send_report(site: Site, channel: str, made: Report, trace: Trace) -> Message:
    """Send a report at once and report each step. Raises NotFound, or ScopionError with what went wrong."""
    from scopion.alerts.channels.channel import DeliveryFailed
    from scopion.alerts.deliver import delivered

    opened = channel_called(site, channel)
    message = _message(site, made, site.clock.now(), "%Y-%m-%d-%H%M%S")
    try:
        delivered(message, opened, trace)
    except DeliveryFailed as failure:
        raise ScopionError(str(failure)) from None
    return message


def _message(site: Site, made: Report, at: datetime, called: str) -> Message:
    """Return the message; its page is in the site's folder under a name made from the moment."""
    local = site.clock.local
    name = f"{FOLDER}/{on_the_wall(at, local).strftime(called)}.html"
    make_folder(site.folder / FOLDER, like=site.folder)
    write_atomically(site.folder / name, page(made, on_the_wall(site.clock.now(), local)).encode(), own_folder=True)
    return weekly_message(
        uuid.uuid4().hex,
        site.name,
        at,
        said_period(made.since, made.until),
        made.summary,
        [(each.says, each.command) for each in made.attention],
        name,
        phrases_of(site).program,
    )


def _drop_old(folder: Path, keep: int) -> None:
    """Remove the oldest pages; other files stay."""
    pages = sorted(path for path in folder.iterdir() if re.fullmatch(r"\d{4}-\d\d-\d\d(-\d{6})?\.html", path.name))
    for path in pages[:-keep]:
        path.unlink(missing_ok=True)
