"""Decides which devices are missed: those that must be here and are silent, grouped by what they have in common. Pure.

One cause is told once: an access point that has lost its power, not each of the tills that were on it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from ipaddress import IPv4Network
from typing import Annotated

from annotated_types import Ge, Le, MaxLen

from scopion.alerts.alert_settings import Hours
from scopion.alerts.rules import is_named, names_of
from scopion.model.alert import Severity
from scopion.model.device import Device
from scopion.model.settings_table import settings_table
from scopion.model.text import counted, joined
from scopion.model.week import Local, Week

# Devices that lose their power together are missed by different sweeps: their silence begins within this time.
_TOGETHER = timedelta(seconds=90)


@settings_table
class ExpectSettings:
    """Devices that are missed when they fall silent. The first entry that fits a device counts."""

    devices: Annotated[tuple[str, ...], MaxLen(64)] = ()  # labels or MACs; empty: all that are labelled --essential
    # silent for this long is missing; None: as long as it takes in [absence]
    patience_s: Annotated[float, Ge(1), Le(90 * 86_400)] | None = None
    severity: Severity = Severity.HIGH
    hours: Hours = ""  # when it must be here, on the site's clock, as "mon-fri 08:00-18:00"; empty: always


@dataclass(frozen=True, slots=True)
class Expected:
    """A device that must be here, and what is known of its silence."""

    device: Device
    silent_since: datetime
    patience: timedelta
    planned: str = ""  # why it may be away now: "until 18:00"
    access_point: str = ""  # the enforcer's name where it was associated last
    told: datetime | None = None  # when it was told that it is missing
    subnet: IPv4Network | None = None

    @property
    def is_missing(self) -> bool:
        """Tell whether it is away, was told or not."""
        return not self.device.present


@dataclass(frozen=True, slots=True)
class AccessPoint:
    """An access point whose own device is known. It may hold several lists: for each network there is an enforcer."""

    names: frozenset[str]  # of its enforcers
    device: Device
    silent_since: datetime
    stations: int  # how many devices were associated with it when it was heard last

    @property
    def called(self) -> str:
        """Return it in words."""
        return f"the access point {self.device.label or min(self.names)}"

    @property
    def here_since(self) -> datetime | None:
        """Return since when it is here, at whatever address; None if it is not."""
        return min((stay.since for stay in self.device.stays if stay.present), default=None)


@dataclass(frozen=True, slots=True)
class Group:
    """Devices that are missed together."""

    missing: tuple[Expected, ...]
    common: str = ""  # what they have in common, as people call it; empty: nothing, or there is one
    why: str = ""  # a clause that follows "is missing,": what else is


def expectation(device: Device, entries: Sequence[ExpectSettings]) -> ExpectSettings | None:
    """Return what is expected of a device; None if nothing is."""
    if device.own:
        return None
    names = names_of(device)
    for entry in entries:
        if is_named(names, entry.devices) if entry.devices else device.essential:
            return entry
    return ExpectSettings() if device.essential else None


def away_as_planned(expected: ExpectSettings, patience: timedelta, now: datetime, local: Local) -> bool:
    """Tell whether a device need not be here now; after the beginning of its hours it gets its patience once more."""
    if not expected.hours:
        return False
    week = Week.parse(expected.hours)
    return not (week.holds(local(now)) and week.holds(local(now - patience)))


def missed(
    expected: Sequence[Expected], points: Sequence[AccessPoint], now: datetime, others: Sequence[datetime] = ()
) -> list[Group]:
    """Return what is to be told as missing now, grouped.

    An expected access point that is silent stands for the devices on it: they are listed with it, and missed by
    themselves only if they do not come back after it. ``others`` are the moments since when any other device that is
    away was not heard: where no access point tells what was on it, they say how much fell silent at the same time.
    """
    due = [each for each in expected if _is_due(each, _point_of(each, points), now)]
    heads = {each.device.id: each for each in expected}
    found, taken = list[Group](), set[int]()
    for point in points:
        on_it = [each for each in due if each.access_point in point.names and each.device.id != point.device.id]
        head = heads.get(point.device.id)
        if not _is_silent(point, head, on_it, due, now):
            continue
        if head is not None and not head.planned:
            taken |= {point.device.id, *(each.device.id for each in on_it)}
            if head.told is None:
                why = _with_stations(point, on_it) or _at_the_same_time([head], others)
                found.append(Group((head,), point.called, why))
        elif on_it:
            taken |= {each.device.id for each in on_it}
            stations = f", with {counted(point.stations, 'device')} on it" if point.stations else ""
            found.append(Group(tuple(on_it), point.called, f"as is {point.called}{stations}"))
    left = [each for each in due if each.device.id not in taken]
    return [*found, *_by_what_they_share(left, others)]


def _point_of(each: Expected, points: Iterable[AccessPoint]) -> AccessPoint | None:
    return next((point for point in points if each.access_point in point.names), None)


def _is_due(each: Expected, point: AccessPoint | None, now: datetime) -> bool:
    """Tell whether a device is missed; what was on an access point gets its patience once that is back."""
    came_back = point.here_since if point is not None else None
    if came_back is not None and now - came_back < each.patience:
        return False
    # A scan by hand calls a device gone at once: here it gets its patience all the same.
    return each.is_missing and each.told is None and not each.planned and now - each.silent_since >= each.patience


def _is_silent(
    point: AccessPoint, head: Expected | None, on_it: Sequence[Expected], due: Sequence[Expected], now: datetime
) -> bool:
    """Tell whether an access point is missed itself, or is as silent as a device on it that is missed now."""
    told = head is not None and head.told is not None
    if head is not None and any(each is head for each in due):
        return True
    if not point.device.present:
        return told or bool(on_it)
    if told or not on_it:
        return False  # it answers again
    latest = max(each.silent_since for each in on_it)
    return now - point.silent_since >= _TOGETHER and point.silent_since <= latest + _TOGETHER


def _by_what_they_share(left: Sequence[Expected], others: Sequence[datetime]) -> Iterator[Group]:
    """Yield groups: of one access point that answers, of one place, or of one moment; else each alone."""
    by_point: dict[str, list[Expected]] = {}
    for each in left:
        by_point.setdefault(each.access_point, []).append(each)
    for name, those in by_point.items():
        if name and len(those) > 1:
            yield Group(tuple(those), f"the access point {name}")
    alone = [each for name, those in by_point.items() for each in those if not name or len(those) == 1]
    for those in _of_one_moment(alone):
        places = {each.device.place for each in those}
        place = places.pop() if len(places) == 1 else ""
        common = (place or "the moment that they fell silent") if len(those) > 1 else ""
        yield Group(tuple(those), common, _at_the_same_time(those, others))


def _of_one_moment(those: Iterable[Expected]) -> Iterator[list[Expected]]:
    """Yield runs of devices that fell silent within a short time of each other."""
    run = list[Expected]()
    for each in sorted(those, key=lambda each: each.silent_since):
        if run and each.silent_since - run[-1].silent_since > _TOGETHER:
            yield run
            run = []
        run.append(each)
    if run:
        yield run


def _with_stations(point: AccessPoint, on_it: Sequence[Expected]) -> str:
    """Return ``with the 14 devices on it, front till among them``; empty if it is not known what was on it."""
    if not point.stations:
        return ""
    named = joined([each.device.called for each in on_it[:3]])
    among = f", {named} among them" if named else ""
    return f"with the {counted(point.stations, 'device')} on it{among}"


def _at_the_same_time(those: Sequence[Expected], others: Sequence[datetime]) -> str:
    """Return ``as are 14 other devices that fell silent at the same time``; empty if none did."""
    first = min(each.silent_since for each in those)
    count = sum(abs(each - first) <= _TOGETHER for each in others)
    verb = "is" if count == 1 else "are"
    return f"as {verb} {counted(count, 'other device')} that fell silent at the same time" if count else ""


def back(expected: Sequence[Expected]) -> list[Expected]:
    """Return devices that were told as missing, and were heard since."""
    return [
        each for each in expected if each.told is not None and each.device.present and each.silent_since > each.told
    ]
