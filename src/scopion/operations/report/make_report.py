"""Looks back on a period: gathers it from the roster, and for lists from the enforcers.

The parts are computed by ``reports`` and the files beside this one; nothing is drawn here.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta

from scopion.alerts.news import sentence
from scopion.model.device import Device, EventKind, Standing, Stay
from scopion.model.errors import NotFound, UsageError
from scopion.model.week import Local, from_the_wall, on_the_wall
from scopion.operations.devices.identify_device import Described
from scopion.operations.devices.list_devices import described_devices
from scopion.operations.devices.map_addresses import LARGEST, LATELY, map_of, subnets_of
from scopion.operations.report.find_concerns import concerns
from scopion.operations.report.gather_status import gather_status
from scopion.operations.report.report_devices import Past, device_lines, place_lines, read_past
from scopion.operations.report.report_wireless import audit_lines, network_lines
from scopion.operations.report.report_wires import usage_lines, wire_lines
from scopion.operations.site.open_site import Site
from scopion.reports.content import (
    HAPPENINGS,
    DayOfComings,
    DeviceLine,
    Group,
    Happening,
    Part,
    Report,
    SubnetLine,
    WeekOfNew,
)
from scopion.reports.count_hours import DAY_HOURS, HourSpan, busy
from scopion.reports.sentences import said_day, summary
from scopion.reports.status_lines import for_page, status_lines
from scopion.roster.read_events import EventFilter, count_events, find_events
from scopion.roster.scans import first_look
from scopion.roster.store.open_roster import Roster

USUAL_DAYS = 28  # today among them
_ROUTINE = (EventKind.RETURNED, EventKind.LEFT)
_UNNAMED = {True: "(private address)", False: "(unknown)"}
_LONGEST = timedelta(days=3_660)
_OF_NOW = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class ReportRequest:
    """What a report should tell."""

    since: datetime | None = None  # None: four weeks before ``until``, at midnight
    until: datetime | None = None  # None: now
    parts: tuple[Part, ...] = tuple(Part)
    happenings: int | None = HAPPENINGS  # at most; None: all
    place: str | None = None  # of this place only; None: of all


def report(site: Site, wish: ReportRequest | None = None) -> Report:
    """Return the report of a period. Raises NotFound if nothing is remembered, UsageError for an impossible period."""
    wish = wish or ReportRequest()
    site.require_roster()
    roster, everybody = site.roster_for_reading(), described_devices(site)
    first = first_look(roster)
    local, now = site.clock.local, site.clock.now()
    until = min(wish.until or now, now)
    since = _beginning(wish, until, local)
    if first is not None and until <= first:
        begun = on_the_wall(first, local)
        raise NotFound(f"the roster begins on {said_day(begun.date())}: nothing is known of the time before")
    memory = first if first is not None and since < first < until else None
    since = memory or since  # nothing is known of the time before the roster began
    span = HourSpan(on_the_wall(since, local).date(), on_the_wall(until, local))
    past = read_past(roster, span, since, until, now, local, wish.place)
    seen = [each for each in everybody if each.device.id in past.seen]
    lines = device_lines(seen, past)
    wanted = {part: part in wish.parts for part in Part}
    devices = [each.device for each in everybody]
    networks = network_lines(site, roster, devices, local) if wanted[Part.WIRELESS] or wanted[Part.ATTENTION] else ()
    findings = audit_lines(site) if wanted[Part.AUDIT] or wanted[Part.ATTENTION] else ()
    subnets = _subnets(site, roster, devices, past, until) if wanted[Part.ADDRESSES] or wanted[Part.ATTENTION] else ()
    happenings, left_out = _happenings(site, roster, everybody, past, wish.happenings)
    ends_now = now - until < _OF_NOW and wish.place in (None, roster.home)  # what is told of cables is as of now
    switches = wire_lines(site) if wanted[Part.WIRES] and ends_now else ()
    usage, usage_since = usage_lines(site, since) if wanted[Part.USAGE] and ends_now else ((), None)
    without = {Part.WIRES: bool(switches), Part.USAGE: bool(usage)} if wish.parts == tuple(Part) else {}
    made = Report(
        site=site.name,
        since=on_the_wall(since, local),
        until=span.end,
        memory_since=on_the_wall(memory, local) if memory is not None else None,
        parts=tuple(part for part in wish.parts if without.get(part, True)),
        summary=(),
        status=for_page(status_lines(gather_status(site), local)),
        attention=(),
        devices=lines,
        days=_days(past),
        happenings=happenings,
        happenings_left_out=left_out,
        busy=tuple(tuple(hours) for hours in busy(past.runs.values(), past.span, past.looked, past.since)),
        new=_new(past, lines),
        vendors=_groups(
            (each.vendor or ("(private address)" if each.private else "(unknown)"), each) for each in lines
        ),
        kinds=_groups((each.kind or "(not known)", each) for each in lines),
        subnets=subnets,
        places=place_lines(seen, past, roster.home),
        networks=networks,
        audit=findings,
        place=wish.place or "",
        switches=switches,
        usage=usage,
        usage_since=on_the_wall(usage_since, local) if usage_since is not None else None,
    )
    found = concerns(site, roster, made, past) if wanted[Part.ATTENTION] else ()
    made = replace(made, attention=found)
    return replace(made, summary=summary(made), networks=networks if wanted[Part.WIRELESS] else ())


def _beginning(wish: ReportRequest, until: datetime, local: Local) -> datetime:
    """Return when the period begins. Raises UsageError for an impossible one."""
    if wish.since is None:
        day = on_the_wall(until, local).replace(hour=0, minute=0, second=0, microsecond=0) - timedelta(
            days=USUAL_DAYS - 1
        )
        return from_the_wall(day, until, local)
    if wish.since >= until:
        raise UsageError("the period ends before it begins: give --since an earlier moment than --until")
    return max(wish.since, until - _LONGEST)


def _days(past: Past) -> tuple[DayOfComings, ...]:
    """Return how many devices came and went, and how many were here, day by day."""
    counts: Counter[tuple[date, EventKind]] = Counter((each.at.date(), each.kind) for each in past.comings)
    present: Counter[int] = Counter()
    for runs in past.runs.values():
        present.update({day for begin, end in runs for day in range(begin // DAY_HOURS, end // DAY_HOURS + 1)})
    offset = (past.since.date() - past.span.first).days
    return tuple(
        DayOfComings(
            day,
            past.looked(day),
            present[number + offset],
            *(counts[day, kind] for kind in (EventKind.JOINED, EventKind.RETURNED, EventKind.LEFT)),
        )
        for number, day in enumerate(past.span.days[offset:])
    )


def _new(past: Past, lines: Sequence[DeviceLine]) -> tuple[WeekOfNew, ...]:
    """Return the devices that joined, each once, week by week, by their standing now."""
    standings = {each.number: each.standing for each in lines}
    weeks: dict[date, Counter[str]] = {}
    day = past.since.date()
    while day <= past.span.end.date():
        weeks.setdefault(_monday(day), Counter())
        day += timedelta(days=1)
    told: set[int] = set()
    for each in past.comings:
        if each.kind is EventKind.JOINED and each.device in standings and each.device not in told:
            told.add(each.device)
            weeks[_monday(each.at.date())][standings[each.device]] += 1
    return tuple(WeekOfNew(monday, {str(each): counts[each] for each in Standing}) for monday, counts in weeks.items())


def _monday(day: date) -> date:
    return day - timedelta(days=day.weekday())


def _groups(named: Iterable[tuple[str, DeviceLine]]) -> tuple[Group, ...]:
    """Return devices by something that they have in common, the largest group first."""
    groups: dict[str, list[DeviceLine]] = {}
    for name, line in named:
        groups.setdefault(name, []).append(line)
    found = [Group(name, len(each), sum(line.present for line in each)) for name, each in groups.items()]
    return tuple(sorted(found, key=lambda group: (-group.devices, group.name.casefold())))


def _subnets(
    site: Site, roster: Roster, devices: Sequence[Device], past: Past, until: datetime
) -> tuple[SubnetLine, ...]:
    """Return what the addresses were used for at the end of the period."""
    stays = [(number, _as_of(stay, until)) for number, each in past.stays.items() for stay in each]
    found = []
    for placed in subnets_of(site, roster):
        if placed.range.prefixlen < LARGEST or past.place not in (None, placed.place):
            continue
        of_subnet = map_of(site, roster, placed, devices, stays, until - LATELY)
        found.append(SubnetLine(of_subnet.name, of_subnet.use, of_subnet.pool_known, placed.place))
    return tuple(found)


def _as_of(stay: Stay, moment: datetime) -> Stay:
    """Return a stay as it was at a moment that it had begun by."""
    here = stay.present or stay.until >= moment
    return replace(stay, until=min(stay.until, moment), present=here) if here is not stay.present else stay


def _happenings(
    site: Site, roster: Roster, everybody: Sequence[Described], past: Past, limit: int | None
) -> tuple[tuple[Happening, ...], int]:
    """Return the latest notable events, and how many earlier ones there are."""
    notable = tuple(kind for kind in EventKind if kind not in _ROUTINE)
    wanted = EventFilter(past.since_moment, past.until_moment, notable, place=past.place)
    devices: Mapping[int, Described] = {each.device.id: each for each in everybody}
    events = find_events(roster, wanted, limit)
    told = tuple(
        Happening(
            on_the_wall(event.at, past.local),
            str(event.kind),
            event.device_id,
            sentence(event, known.device if (known := devices.get(event.device_id)) else None, site.vendors),
        )
        for event in events
    )
    return told, (count_events(roster, wanted) - len(told) if limit is not None else 0)
