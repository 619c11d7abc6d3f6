"""Checks the list of a page, which cannot be read: what was said to be typed in, against what is wanted now."""

from __future__ import annotations

from datetime import datetime

from scopion.operations.pages.typed_lists import last_published, waiting_sheet
from scopion.operations.wifi.network_context import NetworkContext
from scopion.operations.wifi.published_lists import published
from scopion.operations.wifi.remind_sheets import due_since
from scopion.operations.wifi.type_lists import to_type_now
from scopion.roster.wifi.pushes import HAND, PushState, pushes
from scopion.wireless.enforcer_settings import PageSettings
from scopion.wireless.refusals import quoted
from scopion.wireless.verdict import Check


def check_page(context: NetworkContext, page: PageSettings) -> Check:
    """Return whether a page holds what is wanted, as far as a person has said it. Raises Refused."""
    site, roster, ssid = context.site, context.roster, context.ssid
    where = "the router's page" if page.name == HAND else page.name
    local = site.clock.local
    asked = to_type_now(context, page)
    typed = last_published(roster, ssid, page.name)
    sheet = f"scopion wifi sheet {quoted(ssid)}"
    waiting = waiting_sheet(roster, ssid, page.name)
    this = (each for each in published(roster, site) if each.settings.name == page.name and each.push.ssid == ssid)
    since = next(filter(None, (due_since(site, roster, each) for each in this)), None)
    if since is not None:
        due = f"a change has been due since {local(since):%A %Y-%m-%d, %H:%M}, and is not said to be typed in: {sheet}"
        return Check(where, "list", False, due)
    if waiting is not None:
        made = f"the sheet of {local(waiting.at):%A %Y-%m-%d, %H:%M}"
        said = f"it cannot be read; {made} is not said to be typed in: scopion wifi done {quoted(ssid)}"
        return Check(where, "list", None if not typed else False, said)
    if not typed:
        return Check(where, "list", None, f"it cannot be read; nothing is said to be typed in yet: {sheet}")
    on = f"{local(_latest(context, page)):%Y-%m-%d}"
    if asked.is_nothing:
        return Check(where, "list", None, f"it cannot be read; typed in on {on}, and unchanged since")
    return Check(where, "list", False, f"what was typed in on {on} is not what is wanted now: {sheet}")


def _latest(context: NetworkContext, page: PageSettings) -> datetime:
    """Return when a sheet of the page was last said to be done; there is one."""
    done = (each for each in pushes(context.roster, context.ssid) if each.enforcer == page.name)
    latest = next(each for each in done if each.state is PushState.DONE)
    return latest.ended or latest.at
