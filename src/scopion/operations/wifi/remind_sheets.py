"""Reminds of sheets: when time changes a list that a person types in, its sheet is handed over and told, and again each
day until it is said to be done.
"""

from __future__ import annotations

from datetime import datetime, timedelta

from scopion.model.mac import MacAddress
from scopion.model.text import joined
from scopion.operations.intake.take_in import tell_sheet
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.network_context import open_network
from scopion.operations.wifi.published_lists import Published, is_out_of_date, next_out_of_date
from scopion.operations.wifi.type_lists import SheetOrder, hand_over, plans_of
from scopion.roster.folding.note_sheets import SheetTold, last_told
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.pushes import Push, PushState, pushes
from scopion.wireless.enforcer_settings import PageSettings
from scopion.wireless.enforcers.enforcer import read_held

_AGAIN = timedelta(days=1)
HOURS = "hours"  # why a list is pushed, or a sheet is made: time has changed it


def remind(site: Site, each: Published, page: PageSettings) -> list[str]:
    """Hand over and tell the sheet of a page if it is due. Returns what was done, in sentences. Raises Refused."""
    if is_out_of_date(site, each):
        context = open_network(site, site.roster, each.push.ssid)
        with site.roster.transaction():
            push = hand_over(context, page, plans_of(context, page), SheetOrder(HOURS))
            return tell_waiting(site, push, _changed(site, each)) if push.state is PushState.WAITING else []
    told = _told(site.roster, each)
    if told is None or told.at + _AGAIN > site.clock.now():
        return []
    return tell_waiting(site, each.push, told.since)


def tell_waiting(site: Site, push: Push, since: datetime) -> list[str]:
    """Tell that a sheet waits, and since when it is due. Returns that in a sentence."""
    told = tell_sheet(site, push.ssid, push.enforcer, since)
    return [f"the sheet of {push.ssid!r} is due: {changes_in(push)}"] if told.events else []


def due_since(site: Site, roster: Roster, each: Published) -> datetime | None:
    """Return since when time asks for another list than a person has typed in; None if it does not."""
    if is_out_of_date(site, each):
        return _changed(site, each)
    told = _told(roster, each)
    return told.since if told is not None else None


def changes_in(push: Push) -> str:
    """Return in short what a sheet asks for: ``1 to add and 2 to remove``."""
    added: set[MacAddress] = set()
    removed: set[MacAddress] = set()
    modes = set()
    for told in push.radios.values():
        before, target = read_held(told["before"]), read_held(told["target"])
        added |= (target.allow - before.allow) | (target.deny - before.deny)
        removed |= (before.allow - target.allow) | (before.deny - target.deny)
        modes |= {f"mode {target.mode}"} if target.mode is not before.mode else set()
    said = [f"{len(added)} to add" if added else "", f"{len(removed)} to remove" if removed else "", *sorted(modes)]
    return joined(list(filter(None, said))) or "what an earlier sheet may have left"


def next_reminder(site: Site, roster: Roster, each: Published) -> datetime | None:
    """Return when the sheet of a page is told next; None if nothing of it will be due."""
    told = _told(roster, each)
    coming = (next_out_of_date(site, each), told.at + _AGAIN if told is not None else None)
    return min(filter(None, coming), default=None)


def _changed(site: Site, each: Published) -> datetime:
    """Return when time has changed the list since its sheet was made."""
    return each.changes_after(each.push.at, site.clock.local) or site.clock.now()


def _told(roster: Roster, each: Published) -> SheetTold | None:
    """Return when a person was told that this sheet waits; None if never, or if it does not wait any more."""
    if each.page is None or each.push.state is not PushState.WAITING:
        return None
    told = last_told(roster, each.push.ssid, each.push.enforcer)
    return told if told is not None and told.at >= _typed_at(roster, each) else None


def _typed_at(roster: Roster, each: Published) -> datetime:
    """Return when the radios of a sheet that waits were last said to be typed in; else when the first sheet was made.

    A later sheet, which somebody printed meanwhile, waits as the first one did.
    """
    of_page = [push for push in pushes(roster, each.push.ssid) if push.enforcer == each.push.enforcer]
    of_radios = [push for push in of_page if not push.radios.keys().isdisjoint(each.radios)]
    done = next((push for push in of_radios if push.state is PushState.DONE), of_radios[-1])
    return done.ended or done.at
