"""What the watch does for wireless lists: it carries out hours, repeats lost lists, reads stations, keeps deadlines."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta

from scopion.model.band import at_band, spoken_bands
from scopion.model.errors import ScopionError
from scopion.operations.intake.count_octets import count_stations
from scopion.operations.intake.pasted_lists import PASTED
from scopion.operations.intake.take_in import TakenIn
from scopion.operations.pages.held_by import reached
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.open_enforcers import NO_STATIONS, Read, read_once, read_stations, remember_stations
from scopion.operations.wifi.published_lists import Published, is_out_of_date, next_out_of_date, published
from scopion.operations.wifi.push_lists import push_published, resume_interrupted
from scopion.operations.wifi.remind_sheets import HOURS, changes_in, next_reminder, remind
from scopion.operations.wifi.revert_push import revert_overdue, time_left
from scopion.operations.wifi.send_push import Pushed
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.pushes import PushState, with_deadline
from scopion.wireless.enforcers.enforcer import Held, read_held
from scopion.wireless.order_steps import target_of

_GONE, _ASSOCIATED = "its lists were gone", "a device that it refuses was associated"
_NOT_SOONER = timedelta(minutes=10)


@dataclass(slots=True)
class Attended:
    """What was done, what went wrong, and when there is something to do next."""

    done: list[str] = field(default_factory=list)
    problems: dict[str, str] = field(default_factory=dict)  # by what was being done, and is still due
    unread: dict[str, str] = field(default_factory=dict)  # the same for what was only to be read
    stations: int | None = None  # how many stations are associated; None: not read
    moved: TakenIn = field(default_factory=TakenIn)  # devices that do not move and are on another access point
    read: dict[str, str] = field(default_factory=dict)  # by access point, why it could not be read; empty if it could


def next_moment(roster: Roster, site: Site) -> datetime | None:
    """Return when a list changes by itself, or a push is to be taken back; None if neither will happen."""
    now = site.clock.now()
    coming = [now + time_left(site, roster, each) for each in with_deadline(roster)]
    for each in published(roster, site):
        change = next_out_of_date(site, each) if each.page is None else next_reminder(site, roster, each)
        coming += [change] if change is not None else []
    return min(coming, default=None)


def attend(site: Site, *, stations: bool) -> Attended:
    """Do what is due. An error of an enforcer is reported in the result, never raised, and tried again."""
    came = Attended()
    for push, done, problem in revert_overdue(site):
        doing = f"taking back push {push.id}"
        came.done += map(_said, done)
        if problem:
            came.problems[doing] = problem
    try:
        came.done += [_said(each) for each in resume_interrupted(site)]
    except ScopionError as error:
        came.problems["going on with an interrupted push"] = str(error)
    read: Read = {}  # of this round
    reminded: set[tuple[str, str]] = set()  # a page may have been typed into radio by radio: one sheet is for all
    for each in published(site.roster, site):
        doing = f"looking after {each.push.ssid!r} at {each.push.enforcer}"
        try:
            if each.page is not None:
                which = (each.push.ssid, each.push.enforcer)
                said = remind(site, each, each.page) if which not in reminded else []
                came.done += said
                reminded |= {which} if said else set()
            elif why := HOURS if is_out_of_date(site, each) else _forgotten(site, each, read) if stations else "":
                doing = f"pushing {each.push.ssid!r} to {each.push.enforcer}"
                read.pop(each.push.enforcer, None)
                came.done += [_said(sent) for sent in push_published(site, each.push, why, radios=each.radios)]
        except ScopionError as error:
            came.problems[doing] = str(error)
    if stations:
        found, unread = read_stations(site, read=read)
        whole = {each.name for each in reached(site)} - {each.enforcer for each in unread}
        count_stations(site, found)
        came.moved = remember_stations(site, found, whole, site.clock.now())
        came.stations = len(found)
        failed = {each.enforcer: each.problem for each in unread if each.problem != NO_STATIONS}
        came.read = {each.name: failed.get(each.name, "") for each in reached(site)}
        for miss in unread:
            if miss.problem != NO_STATIONS and miss.enforcer != PASTED:
                came.unread[f"reading {at_band(miss.enforcer, miss.radio)}"] = miss.problem
    return came


def _forgotten(site: Site, each: Published, read: Read) -> str:
    """Return why an enforcer has to be given its lists again, as after a restart; empty if not.

    Its lists are gone, or a station is associated that they refuse: its mode may have changed, which it does not tell.
    What was ``read`` in this round is not read again.
    """
    if each.push.because in (_GONE, _ASSOCIATED) and site.clock.now() - each.push.at < _NOT_SOONER:
        return ""  # it was given them just now: the same again would not help
    try:
        for radio, reading in read_once(site, each.settings, read).items():
            if radio not in each.radios or isinstance(reading, ScopionError):
                continue
            if each.keeps_hours:
                wanted = target_of(each.wanted(site.clock.now(), site.clock.local), Held())
                if not reading.held.holds_the_same(wanted):
                    return _GONE
                continue  # its server sees to the stations
            target = read_held(each.push.radios[radio]["target"])
            if target.entries and not reading.held.entries:
                return _GONE
            if any(map(target.refuses, reading.stations)):
                return _ASSOCIATED
    except ScopionError:
        return ""  # reading the stations tells it
    return ""


def _said(each: Pushed) -> str:
    if each.push.state is PushState.WAITING:  # of a page
        return f"the sheet of {each.push.ssid!r} that goes back waits: {changes_in(each.push)}"
    plan = each.plans[0]
    why = f" ({each.push.because})" if each.push.because else ""
    radios = spoken_bands(plan.radio for plan in each.plans)
    return (
        f"push {each.push.id}{why}: {each.push.enforcer}, {radios}, mode {plan.target.mode}, "
        f"{len(plan.added)} added, {len(plan.removed)} removed"
    )
