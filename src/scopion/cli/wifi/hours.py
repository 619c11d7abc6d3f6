"""When devices may be on the air: the week drawn, the next change, and named timetables."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.output import output_format, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column
from scopion.cli.parts.terminal import echo, style
from scopion.model.clock import spoken_span
from scopion.model.week import Week

if TYPE_CHECKING:
    from scopion.operations.wifi.edit_hours import Hours

KEYS = ("ssid", "who", "admitted", "now", "next_change", "list", "until")
TIMETABLE_KEYS = ("name", "hours", "used_by")
TIMETABLE_COLUMNS = (
    Column("timetable", lambda row: row["name"], lambda _: "bold"),
    Column("hours", lambda row: row["hours"], shrinks=True),
    Column("used by", lambda row: str(row["used_by"]), right=True),
)
_DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_SLOT = 30  # minutes a character: 48 to a day fit the narrowest terminal


@click.command()
@click.argument("device", metavar="[DEVICE]", type=options.DeviceParam(), required=False)
@click.option("--ssid", metavar="SSID", type=options.NetworkParam(), help="On this network only.")
@output_format
@pass_session
def hours(session: Session, device: str | None, ssid: str | None, format_name: str | None) -> None:
    """The hours when DEVICE may be on the air, and the next change.

    With --ssid and without DEVICE: the hours of devices that are on no list.
    """
    from scopion.operations.wifi.edit_hours import hours_of, hours_of_others

    if device is None and ssid is None:
        raise click.UsageError("name a DEVICE, or give --ssid SSID for all devices that are on no list")
    if device is not None:
        found = hours_of(session.site, device, ssid)
    else:
        assert ssid is not None
        found = [hours_of_others(session.site, ssid)]
    if format_name is not None and format_name != "table":
        show([_row(each) for each in found], KEYS, (), format_name)
        return
    for number, each in enumerate(found):
        if number:
            echo()
        _draw(each)


@click.command()
@click.argument("name", metavar="[NAME]", required=False)
@click.argument("windows", metavar="[HOURS]", required=False)
@click.option("--remove", is_flag=True, help="Remove it; no entry may use it.")
@output_format
@pass_session
def timetable(session: Session, name: str | None, windows: str | None, remove: bool, format_name: str | None) -> None:
    """Named hours for many entries: list, make, change.

    HOURS are written as 'mon-fri 08:00-18:00, sat 10:00-14:00'; a window may cross midnight. Entries that use NAME
    follow each change.
    """
    from scopion.operations.wifi.edit_hours import all_timetables, remove_timetable, save_timetable

    if name is None:
        rows = [
            {"name": each.name, "hours": str(each.week), "used_by": each.used_by}
            for each in all_timetables(session.site)
        ]
        show(rows, TIMETABLE_KEYS, TIMETABLE_COLUMNS, format_name)
        if not rows:
            session.note("There is no timetable yet: scopion wifi timetable NAME HOURS makes one.")
        return
    if remove == (windows is not None):
        raise click.UsageError("give the hours of the timetable, or --remove")
    if remove:
        remove_timetable(session.site, name)
        session.note(f"There is no timetable {name!r} any more.")
        return
    assert windows is not None
    week = save_timetable(session.site, name, windows)
    session.note(f"Timetable {name!r}: {week}. To use it: --hours {name}, where devices are allowed or denied.")


def _row(each: Hours) -> dict[str, Any]:
    return {
        "ssid": each.network.ssid,
        "who": each.who,
        "admitted": str(each.admitted) or None,
        "now": each.now,
        "next_change": each.next_change.isoformat() if each.next_change else None,
        "list": str(each.entry.list) if each.entry else None,
        "until": each.entry.until.isoformat() if each.entry and each.entry.until else None,
    }


def _draw(each: Hours) -> None:
    """Draw the week: a line a day, a character for half an hour."""
    listed = f"on its {each.entry.list} list" if each.entry else "on no list"
    listed = "" if each.who.startswith("every device") else f", {listed}"
    echo(f"{style(each.who, bold=True)} on {each.network.ssid!r} (mode {each.network.mode}{listed})")
    echo(f"{'':12}0     3     6     9     12    15    18    21    24")
    for day, name in enumerate(_DAYS):
        today = day == each.at.weekday()
        line = "".join(_slot(each.admitted, day, at, each.at if today else None) for at in range(0, 24 * 60, _SLOT))
        echo(f"{'> ' if today else '  '}{name:10}{line}")
    echo(f"{'':12}{style('▄', fg='green')} admitted   · refused   ▼ now")
    echo(_sentence(each))


def _slot(week: Week, day: int, minute: int, now: datetime | None) -> str:
    if now is not None and minute <= now.hour * 60 + now.minute < minute + _SLOT:
        return style("▼", bold=True)
    at = day * 24 * 60 + minute
    covered = sum(max(0, min(end, at + _SLOT) - max(begin, at)) for begin, end in week.ranges)
    if covered == _SLOT:
        return style("▄", fg="green")
    return style("▂", fg="green") if covered else "·"


def _sentence(each: Hours) -> str:
    state = "admitted" if each.now else "refused"
    paused = ", its entry is paused" if each.entry and each.entry.paused else ""
    if each.next_change is None:
        return f"Now {state}{paused}, and nothing will change that by itself."
    left = each.next_change.astimezone() - each.at.astimezone()
    day = "" if left < timedelta(days=1) and each.next_change.date() == each.at.date() else f"{each.next_change:%A}, "
    then = "refused" if each.now else "admitted"
    return f"Now {state}{paused}; {then} from {day}{each.next_change:%H:%M} on, in {spoken_span(left)}."
