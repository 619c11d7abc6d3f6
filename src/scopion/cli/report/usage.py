"""``scopion usage``: who uses the line now, and who did today and this week."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.options import SpanParam
from scopion.cli.parts.output import chosen_format, output_format, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, Row
from scopion.cli.parts.terminal import style
from scopion.model.errors import NotFound
from scopion.model.text import closed, spoken_size
from scopion.model.usage import spoken_rate

if TYPE_CHECKING:
    from scopion.operations.usage.list_usage import Usage, UsageRow

KEYS = (
    "name", "down_bps", "up_bps", "today_down", "today_up", "week_down", "week_up", "counted_by", "where", "sees",
    "macs", "together", "others", "device",
)  # fmt: skip
HISTORY_KEYS = ("step", "at", "down", "up")
_SHARE_SAID = 0.2  # of all that is used


@click.command()
@click.argument("device", metavar="[DEVICE]", type=options.DeviceParam(), required=False)
@click.option("--live", is_flag=True, help="Bars, drawn again each second, until Ctrl-C.")
@click.option("--now", "measure", is_flag=True, help="Measure for ten seconds, and show those rates.")
@click.option("--for", "for_s", type=SpanParam(), metavar="TIME", help="With --live or --now: for so long.")
@click.option("--set-up", metavar="NAME", help="Ask the router of this [[meter]] to count, in a table of its own.")
@click.option("--take-down", metavar="NAME", help="Remove that table.")
@output_format
@pass_session
def usage(
    session: Session,
    /,
    device: str | None,
    live: bool,
    measure: bool,
    for_s: float | None,
    set_up: str | None,
    take_down: str | None,
    format_name: str | None,
) -> None:
    """Who uses the line: now, today, this week.

    What passes each device, as access points, switches and routers count it; nothing stands in the way of the traffic.
    Each figure says who counted it. With DEVICE, its last hour, day and month. scopion watch reads the counters all the
    time; --live reads them each second.
    """
    if (set_up is not None) + (take_down is not None) + (device is not None) + live + measure > 1:
        raise click.UsageError("say one of DEVICE, --live, --now, --set-up and --take-down")
    if for_s is not None and not (live or measure):
        raise click.UsageError("--for belongs to --live or --now")
    if set_up is not None or take_down is not None:
        _change_meter(session, set_up, take_down)
    elif device is not None:
        from scopion.cli.report.usage_card import show_card

        show_card(session, device, format_name)
    elif live:
        from scopion.cli.report.usage_live import show_live

        show_live(session, for_s)
    else:
        _show_list(session, for_s or 10.0 if measure else None, format_name)


def _change_meter(session: Session, set_up: str | None, take_down: str | None) -> None:
    from scopion.operations.usage.read_meters import set_up_meter, take_down_meter

    if set_up is not None:
        meter = set_up_meter(session.site, set_up)
        where = f"{meter.ssh.host}" if meter.ssh is not None else "this machine"
        session.note(f"{meter.name} counts: {where} has the table netdev scopion_usage for {meter.interface} now.")
        session.note("It begins with 0, and is gone when that machine restarts: then set it up again.")
    elif take_down is not None:
        meter = take_down_meter(session.site, take_down)
        session.note(f"{meter.name} counts no more: its table is removed.")


def _show_list(session: Session, measure_s: float | None, format_name: str | None) -> None:
    from scopion.operations.usage.list_usage import list_usage, nothing_counted

    problems: dict[str, str] = {}
    rates = None
    if measure_s is not None:
        from scopion.operations.usage.measure_live import measured

        rates, problems = measured(session.site, measure_s)
    found = list_usage(session.site, live=rates)
    rows = [row_of_usage(each) for each in found.rows]
    show(rows, KEYS, COLUMNS, format_name)
    for source, problem in problems.items():
        session.note(f"{source}: not read, {closed(problem)}")
    if not found.rows:
        raise NotFound(nothing_counted(session.site))
    if chosen_format(format_name) == "table":
        session.note("")
        for line in summary(found):
            session.note(line)


def row_of_usage(each: UsageRow) -> dict[str, Any]:
    """Return a row under its JSON keys: rates in bits a second, sums in octets."""
    from scopion.operations.usage.list_usage import CANNOT_SEE

    return {
        "name": each.name,
        "down_bps": round(each.down_bps) if each.down_bps is not None else None,
        "up_bps": round(each.up_bps) if each.up_bps is not None else None,
        "today_down": each.today.down,
        "today_up": each.today.up,
        "week_down": each.week.down,
        "week_up": each.week.up,
        "counted_by": str(each.source),
        "where": each.where,
        "sees": CANNOT_SEE[each.source],
        "macs": list(map(str, each.macs)),
        "together": list(each.together),
        "others": each.others,
        "device": each.device.id if each.device is not None else None,
    }


def _sum(row: Row, period: str) -> str:
    total = row[f"{period}_down"] + row[f"{period}_up"]
    return spoken_size(total) if total else ""


COLUMNS = (
    Column(
        "name", lambda row: row["name"], lambda row: "bold" if row["down_bps"] or row["up_bps"] else "", shrinks=True
    ),
    Column("down now", lambda row: spoken_rate(row["down_bps"] or 0), lambda _: "cyan", right=True),
    Column("up now", lambda row: spoken_rate(row["up_bps"] or 0), lambda _: "yellow", right=True),
    Column("today", lambda row: _sum(row, "today"), right=True),
    Column("7 days", lambda row: _sum(row, "week"), right=True),
    Column("counted at", lambda row: row["where"], lambda _: "dim", shrinks=True),
)


def summary(found: Usage) -> list[str]:
    """Return who uses most, and what the figures can see."""
    from scopion.operations.usage.list_usage import CANNOT_SEE

    lines = []
    now = sum(each.now for each in found.rows)
    first = found.rows[0]
    if first.now >= 100_000 and first.now > now * _SHARE_SAID:
        down, up = spoken_rate(first.down_bps or 0), spoken_rate(first.up_bps or 0)
        said = " and ".join(filter(None, (f"{down} down" if down else "", f"{up} up" if up else "")))
        lines.append(f"{style(first.name, bold=True)} uses most just now: {said}.")
    today = sum(each.today.total for each in found.rows)
    most = max(found.rows, key=lambda each: each.today.total)
    if today and most.today.total > today * _SHARE_SAID:
        share = round(most.today.total * 100 / today)
        lines.append(f"Today: {spoken_size(today)} in all, {share} % of it by {most.name}.")
    sources = dict.fromkeys(each.source for each in found.rows)
    lines += [f"{_COUNTED[str(each)]}: {CANNOT_SEE[each]}." for each in sources]
    return lines


_COUNTED = {
    "station": "Counted by an access point", "accounting": "Reported by an access point", "list": "From pasted lists",
    "cable": "Counted at a port of its own", "port": "Counted at a port that several share",
    "flow": "Counted by a router",
}  # fmt: skip
