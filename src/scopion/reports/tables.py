"""A report's tables under stable keys: what the page shows, for spreadsheets and other programs."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from scopion.model.week import WEEKDAYS
from scopion.reports.content import Part, Report
from scopion.reports.count_hours import DAY_HOURS

Row = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Table:
    """One table, and how it is filled."""

    part: Part
    keys: Sequence[str]
    rows: Callable[[Report], Iterator[Row]]


def _attention(report: Report) -> Iterator[Row]:
    for each in report.attention:
        yield {"weight": str(each.weight), "says": each.says, "command": each.command or None}


def _devices(report: Report) -> Iterator[Row]:
    for each in report.devices:
        yield {
            "standing": each.standing,
            "name": each.name,
            "addresses": list(each.addresses),
            "macs": list(each.macs),
            "vendor": each.vendor or None,
            "vendor_place": each.vendor_place or None,
            "kind": each.kind or None,
            "owner": each.owner or None,
            "place": each.place or None,
            "essential": each.essential,
            "private": each.private,
            "present": each.present,
            "first_seen": _moment(each.first_seen),
            "last_seen": _moment(each.last_seen) if each.last_seen is not None else None,
            "days_here": each.days_here,
            "comings": each.comings,
            "usually": each.usually or None,
            "unusual_hours": each.unusual or None,
            "missed_hours": each.missed or None,
            "device": each.number,
        }


def _days(report: Report) -> Iterator[Row]:
    for each in report.days:
        yield {
            "day": each.day.isoformat(),
            "looked": each.looked,
            "present": each.present,
            "joined": each.joined,
            "returned": each.returned,
            "left": each.left,
        }


def _events(report: Report) -> Iterator[Row]:
    for each in report.happenings:
        yield {"at": _moment(each.at), "kind": each.kind, "device": each.device, "sentence": each.says}


def _hours(report: Report) -> Iterator[Row]:
    for each in report.devices:
        for number, (here, usual) in enumerate(zip(each.week.here, each.week.usual, strict=True)):
            yield {
                "device": each.number,
                "name": each.name,
                "day": each.week.days[number // DAY_HOURS].isoformat(),
                "hour": number % DAY_HOURS,
                "here": here,
                "usual_share": round(usual, 3) if usual is not None else None,
            }


def _busy(report: Report) -> Iterator[Row]:
    for weekday, hours in enumerate(report.busy):
        for hour, value in enumerate(hours):
            shown = None if math.isnan(value) else round(value, 2)
            yield {"weekday": WEEKDAYS[weekday], "hour": hour, "devices": shown}


def _new(report: Report) -> Iterator[Row]:
    for each in report.new:
        yield {"week": each.monday.isoformat(), **each.by_standing}


def _vendors(report: Report) -> Iterator[Row]:
    for each in report.vendors:
        yield {"vendor": each.name, "devices": each.devices, "present": each.present}


def _kinds(report: Report) -> Iterator[Row]:
    for each in report.kinds:
        yield {"kind": each.name, "devices": each.devices, "present": each.present}


def _addresses(report: Report) -> Iterator[Row]:
    names = {each.number: each.name for each in report.devices}
    for subnet in report.subnets:
        for place in subnet.use.addresses:
            yield {
                "subnet": str(subnet.use.subnet),
                "address": str(place.address),
                "use": str(place.use),
                "devices": [names[number] for number in place.devices if number in names],
                "reserved": place.reserved,
                "dhcp_pool": place.in_pool,
            }


def _wireless(report: Report) -> Iterator[Row]:
    for each in report.networks:
        yield {
            "ssid": each.ssid,
            "mode": each.mode,
            "allow_entries": each.allowed,
            "deny_entries": each.denied,
            "enforcers": list(each.enforcers),
            "pushed_at": _moment(each.pushed_at) if each.pushed_at else None,
            "pushed": each.pushed or None,
            "pending": each.pending,
            "verified_at": _moment(each.verified_at) if each.verified_at else None,
            "verified": each.verified or None,
            "works": each.works,
        }


def _audit(report: Report) -> Iterator[Row]:
    for each in report.audit:
        yield {
            "ssid": each.ssid,
            "grade": each.grade,
            "where": each.where,
            "about": each.about,
            "says": each.says,
            "do": each.do or None,
        }


def _moment(wall: datetime) -> str:
    """Return a moment on the site's clock, to the minute."""
    return wall.isoformat(timespec="minutes")


TABLES: Mapping[str, Table] = {
    "attention": Table(Part.ATTENTION, ("weight", "says", "command"), _attention),
    "devices": Table(
        Part.DEVICES,
        (
            "standing", "name", "addresses", "macs", "vendor", "vendor_place", "kind", "owner", "place", "essential",
            "private", "present", "first_seen", "last_seen", "days_here", "comings", "usually", "unusual_hours",
            "missed_hours", "device",
        ),
        _devices,
    ),
    "days": Table(Part.COMINGS, ("day", "looked", "present", "joined", "returned", "left"), _days),
    "events": Table(Part.COMINGS, ("at", "kind", "device", "sentence"), _events),
    "hours": Table(Part.HOURS, ("device", "name", "day", "hour", "here", "usual_share"), _hours),
    "busy-hours": Table(Part.BUSY_HOURS, ("weekday", "hour", "devices"), _busy),
    "new-devices": Table(Part.NEW_DEVICES, ("week", "new", "known", "guest", "unwanted"), _new),
    "vendors": Table(Part.VENDORS, ("vendor", "devices", "present"), _vendors),
    "kinds": Table(Part.VENDORS, ("kind", "devices", "present"), _kinds),
    "addresses": Table(
        Part.ADDRESSES, ("subnet", "address", "use", "devices", "reserved", "dhcp_pool"), _addresses
    ),
    "wireless": Table(
        Part.WIRELESS,
        (
            "ssid", "mode", "allow_entries", "deny_entries", "enforcers", "pushed_at", "pushed", "pending",
            "verified_at", "verified", "works",
        ),
        _wireless,
    ),
    "audit": Table(Part.AUDIT, ("ssid", "grade", "where", "about", "says", "do"), _audit),
}  # fmt: skip
