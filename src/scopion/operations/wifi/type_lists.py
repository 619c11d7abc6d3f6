"""A person as the wire: hands over sheets for the pages of a network, and records that they were typed in.

A sheet that is handed over is a push that waits for the person. Saying that it is done ends it: from then on the page
holds what that sheet asked for, whatever is wanted by then.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime

from scopion.model.errors import NotFound, Refused, StorageFailed
from scopion.operations.pages.held_by import is_only_asked_for, page_of, pages_of
from scopion.operations.pages.typed_lists import took_back, waiting_sheet
from scopion.operations.pages.word_sheet import ToType, sheet_of, to_type, typed_hours
from scopion.operations.site.change_roster import account
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.load_policy import lines_on
from scopion.operations.wifi.network_context import NetworkContext, open_network
from scopion.operations.wifi.open_enforcers import open_enforcer
from scopion.operations.wifi.read_radios import RadioChoice, plan_radios
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.lists import ListMode
from scopion.roster.wifi.push_deadlines import note_deadline
from scopion.roster.wifi.pushes import (
    NewPush,
    Push,
    PushState,
    await_person,
    begin_push,
    end_push,
    note_radios,
    push_of,
    pushes,
)
from scopion.wireless.enforcer_settings import PageSettings
from scopion.wireless.enforcers.enforcer import held_document
from scopion.wireless.list_policy import policy_document
from scopion.wireless.plan_radio import RadioPlan
from scopion.wireless.refusals import quoted
from scopion.wireless.router_sheet import Sheet


@dataclass(frozen=True, slots=True)
class SheetOrder:
    """Why a sheet is handed over, if no person asked for it, and what becomes of it."""

    because: str = ""
    revert_at: datetime | None = None  # then the sheet that goes back is told, unless it is kept
    publishes: bool = True  # whether the network's policy is put in force, with its hours


_NOT_KEPT = 1 << 62  # the number of a push that is not in the roster: it comes after all


def sheets(site: Site, ssid: str, name: str | None = None, *, whole: bool = False) -> list[tuple[PageSettings, Sheet]]:
    """Hand over the sheet of now for each page of a network, or the one of this name: what has changed since it was
    typed in, or the ``whole`` list. A sheet that goes back stays, unless people have changed the lists since.

    Who may only read the roster gets it, too; then ``done`` does not know of it. Of a network that a push reaches, its
    whole list is for typing all the same, as while its access point is away; nothing waits then. Raises NotFound, or
    Refused for an empty allow list.
    """
    if is_only_asked_for(site, ssid):
        raise Refused(
            f"the list of {ssid!r} is not typed in: what its access points need is scopion wifi radius {quoted(ssid)}"
        )
    context = open_network(site, site.roster_for_reading(), ssid)
    if name is None and not pages_of(site, ssid):
        return [(page_of(context.network), _whole(context, page_of(context.network)))]
    made = []
    for page in require_pages(site, ssid, name):
        plans = plans_of(context, page)
        _require_some(context, plans)
        new, latest = _new_push(context, page, plans, SheetOrder()), _latest(context.roster, page, ssid)
        push = _unkept(new)
        goes_back = latest is not None and took_back(pushes(context.roster, ssid), latest, new.policy)
        if latest is not None and goes_back and latest.state is PushState.WAITING:
            push = latest
        # What was typed in last, now and later, is not handed over again.
        elif latest is None or latest.state is not PushState.DONE or not _is_same(latest, new):
            with suppress(StorageFailed):
                push = _record(context, page, new)
        asked = to_type(context.roster, page, push, whole=whole)
        made.append((page, sheet_of(site, context.roster, asked)))
    return made


def whole_sheet(site: Site, ssid: str) -> Sheet:
    """Return the sheet with a network's whole list as it is wanted now; nothing is handed over, nothing waits.

    Raises NotFound, or Refused for an empty allow list.
    """
    context = open_network(site, site.roster_for_reading(), ssid)
    return _whole(context, next(iter(pages_of(site, ssid)), page_of(context.network)))


def _whole(context: NetworkContext, page: PageSettings) -> Sheet:
    """Return the whole list of a network for typing it into a page."""
    plans = plans_of(context, page)
    _require_some(context, plans)
    asked = to_type(context.roster, page, _unkept(_new_push(context, page, plans, SheetOrder())), whole=True)
    return sheet_of(context.site, context.roster, asked, waits=False)


def sheet_again(site: Site, push: Push) -> Sheet:
    """Return the sheet of a push to a page, as it was handed over. Raises NotFound without such a page."""
    (page,) = pages_of(site, push.ssid, push.enforcer)
    roster = site.roster_for_reading()
    return sheet_of(site, roster, to_type(roster, page, push))


def to_type_now(context: NetworkContext, page: PageSettings) -> ToType:
    """Return what a sheet of now would ask to type into a page; nothing is handed over. Raises Refused."""
    new = _new_push(context, page, plans_of(context, page), SheetOrder())
    return to_type(context.roster, page, _unkept(new))


def require_pages(site: Site, ssid: str, name: str | None = None) -> list[PageSettings]:
    """Return the pages of a network, or the one of this name. Raises NotFound if no list of it is typed by hand."""
    found = pages_of(site, ssid, name)
    if not found:
        raise NotFound(f"no list of {ssid!r} is typed by hand: scopion wifi push sends it to its enforcers")
    return found


def plans_of(context: NetworkContext, page: PageSettings, radios: tuple[str, ...] = ()) -> list[RadioPlan]:
    """Return what a page would need on all its radios or some. Raises Refused."""
    return plan_radios(context, open_enforcer(context.site, page), RadioChoice(page.name, radios))


def hand_over(
    context: NetworkContext, page: PageSettings, plans: Sequence[RadioPlan], order: SheetOrder | None = None
) -> Push:
    """Hand over the sheet of some plans. Returns the push that waits for the person, or is done if nothing is to be
    typed.
    """
    return _record(context, page, _new_push(context, page, plans, order or SheetOrder()))


def _record(context: NetworkContext, page: PageSettings, new: NewPush) -> Push:
    """Record a sheet that is handed over; the same one, waiting or done already, is not recorded twice."""
    roster, site = context.roster, context.site
    latest = _latest(roster, page, new.ssid)
    if latest is not None and _is_same(latest, new) and new.revert_at is None:
        return latest
    roster = site.roster
    with roster.transaction():
        number = begin_push(roster, new)
        if to_type(roster, page, push_of(roster, number)).is_nothing:
            end_push(roster, number, PushState.DONE, new.at)
            return push_of(roster, number)
        await_person(roster, number)
        if new.revert_at is not None:
            note_deadline(roster, number, site.boot(), (new.revert_at - new.at).total_seconds())
    site.stands.append(f"the sheet of {new.ssid!r} waits (push {number})")
    return push_of(roster, number)


def typed_in(site: Site, ssid: str, radios: tuple[str, ...] = (), name: str | None = None) -> list[Push]:
    """Record that the sheets of a network's pages were typed in, on all radios or some. Returns a push for each.

    Those that wait are meant; if none does, what is wanted now was typed. Raises NotFound without a page, Refused for a
    radio that it does not have.
    """
    roster = site.roster
    pages = require_pages(site, ssid, name)
    meant = [each for each in pages if waiting_sheet(roster, ssid, each.name)] or pages
    strange = [radio for radio in radios for page in meant if radio not in page.radios]
    if strange:
        raise Refused(f"{ssid!r} is not on {strange[0]} GHz: scopion wifi mode with --radios says where it is")
    done = []
    with roster.transaction():  # all of them or none
        for page in meant:
            waiting = waiting_sheet(roster, ssid, page.name)
            if waiting is None:
                context = open_network(site, roster, ssid)
                new = _new_push(context, page, plans_of(context, page, radios), SheetOrder("typed in"))
                waiting = push_of(roster, begin_push(roster, new))
            done.append(_end(site, roster, waiting, radios))
    site.stands.append(f"what was typed in for {ssid!r} is noted")
    return done


def _end(site: Site, roster: Roster, waiting: Push, radios: tuple[str, ...]) -> Push:
    """End a waiting push for some of its radios, else for all; for the others it goes on waiting."""
    chosen = {radio: told for radio, told in waiting.radios.items() if not radios or radio in radios}
    rest = {radio: told for radio, told in waiting.radios.items() if radio not in chosen}
    now, number = site.clock.now(), waiting.id
    if not chosen:
        raise Refused(f"the sheet of {waiting.ssid!r} asks for nothing on {radios[0]} GHz")
    if rest:  # a push of its own, so that it is known what was typed in on each radio
        names = (waiting.ssid, waiting.enforcer)
        part = NewPush(*names, waiting.at, account(), waiting.because, chosen, waiting.policy, waiting.revert_at)
        number = begin_push(roster, part)
        note_radios(roster, waiting.id, rest)
    end_push(roster, number, PushState.DONE, now)
    return push_of(roster, number)


def _require_some(context: NetworkContext, plans: Sequence[RadioPlan]) -> None:
    """Raise Refused for an allow list without any entry; one that has none at this hour was meant so."""
    empty = any(plan.target.mode is ListMode.ALLOW and not plan.target.allow for plan in plans)
    if empty and not lines_on(context.policy, ListMode.ALLOW):
        raise Refused(f"the allow list of {context.ssid!r} is empty: a sheet for it would lock every device out")


def _new_push(context: NetworkContext, page: PageSettings, plans: Sequence[RadioPlan], order: SheetOrder) -> NewPush:
    policy = context.policy if order.publishes else None
    radios = {
        plan.radio: {
            "before": held_document(plan.held),
            "target": held_document(plan.target),
            "ours": held_document(plan.target),
            "after": None,
            **({"hours": typed_hours(policy, plan.target)} if page.timetable else {}),
        }
        for plan in plans
    }
    document = policy_document(policy) if policy is not None else None
    now = context.site.clock.now()
    return NewPush(context.ssid, page.name, now, account(), order.because, radios, document, order.revert_at)


def _latest(roster: Roster, page: PageSettings, ssid: str) -> Push | None:
    """Return the last push of a page that waits or is done."""
    found = (each for each in pushes(roster, ssid) if each.enforcer == page.name)
    return next((each for each in found if each.state in (PushState.WAITING, PushState.DONE)), None)


def _is_same(push: Push, new: NewPush) -> bool:
    """Tell whether two sheets ask for the same, now and later."""

    def asked(each: Push | NewPush) -> dict[str, object]:
        return {radio: (told["target"], told.get("hours")) for radio, told in each.radios.items()}

    return asked(push) == asked(new) and push.policy == new.policy


def _unkept(new: NewPush) -> Push:
    """Return a push that the roster does not have: nothing is to be typed, or nothing can be written."""
    values = {name: getattr(new, name) for name in ("ssid", "enforcer", "at", "who", "because", "radios", "policy")}
    return Push(
        id=_NOT_KEPT, ended=new.at, state=PushState.DONE, problem="", revert_at=None, reverted_by=None, **values
    )
