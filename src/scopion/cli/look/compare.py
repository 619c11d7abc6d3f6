"""``scopion compare``: a router's list, the last scan and the roster, held against each other."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts.output import iso, output_format, row_of, show, spoken_ago
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, Row
from scopion.model.errors import CheckNotMet
from scopion.model.text import capitalised, closed, counted, joined

if TYPE_CHECKING:
    from scopion.operations.exchange.compare_sources import ComparedDevice, SourceComparison

KEYS = ("name", "mac", "address", "router", "scan", "roster", "finding", "needs_a_person", "why", "step")
_MARKS = {"here": "✓", "away": "away", "missing": "–"}
COLUMNS = (
    Column("name", lambda row: row["name"], lambda row: "red bold" if row["needs_a_person"] else "bold", shrinks=True),
    Column("MAC", lambda row: row["mac"], optional=2),
    Column("address", lambda row: row["address"] or "", optional=1),
    Column("router", lambda row: _MARKS[row["router"]], lambda row: _style(row["router"])),
    Column("scan", lambda row: _MARKS[row["scan"]], lambda row: _style(row["scan"])),
    Column("roster", lambda row: row["roster"] or "–", lambda row: "" if row["roster"] else "yellow"),
    Column("why, and what to do", lambda row: _explained(row), wraps=True),
)


@click.command()
@click.argument("file", metavar="[FILE|-]", required=False)
@click.option("--all", "everything", is_flag=True, help="Devices on which the sources agree, too.")
@output_format
@pass_session
def compare(session: Session, file: str | None, everything: bool, format_name: str | None) -> None:
    """A router's list, the last scan and the roster together.

    Says which device is in which, why they differ, and the next step. FILE is a client list copied from the router's
    page, or a lease file; - reads what is pasted, up to Ctrl-D.
    Without it: the leases of site.toml and the stations of the access points. Nothing is changed. Exit code 3 if a
    device needs a person: one that is refused and here, that only the router knows, or whose name has two addresses.
    """
    from scopion.operations.exchange.compare_sources import compare_sources
    from scopion.operations.exchange.read_input import STANDARD_INPUT, read_input

    if file == STANDARD_INPUT and session.can_ask:
        session.note("Paste the list, then press Ctrl-D on a line of its own.")
    found = compare_sources(session.site, read_input(file) if file is not None else None)
    shown = [each for each in found.devices if everything or each.finding is not None]
    rows = [_row(each) for each in shown]
    show(rows, KEYS, COLUMNS, format_name, document=_document(found, rows))
    _tell(session, found, shown)
    needing = sum(each.needs_a_person for each in found.devices)
    if needing:
        raise CheckNotMet(f"{counted(needing, 'device')} {'needs' if needing == 1 else 'need'} a person")


def _row(each: ComparedDevice) -> dict[str, Any]:
    return row_of(each, KEYS)


def _document(found: SourceComparison, rows: list[dict[str, Any]]) -> dict[str, Any]:
    return {
        "router": list(found.router),
        "scanned": iso(found.scanned) if found.scanned is not None else None,
        "unread": list(found.unread),
        "devices": rows,
    }


def _tell(session: Session, found: SourceComparison, shown: list[ComparedDevice]) -> None:
    if shown:
        session.note("")
    for each in found.unread:
        session.note(f"Not read: {closed(each)}")
    when = "not all subnets were scanned as a whole"
    if found.scanned is not None:
        when = f"the last whole scan was {spoken_ago(found.scanned, session.site.clock.now())}"
    session.note(f"The router's list is {joined(list(found.router))}; {when}.")
    total = len(found.devices)
    agree = sum(each.finding is None for each in found.devices)
    session.note(f"Of {counted(total, 'device')} the sources agree on {agree or 'none'}.")


def _explained(row: Row) -> str:
    if not row["why"]:
        return ""
    return f"{closed(capitalised(row['why']))} {row['step']}"


def _style(presence: str) -> str:
    return "" if presence == "here" else "dim"
