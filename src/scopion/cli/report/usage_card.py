"""What one device has used, in a terminal: sums, and strips of the last hour, two days and month."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

from scopion.cli.parts import card_frame as blocks
from scopion.cli.parts.output import chosen_format, iso, show
from scopion.cli.parts.session import Session
from scopion.cli.parts.terminal import echo, style
from scopion.cli.report.usage import HISTORY_KEYS, row_of_usage
from scopion.model.errors import NotFound
from scopion.model.text import spoken_size
from scopion.model.usage import spoken_rate
from scopion.roster.usage.history import DAY, HOUR, MINUTE, begin_of

if TYPE_CHECKING:
    from scopion.operations.usage.device_usage import UsageHistory
    from scopion.roster.usage.history import Step

_LEVELS = " ▁▂▃▄▅▆▇█"
_HOURS_SHOWN, _DAYS_SHOWN = 48, 30


def show_card(session: Session, which: str, format_name: str | None) -> None:
    """Print what one device has used."""
    from scopion.operations.usage.device_usage import usage_of

    found = usage_of(session.site, which)
    if found.row is None:
        raise NotFound(
            f"nothing was counted for {found.device.called}: scopion usage shows what is counted, and who counts it"
        )
    name = chosen_format(format_name)
    if format_name is None and name == "tsv":
        name = "table"  # people read a card in a pipe, too
    if name != "table":
        steps = (("minute", found.hour), ("hour", found.month), ("day", found.years))
        rows = [_step_row(step, each) for step, those in steps for each in those]
        show(rows, HISTORY_KEYS, [], name, document={**row_of_usage(found.row), "history": rows})
        return
    for line in _lines(session, found):
        echo(line)


def _step_row(step: str, each: Step) -> dict[str, Any]:
    return {"step": step, "at": iso(each.at), "down": each.down, "up": each.up}


def _lines(session: Session, found: UsageHistory) -> list[str]:
    from scopion.operations.usage.list_usage import CANNOT_SEE

    row, clock = found.row, session.site.clock
    assert row is not None
    now = clock.now()
    lines = [blocks.heading(found.device)]
    down, up = spoken_rate(row.down_bps or 0), spoken_rate(row.up_bps or 0)
    said = ", ".join(filter(None, (f"{down} down" if down else "", f"{up} up" if up else ""))) or "next to nothing"
    sums = [
        ("now", said if row.up_bps is not None else "not known: no counter was read in the last minutes"),
        ("today", f"{spoken_size(row.today.down)} down, {spoken_size(row.today.up)} up"),
        ("7 days", f"{spoken_size(row.week.down)} down, {spoken_size(row.week.up)} up"),
        ("counted", f"at {row.where}: {CANNOT_SEE[row.source]}"),
    ]
    lines += [line for title, text in sums for line in blocks.block(title, [text])]
    hour = begin_of(HOUR, now, clock.local)
    day = begin_of(DAY, now, clock.local)
    minute = begin_of(MINUTE, now, clock.local)
    minutes = [minute - timedelta(minutes=each) for each in range(59, -1, -1)]
    hours = [hour - timedelta(hours=each) for each in range(_HOURS_SHOWN - 1, -1, -1)]
    for title, steps, begins, ends, unit in (
        ("last hour", found.hour, minutes, "now", "a minute"),
        ("2 days", found.month, hours, "now", "an hour"),
        ("30 days", found.years, _days_before(day, session), "today", "a day"),
    ):
        if any(each.at >= begins[0] for each in steps):
            lines += blocks.block(title, _strip(steps, begins, ends, unit))
    return lines


def _days_before(day: datetime, session: Session) -> list[datetime]:
    """Return when each of the last days began on the site's clock."""
    found = [day]
    while len(found) < _DAYS_SHOWN:
        found.append(begin_of(DAY, found[-1] - timedelta(hours=12), session.site.clock.local))
    return found[::-1]


def _strip(steps: Sequence[Step], begins: Sequence[datetime], ends: str, unit: str) -> list[str]:
    """Return steps as a strip of bars, with what the highest means."""
    sums = {each.at: each.down + each.up for each in steps}
    values = [sums.get(begin, 0) for begin in begins]
    most = max(values)
    cells = "".join(_LEVELS[-(-8 * value // most)] if value else "·" for value in values)
    marks = f"{'':{len(values) - len(ends)}}{ends}"
    return [f"{cells}  {style('█', dim=True)} {spoken_size(most)} {unit}", style(marks, dim=True)]
