"""What a push would do, radio by radio, against what the enforcers hold now."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.operations.pages.held_by import pages_of
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.network_context import NetworkContext, open_network
from scopion.operations.wifi.open_enforcers import enforcers
from scopion.operations.wifi.read_radios import RadioChoice, plan_radios
from scopion.operations.wifi.type_lists import to_type_now
from scopion.roster.wifi.push_deadlines import left_s
from scopion.roster.wifi.pushes import Push, PushState, pushes
from scopion.wireless.plan_radio import RadioPlan


@dataclass(frozen=True, slots=True)
class Preview:
    """A network's list as it should be now, and what each radio holds."""

    context: NetworkContext
    plans: tuple[RadioPlan, ...]
    interrupted: Push | None  # the last push, if it was ended half-way
    waiting: Push | None  # the last push, if it is taken back unless kept
    taken_back: datetime | None  # when, by this machine's clock as it is now
    hours: tuple[str, ...] = ()  # pages into whose timetable other hours are to be typed


def preview(site: Site, ssid: str, choice: RadioChoice, *, drop_foreign: bool = False) -> Preview:
    """Return what a push would do now. Raises EnforcerUnreachable, Refused."""
    context = open_network(site, site.roster_for_reading(), ssid)
    plans = []
    with enforcers(site, ssid, choice.enforcer) as opened:
        for enforcer in opened:
            plans += plan_radios(context, enforcer, choice, drop_foreign=drop_foreign)
    latest = pushes(context.roster, ssid, 50)
    running = next((each for each in latest if each.state in (PushState.RUNNING, PushState.INTERRUPTED)), None)
    last_done = next((each for each in latest if each.state is PushState.DONE), None)
    interrupted = running if running and (last_done is None or running.id > last_done.id) else None
    waiting = next((each for each in latest if each.revert_at is not None), None)
    due = None
    if waiting is not None:
        moment = site.clock.now()
        due = moment + timedelta(seconds=left_s(context.roster, waiting, moment, site.boot()))
    timed = [page for page in pages_of(site, ssid, choice.enforcer) if page.timetable]
    asked = {page.name: to_type_now(context, page).timing for page in timed}
    hours = tuple(name for name, timing in asked.items() if timing.enter or timing.clear)
    return Preview(context, tuple(plans), interrupted, waiting, due, hours)
