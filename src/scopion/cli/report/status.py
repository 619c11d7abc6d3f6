"""``scopion status``: whether the site is looked after, on one screen, and what needs a person."""

from __future__ import annotations

from dataclasses import asdict
from datetime import date, datetime
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts.output import iso, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column
from scopion.cli.parts.terminal import echo, style
from scopion.model.errors import CheckNotMet
from scopion.model.text import counted
from scopion.reports.status_lines import SIGNS, State, StatusLine, status_lines

if TYPE_CHECKING:
    from scopion.reports.site_status import SiteStatus

KEYS = ("part", "state", "says", "do")
_COLOURS = {"fine": "green", "note": "", "trouble": "red bold"}
COLUMNS = (
    Column("", lambda row: SIGNS[State(row["state"])], lambda row: _COLOURS[row["state"]]),
    Column("", lambda row: row["part"], lambda row: "bold" if row["state"] == "trouble" else ""),
    Column("", lambda row: row["says"] + (f"\n→ {row['do']}" if row["do"] else ""), wraps=True),
)


@click.command()
@output_format
@pass_session
def status(session: Session, format_name: str | None) -> None:
    """Is all looked after? What needs you, on one screen.

    The watch, each subnet, alerts, wireless lists, what happens next, the roster, the disk. Reads the roster, and
    asks nothing of the network. Exit code 3 if something needs you.
    """
    from scopion.operations.report.gather_status import gather_status

    found = gather_status(session.site)
    lines = status_lines(found, session.site.clock.local)
    needs = [each for each in lines if each.state is State.TROUBLE]
    table = format_name in (None, "table")
    if table:
        echo(style(f"{found.site}, {session.site.clock.local(found.at):%A %Y-%m-%d, %H:%M}", bold=True))
    show([row_of(each, KEYS) for each in lines], KEYS, COLUMNS, format_name, document=_document(found, needs))
    session.note("")
    if needs:
        raise CheckNotMet(f"{counted(len(needs), 'thing')} {'needs' if len(needs) == 1 else 'need'} you")
    session.note("All is looked after: nothing needs you.")


def _document(found: SiteStatus, needs: list[StatusLine]) -> dict[str, Any]:
    """Return the whole as JSON has it."""
    return {**_plain(asdict(found)), "needs": [row_of(each, KEYS) for each in needs]}


def _plain(value: Any) -> Any:
    """Return what a status holds, as JSON takes it."""
    if isinstance(value, dict):
        return {name: _plain(each) for name, each in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(each) for each in value]
    if isinstance(value, datetime):
        return iso(value)
    return value.isoformat() if isinstance(value, date) else value
