"""``scopion scan``."""

from __future__ import annotations

from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.device_rows import HOST_KEYS, host_columns, host_row
from scopion.cli.options import Ports, Span
from scopion.cli.output import output_format, show
from scopion.cli.session import Session, pass_session
from scopion.model.device import EventKind
from scopion.model.targets import MAX_WITHOUT_A_YES

if TYPE_CHECKING:
    from scopion.cli.live_view import LiveView
    from scopion.operations.prepare import PreparedScan, ScanRequest
    from scopion.operations.scan_result import ScanResult


@click.command()
@click.argument("targets", metavar="[TARGET]...", nargs=-1)
@click.option("--exclude", metavar="TARGET", multiple=True, help="Leave these out. May be repeated.")
@click.option("--interface", metavar="NAME", help="Scan from this one [see scopion here].")
@click.option(
    "--method",
    type=click.Choice(["auto", "arp", "touch", "echo", "listen"]),
    help="arp: raw frames. touch: without privilege, by harmless datagrams. echo: ICMP, also beyond a router. "
    "listen: hear, send nothing. [auto: arp where it is permitted, echo beyond a router]",
)
@click.option("--for", "listen_s", type=Span(), metavar="TIME", help="How long to listen, as 90s or 5m [60s].")
@click.option(
    "--pace", type=float, metavar="N", help="Requests a second [2000 on cable, 90 on the air, 500 if not known]."
)
@click.option(
    "--rounds", type=click.IntRange(1, 100), metavar="N", help="At most so many rounds [as the answers need]."
)
@click.option("--no-names", is_flag=True, help="Do not ask for names.")
@click.option(
    "--ports", type=Ports(), default=(), metavar="N,N", help="Try these TCP ports of those who are found [none]."
)
@click.option("--remember", is_flag=True, help="Make this network one of the site's, even if it is another one.")
@click.option("--yes", is_flag=True, help=f"Do not ask before scanning more than {MAX_WITHOUT_A_YES:,} addresses.")
@click.option(
    "--fail-on",
    type=click.Choice([str(kind) for kind in EventKind]),
    multiple=True,
    help="End with exit code 3 if this happened, for cron. May be repeated.",
)
@output_format
@pass_session
def scan(session: Session, /, fail_on: tuple[str, ...], yes: bool, format_name: str | None, **options: Any) -> None:
    """Who is here: ask, name, remember, tell what is new.

    A TARGET is 192.0.2.0/24, 192.0.2.7, 192.0.2.10-192.0.2.20, 192.0.2.10-20, or a comma list of them; without one
    the attached subnet is scanned. Ctrl-C ends a scan early and keeps what was found.
    """
    from scopion.operations.prepare import ScanRequest

    _end(scan_and_show(session, ScanRequest(**options), format_name, yes=yes), fail_on)


def scan_and_show(
    session: Session, request: ScanRequest, format_name: str | None = None, *, yes: bool = False
) -> ScanResult:
    """Scan, show the hosts as they answer, then the rows and what is new."""
    from scopion.cli.scan_report import document, tell_result
    from scopion.operations.prepare import prepare_scan
    from scopion.operations.scan import run_prepared

    prepared = prepare_scan(session.site, request)
    _agree(session, prepared, yes)
    session.detail(f"From {prepared.choice.interface.name}, because {prepared.choice.reason}.")
    session.detail(f"By {prepared.method}, because {prepared.method_reason}.")
    with _view(session, prepared) as view:
        result = run_prepared(session.site, prepared, view.on_host, view.on_progress)
    rows = [host_row(host) for host in result.hosts]
    show(rows, HOST_KEYS, host_columns(), format_name, document=document(result, rows))
    tell_result(session, result)
    return result


def _agree(session: Session, prepared: PreparedScan, yes: bool) -> None:
    count = len(prepared.addresses or ())
    if prepared.method == "listen" or count <= MAX_WITHOUT_A_YES or yes:
        return
    seconds = count / prepared.pace
    question = f"{count:,} addresses take {seconds / 60:,.0f} minutes a round, three rounds at least"
    if not session.can_ask:
        raise click.UsageError(f"{question}: add --yes if you mean it, or give a smaller range")
    click.confirm(f"{question}. Scan them?", abort=True, err=True)


def _view(session: Session, prepared: PreparedScan) -> AbstractContextManager[LiveView]:
    import sys

    from scopion.cli.live_view import LiveView

    return LiveView(prepared, shown=sys.stderr.isatty() and not session.quiet)


def _end(result: ScanResult, fail_on: tuple[str, ...]) -> None:
    from scopion.model.errors import CheckNotMet, ScopionError, StorageFailed

    if result.not_remembered:
        raise StorageFailed(f"this scan was not remembered: {result.not_remembered}")
    if fail_on and result.memory_lost:
        raise ScopionError("--fail-on cannot be answered: the memory of earlier devices was lost")
    if fail_on and not result.folded:
        raise ScopionError("--fail-on cannot be answered: this is none of the site's networks")
    happened = sorted({str(event.kind) for event in result.events} & set(fail_on))
    if happened:
        raise CheckNotMet(f"{', '.join(happened)}: asked to fail on that")
    if not result.findings.completed:
        raise ScopionError(
            f"the scan is partial ({result.findings.interruption}): what was found is kept, nobody counts as gone"
        )
