"""``scopion wifi verify``: whether a list is in force and works."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.output import output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column
from scopion.model.errors import CheckNotMet
from scopion.model.text import counted

if TYPE_CHECKING:
    from scopion.wireless.verdict import Verdict

CHECK_KEYS = ("where", "what", "met", "says")
CHECK_COLUMNS = (
    Column("", lambda row: {True: "✓", False: "✗", None: "?"}[row["met"]],
           lambda row: {True: "green", False: "red bold", None: "yellow"}[row["met"]]),
    Column("where", lambda row: row["where"]),
    Column("looked at", lambda row: row["what"]),
    Column("found", lambda row: row["says"], wraps=True),
)  # fmt: skip


@click.command()
@options.ssid
@click.option(
    "--clients",
    metavar="FILE",
    type=click.File("r", errors="replace"),
    help="A client list copied from the router's page; - is standard input.",
)
@click.option("--no-scan", is_flag=True, help="Only read the lists of the enforcers and the associated stations.")
@output_format
@pass_session
def verify(session: Session, ssid: str, clients: Any, no_scan: bool, format_name: str | None) -> None:
    """Check that the list is in force and works; exit code 3 if not.

    Reads the lists and the associated stations, and scans. A refused device that is still here is explained.
    """
    verify_now(session, ssid, clients.read() if clients is not None else None, format_name, scan=not no_scan)


def verify_now(
    session: Session, ssid: str, clients: str | None, format_name: str | None, *, scan: bool, attempts: bool = True
) -> None:
    """Verify, and show the result. Raises CheckNotMet if the list does not do what it should."""
    from scopion.operations.wifi.verify_network import verify as look

    verdict = look(session.site, ssid, clients=clients, scan=scan, attempts=attempts)
    show_verdict(session, verdict, format_name)
    if not verdict.met:
        raise CheckNotMet(unmet(verdict))


def show_verdict(session: Session, verdict: Verdict, format_name: str | None) -> None:
    """Print the checks, and what else is worth knowing."""
    rows = [row_of(each, CHECK_KEYS) for each in verdict.checks]
    document = {"ssid": verdict.network.ssid, "met": verdict.met, "checks": rows, "notes": verdict.notes}
    show(rows, CHECK_KEYS, CHECK_COLUMNS, format_name, document=document)
    session.note("")
    for each in verdict.notes:
        session.note(f"{each}.")
    if verdict.met:
        unread = sum(check.met is None for check in verdict.checks)
        also = f" {counted(unread, 'thing')} could not be read." if unread else ""
        session.note(f"The list of {verdict.network.ssid!r} is in force, and no device that it refuses is here.{also}")


def unmet(verdict: Verdict) -> str:
    """Return in a line that a list does not do what it should, or that it could not be seen."""
    failed = sum(check.met is False for check in verdict.checks)
    if not failed:
        return f"whether the list of {verdict.network.ssid!r} is in force could not be seen"
    return f"the list of {verdict.network.ssid!r} does not do what it should: {counted(failed, 'check')} not met"
