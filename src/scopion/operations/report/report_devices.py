"""The devices of a report: their hours in a period, and how they stand at its end."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import NamedTuple

from scopion.model.address import written
from scopion.model.device import BY_URGENCY, NEVER, EventKind, Standing, Stay
from scopion.model.week import Local, on_the_wall
from scopion.operations.devices.identify_device import Described
from scopion.operations.devices.rhythm import rule_in_words
from scopion.reports.content import DeviceLine, PlaceLine
from scopion.reports.count_hours import DAY_HOURS, HourSpan, bits, hour_runs, said_hours, week_of
from scopion.roster.read_events import comings
from scopion.roster.read_history import looked_at, stays_since
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.air_sessions import AirSession, sessions_since

# The usual week is taken from this time before the end, even if the period is shorter.
_USUAL_BEFORE = timedelta(weeks=9)
_RULE_DAYS = 28


class Coming(NamedTuple):
    """A device joined, returned or left."""

    at: datetime  # on the site's clock
    kind: EventKind
    device: int


@dataclass(frozen=True, slots=True)
class Past:
    """What was read of the past, once for all parts."""

    since: datetime  # of the period, on the site's clock
    span: HourSpan  # the period, and the time before it that tells what is usual
    since_moment: datetime
    until_moment: datetime
    local: Local
    stays: Mapping[int, Sequence[Stay]]  # by device, those that had begun by the end
    runs: Mapping[int, Sequence[tuple[int, int]]]  # by device: its hours in the span
    seen: frozenset[int]  # devices that were here in the period
    here: frozenset[int]  # devices that are here at its end
    looked_on: frozenset[date]
    comings: tuple[Coming, ...]  # of the period
    place: str | None = None  # that all of it is about; None: all places

    @property
    def looked(self) -> Callable[[date], bool]:
        """Return a function that tells whether a scan looked on a day."""
        return self.looked_on.__contains__


def read_past(
    roster: Roster,
    span: HourSpan,
    since: datetime,
    until: datetime,
    now: datetime,
    local: Local,
    place: str | None = None,
) -> Past:
    """Read what happened, in one place or in all; ``span`` is the period on the site's clock."""
    earliest = min(since, until - _USUAL_BEFORE)
    whole = HourSpan(min(span.first, local(earliest).date()), span.end)
    stays: dict[int, list[Stay]] = {}
    runs: dict[int, list[tuple[int, int]]] = {}
    looked_on = {local(began).date() for began, _ in looked_at(roster, earliest)}
    seen, here = set(), set()
    of_stays, of_sessions = stays_since(roster, earliest), sessions_since(roster, earliest)
    for device in dict.fromkeys((*of_stays, *of_sessions)):
        stays_begun = [stay for stay in of_stays.get(device, ()) if stay.since <= until and place in (None, stay.place)]
        begun: list[Stay | AirSession] = list(stays_begun)
        if place in (None, roster.home):  # access points that report associations report them to this machine
            begun += [each for each in of_sessions.get(device, ()) if each.since <= until]
        if not begun:
            continue
        stays[device] = stays_begun
        spans = []
        for stay in begun:
            end = now if stay.present else stay.until
            begin_wall, end_wall = (on_the_wall(moment, local) for moment in (stay.since, end))
            spans.append((begin_wall, end_wall))
            # A device whose coming or last sighting was noted shows that someone looked: a site that only listens has
            # no complete scans.
            looked_on.add(begin_wall.date())
            looked_on.add(local(stay.until).date())
            if end >= since:
                seen.add(device)
            if end >= until:
                here.add(device)
        runs[device] = hour_runs(spans, whole)
    told = tuple(
        Coming(on_the_wall(at, local), kind, device) for at, kind, device in comings(roster, since, until, place)
    )
    begin = on_the_wall(since, local)
    return Past(
        begin, whole, since, until, local, stays, runs, frozenset(seen), frozenset(here), frozenset(looked_on), told,
        place,
    )  # fmt: skip


def device_lines(devices: Sequence[Described], past: Past) -> tuple[DeviceLine, ...]:
    """Return the devices that were here in the period; those that need attention come first."""
    counts = Counter((each.device, each.kind) for each in past.comings)
    ordered = sorted(
        devices,
        key=lambda each: (
            BY_URGENCY.index(each.device.standing),
            each.device.id not in past.here,
            not each.device.name,
            each.device.called.casefold(),
        ),
    )
    return tuple(_line(each, past, counts) for each in ordered)


def _line(each: Described, past: Past, counts: Mapping[tuple[int, EventKind], int]) -> DeviceLine:
    device, span = each.device, past.span
    joined = counts.get((device.id, EventKind.JOINED), 0)
    runs = past.runs.get(device.id, ())
    here = bits(runs)
    first = on_the_wall(device.first_seen, past.local)
    week = week_of(here, span, first.date(), past.looked)
    begin = (past.since.date() - span.first).days
    days = {day for start, end in runs for day in range(max(begin, start // DAY_HOURS), end // DAY_HOURS + 1)}
    vendor = each.vendors[0] if each.vendors else None
    private = any(mac.is_private for mac in device.macs)
    stays = past.stays.get(device.id, ())
    last = max((past.until_moment if stay.present else stay.until for stay in stays), default=device.last_seen)
    return DeviceLine(
        number=device.id,
        name=device.called,
        standing=str(device.standing),
        role="this machine" if device.own else "gateway" if device.gateway or device.gateway_in else "",
        present=device.id in past.here,
        addresses=_addresses(stays, past.until_moment),
        macs=tuple(map(str, device.macs)),
        private=private,
        vendor=vendor.name if vendor is not None and not private else "",
        vendor_place=vendor.place if vendor is not None and not private else "",
        kind=each.guess.kind,
        owner=device.owner,
        place=device.place,
        socket=each.socket,
        places=_places(stays, past.until_moment),
        essential=device.essential,
        first_seen=first,
        last_seen=on_the_wall(min(last, past.until_moment), past.local) if last != NEVER else None,
        days_here=len(days),
        joined=joined > 0,
        comings=joined + counts.get((device.id, EventKind.RETURNED), 0),
        usually=_usually(here, span, first.date(), past),
        week=week,
        unusual=said_hours(week, week.unusual),
        missed=said_hours(week, week.missed),
    )


def _addresses(stays: Sequence[Stay], until: datetime) -> tuple[str, ...]:
    """Return where it was at the end of the period, else where it was last; IPv4 if there is any."""
    here = [stay for stay in stays if stay.present or stay.until >= until]
    latest = max((stay.until for stay in stays), default=until)
    chosen = {stay.address for stay in here or [stay for stay in stays if stay.until == latest]}
    short = {address for address in chosen if address.version == 4} or chosen
    return tuple(written(address) for address in sorted(short, key=lambda address: (address.version, int(address))))


def _places(stays: Sequence[Stay], until: datetime) -> tuple[str, ...]:
    """Return in which places it was at the end of the period, else where it was last."""
    here = {stay.place for stay in stays if stay.present or stay.until >= until}
    if not here and stays:
        here = {max(stays, key=lambda stay: stay.until).place}
    return tuple(sorted(here - {""}))


def place_lines(devices: Sequence[Described], past: Past, home: str) -> tuple[PlaceLine, ...]:
    """Return the places where devices were in the period, this machine's first; none if there is only one."""
    seen: dict[str, set[int]] = {}
    here: dict[str, set[int]] = {}
    new = {each.device.id for each in devices if each.device.standing is Standing.NEW}
    for device in (each.device.id for each in devices):
        for stay in past.stays.get(device, ()):
            if stay.present or stay.until >= past.since_moment:
                seen.setdefault(stay.place, set()).add(device)
            if stay.present or stay.until >= past.until_moment:
                here.setdefault(stay.place, set()).add(device)
    if len(seen) < 2:
        return ()
    ordered = sorted(seen, key=lambda place: (place != home, place))
    return tuple(
        PlaceLine(place, len(seen[place]), len(here.get(place, ())), len(seen[place] & new)) for place in ordered
    )


def _usually(here: int, span: HourSpan, known_since: date, past: Past) -> str:
    """Return the rule in words, from the last four weeks before today."""
    today = span.end.date()
    earliest = max(span.first, known_since, today - timedelta(days=_RULE_DAYS))
    sample = [
        day
        for number in range((today - earliest).days)
        if past.looked(day := earliest + timedelta(days=number))
    ]  # fmt: skip
    of_day = (1 << DAY_HOURS) - 1

    def offset(day: date) -> int:
        return (day - span.first).days * DAY_HOURS

    return rule_in_words(
        sample,
        lambda day: bool(here >> offset(day) & of_day),
        lambda day, hour: bool(here >> (offset(day) + hour) & 1),
    )
