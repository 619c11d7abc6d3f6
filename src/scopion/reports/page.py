"""The report as one page of HTML that needs nothing else: no other file, no network, no script.

The script in it adds sorting and filtering where scripts run. The page forbids itself everything from outside (Content
Security Policy, W3C), so that no text in it can load or run anything.
"""

from __future__ import annotations

import base64
import hashlib
import math
from collections import Counter
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from markupsafe import Markup

from scopion import __version__
from scopion.model.text import counted, plain_value, spoken_size
from scopion.model.week import WEEKDAYS
from scopion.reports.address_use import Use
from scopion.reports.content import HAPPENINGS, LEAST_DAYS, DeviceLine, Part, PlaceLine, Report, SubnetLine, UsageLine
from scopion.reports.drawing import SHAPES, Bar, bars, squares, strip, usage_strip
from scopion.reports.sentences import said_day, said_period
from scopion.reports.status_lines import SIGNS
from scopion.reports.wires_drawing import SHAPES as SHAPES_OF_PORTS
from scopion.reports.wires_drawing import WORDS as PORT_WORDS
from scopion.reports.wires_drawing import switch_drawings

_DATA = Path(__file__).parent / "data"
# The shades of the busy hours, from the fewest to the most.
_SHADES = 8
TITLES = {
    Part.ATTENTION: "What needs attention",
    Part.DEVICES: "Devices",
    Part.COMINGS: "Comings and goings",
    Part.HOURS: "Usual hours and the last week",
    Part.BUSY_HOURS: "Busy hours",
    Part.NEW_DEVICES: "New devices",
    Part.VENDORS: "Vendors and kinds",
    Part.ADDRESSES: "Address use",
    Part.WIRES: "Wires",
    Part.USAGE: "Who uses the line",
    Part.WIRELESS: "Wireless lists",
    Part.AUDIT: "Audit",
}
# The legend of the parts of bars and squares, by the class that gives them their colour.
_STANDINGS = (("new", "new"), ("known", "known"), ("guest", "guest"), ("unwanted", "unwanted"))
_COMINGS = (("joined", "joined for the first time"), ("returned", "came back"), ("left", "left"))
_USES = {
    Use.NOW: "used now", Use.LATELY: "used lately", Use.CONTESTED: "contested", Use.RESERVED: "reserved",
    Use.POOL: "free in the DHCP pool", Use.FREE: "free",
}  # fmt: skip


def page(report: Report, made: datetime) -> str:
    """Return the whole page; ``made`` is the time of its making on the site's clock."""
    from jinja2 import Environment, FileSystemLoader, StrictUndefined

    settings: dict[str, Any] = {"trim_blocks": True, "lstrip_blocks": True}
    environment = Environment(
        loader=FileSystemLoader(_DATA), autoescape=True, undefined=StrictUndefined, finalize=plain_value, **settings
    )
    script = (_DATA / "report.js").read_text(encoding="utf-8").strip()
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    template = environment.get_template("report.html")
    rendered = template.render(
        report=report,
        happenings=report.happenings[: -HAPPENINGS - 1 : -1],
        left_out=report.happenings_left_out + max(0, len(report.happenings) - HAPPENINGS),
        period=said_period(report.since, report.until),
        made=made,
        version=__version__,
        titles={str(part): title for part, title in TITLES.items()},
        style=Markup((_DATA / "report.css").read_text(encoding="utf-8").strip()),
        script=Markup(script),
        digest=digest,
        week_days=[f"{day:%a} {day.day}" for day in report.devices[0].week.days] if report.devices else [],
        alike=_alike(report.devices),
        strips={each.number: _strip(each) for each in report.devices if each.week.days},
        new_bars=_new_bars(report),
        coming_bars=_coming_bars(report),
        busy_rows=_busy_rows(report),
        standings=_STANDINGS,
        comings=_COMINGS,
        subnets=[_subnet(each, report.devices) for each in report.subnets],
        most=max((group.devices for group in (*report.vendors, *report.kinds)), default=1),
        signs=SIGNS,
        moment=_moment,
        remarks=_remarks,
        wires=[(each, switch_drawings(each)) for each in report.switches],
        port_shapes=SHAPES_OF_PORTS,
        port_words=PORT_WORDS,
        usage_strips=[usage_strip(each.hours, _spoken_hours(each)) for each in report.usage],
        most_used=max((each.down + each.up for each in report.usage), default=1) or 1,
        spoken_size=spoken_size,
        counted=counted,
        breakable=_breakable,
        least_days=LEAST_DAYS,
        said_day=said_day,
    )
    return f"{rendered}\n"


def _moment(wall: datetime) -> str:
    """Return ``2026-09-30 14:30``, which sorts as it reads."""
    return f"{wall:%Y-%m-%d %H:%M}"


def _breakable(address: str) -> Markup:
    """Let a long IPv6 address continue in the next line after a colon: otherwise it would widen the table past the
    page.
    """
    return Markup(":<wbr>").join(address.split(":"))


def _spoken_hours(line: UsageLine) -> str:
    return f"{line.name}: up to {spoken_size(max(line.hours, default=0))} an hour in the last seven days"


def _remarks(line: DeviceLine, apart: Sequence[PlaceLine]) -> list[str]:
    """Return the small text below a device's name: which of the site's places it is in only if that has several."""
    role = line.role if line.role not in line.name else ""
    where = line.places if apart else ()
    said = ("essential" if line.essential else "", role, line.owner, *where, line.place, line.socket)
    return [", ".join(filter(None, said))] if any(said) else []


def _alike(devices: Sequence[DeviceLine]) -> set[int]:
    """Return devices that share a name with another one, so that their MAC address has to be shown."""
    counts = Counter(each.name for each in devices)
    return {each.number for each in devices if counts[each.name] > 1}


def _strip(line: DeviceLine) -> Markup:
    said = "; ".join(
        filter(
            None,
            (
                f"usually {line.usually}" if line.usually else "no usual hours known",
                f"unusual: {line.unusual}" if line.unusual else "",
                f"missing: {line.missed}" if line.missed else "",
            ),
        )
    )
    return strip(line.week, f"{line.name}: {said}")


def _new_bars(report: Report) -> Markup:
    drawn = [
        Bar(f"{each.monday.day} {each.monday:%b}", [(f"bar-{key}", each.by_standing[key]) for key, _ in _STANDINGS])
        for each in report.new
    ]
    label = "; ".join(f"week of {each.monday}: {each.total}" for each in report.new if each.total)
    return bars(drawn, "devices", f"New devices per week. {label or 'None'}")


def _coming_bars(report: Report) -> Markup:
    drawn = [
        Bar(
            f"{each.day.day} {each.day:%b}",
            [("bar-joined", each.joined), ("bar-returned", each.returned), ("bar-left", each.left)]
            if each.looked
            else [],
        )
        for each in report.days
    ]
    joined = sum(each.joined for each in report.days)
    returned = sum(each.returned for each in report.days)
    left = sum(each.left for each in report.days)
    said = f"Day by day: {joined} joined for the first time, {returned} came back, {left} left in all"
    return bars(drawn, "comings and goings", said)


def _busy_rows(report: Report) -> list[tuple[str, list[tuple[str, int]]]]:
    """Return by weekday its hours: the text of the cell, and how dark it is."""
    values = [value for hours in report.busy for value in hours if not math.isnan(value)]
    least, most = min(values, default=0), max(values, default=0)
    reach = max(most - least, 1)  # where all hours are equal no shade pretends otherwise
    return [
        (
            WEEKDAYS[weekday],
            [
                ("", -1) if math.isnan(value) else (f"{value:.0f}", round((value - least) / reach * _SHADES))
                for value in hours
            ],
        )
        for weekday, hours in enumerate(report.busy)
    ]


def _subnet(line: SubnetLine, devices: Sequence[DeviceLine]) -> dict[str, Any]:
    """Return what the page shows of a subnet."""
    names = {each.number: each.name for each in devices}
    use = line.use
    said = []
    size = use.per_cell
    for begin in range(0, len(use.addresses), size):
        users = [
            f"{place.address} {', '.join(names[number] for number in place.devices if number in names)}".strip()
            for place in use.addresses[begin : begin + size]
            if place.use in (Use.NOW, Use.CONTESTED, Use.LATELY)
        ]
        more = f" and {len(users) - 4} more" if len(users) > 4 else ""
        said.append(", ".join(users[:4]) + more)
    counts = [(f"use-{each}", SHAPES[each], use.counts.get(each, 0), words) for each, words in _USES.items()]
    spoken = ", ".join(f"{count} {words}" for _, _, count, words in counts if count)
    return {
        "range": str(use.subnet),
        "name": ", ".join(filter(None, (line.name, line.place))),
        "counts": [each for each in counts if each[2] or each[0] in ("use-used-now", "use-free")],
        "per_square": size,
        "pool_known": line.pool_known,
        "drawing": squares(use, said, f"Addresses of {use.subnet}: {spoken}"),
        "rows": [str(row[0].first) for row in use.rows()],
        "contested": [
            (str(place.address), [names.get(number, "a device") for number in place.devices])
            for place in use.addresses
            if place.use is Use.CONTESTED
        ],
    }
