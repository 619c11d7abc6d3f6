"""The wires and the use of the line, for a report."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from scopion.model.errors import NotFound
from scopion.operations.site.open_site import Site
from scopion.operations.usage.device_usage import steps_of_row
from scopion.operations.usage.list_usage import list_usage
from scopion.operations.wires.map_wires import MappedSwitch, map_wires
from scopion.reports.content import UsageLine, WirePort, WireSwitch
from scopion.roster.usage.history import DAY, HOUR, begin_of, first_used

_HOURS = 7 * 24
_MOST = 15  # devices whose use is told


def wire_lines(site: Site) -> tuple[WireSwitch, ...]:
    """Return the switches with their ports, those below a switch after it; none if no switch was read."""
    try:
        trees = map_wires(site)
    except NotFound:
        return ()
    return tuple(line for tree in trees for line in _lines(tree, ""))


def _lines(tree: MappedSwitch, above: str) -> Iterator[WireSwitch]:
    ports = tuple(
        WirePort(
            switch=each.port.port.switch,
            name=each.port.port.name,
            number=each.port.number,
            socket=each.port.socket,
            up=each.port.up,
            speed_mbit=each.port.speed_mbit,
            leads_to=each.port.leads_to,
            radio=each.port.radio,
            devices=tuple(hanger.called for hanger in each.hangers if not hanger.on_air),
            stations=tuple(hanger.called for hanger in each.hangers if hanger.on_air),
            unknown=each.unknown,
            errors=each.errors,
        )
        for each in tree.ports
    )
    yield WireSwitch(tree.switch.name, above, ports, tree.switch.problem)
    for each in tree.ports:
        if each.leads is not None:
            yield from _lines(each.leads, each.port.at_length)


def usage_lines(site: Site, since: datetime) -> tuple[tuple[UsageLine, ...], datetime | None]:
    """Return who has used most since a moment, and when the counts begin that this is about."""
    now, local = site.clock.now(), site.clock.local
    roster = site.roster_for_reading()
    begins = first_used(roster)
    if begins is None:
        return (), None
    day = begin_of(DAY, since, local)
    step = HOUR if now - day <= timedelta(days=31) else DAY
    rows = sorted(list_usage(site, since=day, step=step).rows, key=lambda row: row.week.total, reverse=True)
    hour = begin_of(HOUR, now, local)
    found = []
    for row in rows[:_MOST]:
        if not row.week.total:
            continue
        sums = {each.at: each.up + each.down for each in steps_of_row(site, row, HOUR, timedelta(hours=_HOURS))}
        hours = tuple(sums.get(hour - timedelta(hours=back), 0) for back in range(_HOURS - 1, -1, -1))
        number = row.device.id if row.device is not None else None
        found.append(UsageLine(row.name, number, row.where, str(row.source), row.week.down, row.week.up, hours))
    return tuple(found), max(day, begins)
