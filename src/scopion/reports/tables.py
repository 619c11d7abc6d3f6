"""A report's tables under stable keys: what the page shows, for spreadsheets and other programs."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from scopion.model.rows import row_of
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


def _lines(part: Part, name: str, keys: Sequence[str], **called: str) -> Table:
    """Return a table of a list of the report, whose keys are attributes of its lines; ``called`` has those that the
    lines call otherwise.
    """

    def rows(report: Report) -> Iterator[Row]:
        for each in getattr(report, name):
            yield row_of(each, keys, _moment, **{key: getattr(each, other) for key, other in called.items()})

    return Table(part, keys, rows)


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


def _addresses(report: Report) -> Iterator[Row]:
    names = {each.number: each.name for each in report.devices}
    for subnet in report.subnets:
        for place in subnet.use.addresses:
            said = [names[number] for number in place.devices if number in names]
            yield {
                "subnet": str(subnet.use.subnet),
                "place": subnet.place,
                **row_of(place, ("address", "use", "reserved"), _moment),
                "devices": said,
                "dhcp_pool": place.in_pool,
            }


_PORT_KEYS = (
    "switch", "port", "number", "socket", "up", "speed_mbit", "leads_to", "devices", "stations", "unknown", "errors",
)  # fmt: skip


def _ports(report: Report) -> Iterator[Row]:
    for switch in report.switches:
        for port in switch.ports:
            yield row_of(port, _PORT_KEYS, _moment, port=port.name)


def _moment(wall: datetime) -> str:
    """Return a moment on the site's clock, to the minute."""
    return wall.isoformat(timespec="minutes")


TABLES: Mapping[str, Table] = {
    "attention": _lines(Part.ATTENTION, "attention", ("weight", "says", "command")),
    "devices": _lines(
        Part.DEVICES,
        "devices",
        (
            "standing", "name", "addresses", "macs", "vendor", "vendor_place", "kind", "owner", "place", "socket",
            "places", "essential", "private", "present", "first_seen", "last_seen", "days_here", "comings", "usually",
            "unusual_hours", "missed_hours", "device",
        ),
        unusual_hours="unusual", missed_hours="missed", device="number",
    ),
    "days": _lines(Part.COMINGS, "days", ("day", "looked", "present", "joined", "returned", "left")),
    "events": _lines(Part.COMINGS, "happenings", ("at", "kind", "device", "sentence"), sentence="says"),
    "hours": Table(Part.HOURS, ("device", "name", "day", "hour", "here", "usual_share"), _hours),
    "busy-hours": Table(Part.BUSY_HOURS, ("weekday", "hour", "devices"), _busy),
    "new-devices": Table(Part.NEW_DEVICES, ("week", "new", "known", "guest", "unwanted"), _new),
    "vendors": _lines(Part.VENDORS, "vendors", ("vendor", "devices", "present"), vendor="name"),
    "kinds": _lines(Part.VENDORS, "kinds", ("kind", "devices", "present"), kind="name"),
    "places": _lines(Part.DEVICES, "places", ("place", "devices", "present", "new"), place="name"),
    "addresses": Table(
        Part.ADDRESSES, ("subnet", "place", "address", "use", "devices", "reserved", "dhcp_pool"), _addresses
    ),
    "wires": Table(Part.WIRES, _PORT_KEYS, _ports),
    "usage": _lines(Part.USAGE, "usage", ("name", "down", "up", "counted_by", "where", "device")),
    "wireless": _lines(
        Part.WIRELESS,
        "networks",
        (
            "ssid", "mode", "allow_entries", "deny_entries", "enforcers", "pushed_at", "pushed", "pending", "due_since",
            "verified_at", "verified", "works",
        ),
        allow_entries="allowed", deny_entries="denied",
    ),
    "audit": _lines(Part.AUDIT, "audit", ("ssid", "grade", "where", "about", "says", "do")),
}  # fmt: skip
