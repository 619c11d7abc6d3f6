"""Lets the sensor that carries an enforcer's steps take a push back by itself: the way there may be gone by then."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from scopion.attachment.orders.order import Guard, Guards
from scopion.model.errors import EnforcerUnreachable, Refused
from scopion.model.mac import MacAddress
from scopion.operations.pages.held_by import settings_of
from scopion.operations.site.open_site import Site
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.push_deadlines import left_s
from scopion.roster.wifi.pushes import Push, push_of, with_deadline
from scopion.wireless.refusals import quoted


def guard_push(
    site: Site, roster: Roster, number: int, before: Mapping[str, Mapping[str, Any]], first: Sequence[MacAddress]
) -> None:
    """Have a push that is just being recorded taken back at its deadline, if it has one; ``before`` is by radio.

    Pushes that do not wait any more are not taken back from now on. Raises EnforcerUnreachable, InvalidSettings.
    """
    push = push_of(roster, number)
    new = None
    if push.revert_at is not None:
        left = left_s(roster, push, site.clock.now(), site.boot())
        new = Guard(number, max(0.0, left), {radio: each["before"] for radio, each in before.items()}, tuple(first))
    settle_guards(site, roster, push, new=new)


def settle_guards(site: Site, roster: Roster, push: Push, *, new: Guard | None = None, kept: bool = False) -> None:
    """Tell the sensor which pushes to the enforcer of ``push`` are still to be taken back; ``kept``: not this one.

    Does nothing for an enforcer that is reached from here. Raises EnforcerUnreachable, InvalidSettings, and Refused if
    a push that a person keeps was taken back there.
    """
    settings = next((each for each in settings_of(site, push.ssid) if each.name == push.enforcer), None)
    if settings is None or not settings.via:
        return
    waiting = [
        each.id
        for each in with_deadline(roster)
        if each.enforcer == push.enforcer and not (kept and each.id == push.id)
    ]
    answer = site.order_line(settings.via).ask(settings.name, Guards(tuple(waiting), new))
    if answer.failed:
        raise EnforcerUnreachable(f"the sensor {settings.via}: {answer.failed}")
    if kept and push.id not in answer.guarded:
        raise Refused(
            f"push {push.id} cannot be kept: {settings.via} has taken it back already, or is doing it: "
            f"scopion wifi push {quoted(push.ssid)} puts the list in force again"
        )
