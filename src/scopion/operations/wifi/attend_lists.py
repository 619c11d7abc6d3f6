"""What the watch does for wireless lists: it carries out hours, repeats lost lists, reads stations, keeps deadlines."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta

from scopion.model.errors import ScopionError
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.open_enforcers import open_enforcer, read_stations, remember_stations, settings_of
from scopion.operations.wifi.push_lists import push_published, resume_interrupted
from scopion.operations.wifi.revert_push import revert_overdue, time_left
from scopion.operations.wifi.send_push import Pushed
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.pushes import Push, PushState, pushes, with_deadline
from scopion.wireless.enforcers.enforcer import Held, read_held
from scopion.wireless.list_policy import ListPolicy, next_change, read_policy, wanted
from scopion.wireless.order_steps import target_of

_GONE, _ASSOCIATED = "its lists were gone", "a device that it refuses was associated"
_NOT_SOONER = timedelta(minutes=10)


@dataclass(slots=True)
class Attended:
    """What was done, what went wrong, and when there is something to do next."""

    done: list[str] = field(default_factory=list)
    problems: dict[str, str] = field(default_factory=dict)  # by what was being done
    stations: int | None = None  # how many stations are associated; None: not read


@dataclass(frozen=True, slots=True)
class Published:
    """What was published last to some radios of an enforcer."""

    push: Push
    radios: tuple[str, ...]
    policy: ListPolicy


def published(roster: Roster, site: Site) -> list[Published]:
    """Return what the pushes so far have left in force, by enforcer; only of those that the settings still name."""
    taken: set[tuple[str, str, str]] = set()
    found = []
    for each in pushes(roster):
        if each.state is not PushState.DONE or not any(
            settings.name == each.enforcer for settings in settings_of(site, each.ssid)
        ):
            continue
        radios = tuple(radio for radio in each.radios if (each.ssid, each.enforcer, radio) not in taken)
        taken |= {(each.ssid, each.enforcer, radio) for radio in radios}
        if radios and each.policy is not None:
            found.append(Published(each, radios, read_policy(each.policy)))
    return found


def next_moment(roster: Roster, site: Site) -> datetime | None:
    """Return when a list changes by itself, or a push is to be taken back; None if neither will happen."""
    now = site.clock.now()
    coming = [now + time_left(site, roster, each) for each in with_deadline(roster)]
    for each in published(roster, site):
        policy = each.policy
        due = _out_of_date(site, each)
        change = now if due else next_change(policy, now, site.clock.local) if policy.changes_by_itself else None
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
    for each in published(site.roster, site):
        why = "hours" if _out_of_date(site, each) else _forgotten(site, each) if stations else ""
        if why:
            doing = f"pushing {each.push.ssid!r} to {each.push.enforcer}"
            try:
                came.done += [_said(sent) for sent in push_published(site, each.push, why, radios=each.radios)]
            except ScopionError as error:
                came.problems[doing] = str(error)
    if stations:
        found, unread = read_stations(site)
        remember_stations(site.roster, found)
        came.stations = len(found)
        for miss in unread:
            if miss.radio:
                came.problems[f"reading {miss.enforcer} ({miss.radio} GHz)"] = miss.problem
    return came


def _out_of_date(site: Site, each: Published) -> bool:
    """Tell whether another list is wanted by now than was published."""
    now = wanted(each.policy, site.clock.now(), site.clock.local)
    ours = target_of(now, Held())
    return any(not _same(read_held(each.push.radios[radio]["ours"]), ours) for radio in each.radios)


def _same(held: Held, ours: Held) -> bool:
    return (held.allow, held.deny, held.mode) == (ours.allow, ours.deny, ours.mode)


def _forgotten(site: Site, each: Published) -> str:
    """Return why an enforcer has to be given its lists again, as after a restart; empty if not.

    Its lists are gone, or a station is associated that they refuse: its mode may have changed, which it does not tell.
    """
    if each.push.because in (_GONE, _ASSOCIATED) and site.clock.now() - each.push.at < _NOT_SOONER:
        return ""  # it was given them just now: the same again would not help
    settings = next(one for one in settings_of(site, each.push.ssid) if one.name == each.push.enforcer)
    enforcer = open_enforcer(site, settings)
    try:
        for radio in each.radios:
            held, target = enforcer.held(radio), read_held(each.push.radios[radio]["target"])
            if target.entries and not held.entries:
                return _GONE
            if enforcer.traits.reads_stations and not all(
                target.admits(station.mac) for station in enforcer.stations(radio)
            ):
                return _ASSOCIATED
    except ScopionError:
        return ""  # reading the stations tells it
    finally:
        enforcer.close()
    return ""


def _said(each: Pushed) -> str:
    plan = each.plans[0]
    why = f" ({each.push.because})" if each.push.because else ""
    radios = ", ".join(plan.radio for plan in each.plans)
    return (
        f"push {each.push.id}{why}: {each.push.enforcer}, {radios} GHz, mode {plan.target.mode}, "
        f"{len(plan.added)} added, {len(plan.removed)} removed"
    )
