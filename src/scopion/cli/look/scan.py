"""``scopion scan``."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from datetime import timedelta
from ipaddress import ip_address
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts.device_rows import HOST_KEYS, host_columns, host_row, port_key
from scopion.cli.parts.options import PortsParam, SpanParam
from scopion.cli.parts.output import chosen_format, output_format, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.terminal import confirm, echo
from scopion.discovery.port_task import SILENT
from scopion.model.address import by_number
from scopion.model.clock import spoken_span
from scopion.model.device import EventKind
from scopion.model.errors import CheckNotMet, InterfaceLost, InvalidTarget, NoInterface, ScopionError, StorageFailed
from scopion.model.targets import MAX_WITHOUT_A_YES
from scopion.model.text import capitalised, closed, counted

if TYPE_CHECKING:
    from scopion.cli.look.live_view import LiveView
    from scopion.operations.scan.prepare_scan import PreparedScan, ScanRequest
    from scopion.operations.scan.scan_result import ScanResult


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
@click.option("--for", "listen_s", type=SpanParam(), metavar="TIME", help="How long to listen, as 90s or 5m [60s].")
@click.option(
    "--pace",
    type=float,
    metavar="N",
    help="Requests a second [2000 on cable; on the air 90, above 2.4 GHz 400; else 500].",
)
@click.option(
    "--rounds", type=click.IntRange(1, 100), metavar="N", help="At most so many rounds [as the answers need]."
)
@click.option("--no-names", is_flag=True, help="Do not ask for names.")
@click.option(
    "--ports",
    type=PortsParam(),
    default=(),
    metavar="N,N",
    help="Try these TCP ports of the hosts that are found [none].",
)
@click.option("--remember", is_flag=True, help="Make this network one of the site's, even if it is another one.")
@click.option(
    "--sort",
    "order",
    type=click.Choice(["address", "name", "mac", "vendor", "kind", "standing", "rtt"]),
    help="The order [what is new, then by address].",
)
@click.option("--all", "every", is_flag=True, help="Every subnet of the site, one after the other.")
@click.option("--yes", is_flag=True, help=f"Do not ask before scanning more than {MAX_WITHOUT_A_YES:,} addresses.")
@click.option(
    "--fail-on",
    type=click.Choice([str(kind) for kind in EventKind]),
    multiple=True,
    help="End with exit code 3 if this happened, for cron. May be repeated.",
)
@output_format
@pass_session
def scan(
    session: Session,
    /,
    fail_on: tuple[str, ...],
    every: bool,
    yes: bool,
    order: str | None,
    format_name: str | None,
    **options: Any,
) -> None:
    """Scan for devices: name, remember, show what is new.

    A TARGET is 192.0.2.0/24, 192.0.2.*, 192.0.2.7, 192.0.2.10-20, 192.0.2.0/255.255.255.0, a comma list of them, or the
    name of a subnet in site.toml; without one the attached subnet is scanned. Ctrl-C ends a scan early and keeps what
    was found.
    """
    from scopion.operations.scan.prepare_scan import ScanRequest

    if every:
        _scan_all(session, options, fail_on, format_name, yes=yes, order=order)
        return
    request = ScanRequest(**options)
    # For cron: print nothing, or the devices that it is about.
    only_who = session.quiet and bool(fail_on) and format_name is None
    result = scan_and_show(session, request, format_name, yes=yes, silent=only_who, order=order)
    _end(session, [result], fail_on, only_who=only_who)


def _scan_all(
    session: Session,
    options: dict[str, Any],
    fail_on: tuple[str, ...],
    format_name: str | None,
    *,
    yes: bool,
    order: str | None,
) -> None:
    """Scan every subnet of the site, one after the other; one that cannot be scanned does not stop the others.

    Ctrl-C ends the running scan and starts no other.
    """
    import json

    from scopion.cli.look.scan_report import document
    from scopion.discovery.listening import INTERRUPTED
    from scopion.operations.devices.map_addresses import subnets_of_site
    from scopion.operations.scan.prepare_scan import ScanRequest

    if options["targets"]:
        raise click.UsageError("--all scans every subnet of the site: it goes with no TARGET")
    as_document = chosen_format(format_name) == "json"
    only_who = session.quiet and bool(fail_on) and format_name is None
    results: list[ScanResult] = []
    failed: list[str] = []
    for _, subnet in subnets_of_site(session.site, session.site.roster_for_reading().home):
        if results and results[-1].findings.interruption == INTERRUPTED:
            failed.append(f"{subnet} was not scanned: interrupted")
            continue
        request = ScanRequest(**{**options, "targets": (str(subnet),)})
        try:
            silent = only_who or as_document
            results.append(scan_and_show(session, request, format_name, yes=yes, silent=silent, order=order))
        except (InvalidTarget, NoInterface, InterfaceLost) as error:
            failed.append(f"{subnet} was not scanned: {error}")
        session.note("")
    if as_document:
        told = [document(each, rows_of(each, ScanRequest(**options), order)) for each in results]
        echo(json.dumps({"scans": told}, indent=2, ensure_ascii=False))
    for each in failed:  # in cron's mail, too
        echo(capitalised(closed(each)), err=True)
    _end(session, results, fail_on, only_who=only_who)
    if failed:
        raise ScopionError(f"{counted(len(failed), 'subnet')} of the site could not be scanned")


def scan_and_show(
    session: Session,
    request: ScanRequest,
    format_name: str | None = None,
    *,
    yes: bool = False,
    silent: bool = False,
    order: str | None = None,
) -> ScanResult:
    """Scan, show the hosts as they answer, then the rows and the news; ``silent`` shows no rows. Returns the result."""
    from scopion.cli.look.scan_report import document, tell_result
    from scopion.operations.scan.prepare_scan import prepare_scan
    from scopion.operations.scan.run_scan import run_prepared

    prepared = prepare_scan(session.site, request)
    _agree(session, prepared, yes)
    session.detail(f"From {prepared.choice.interface.name}, because {prepared.choice.reason}.")
    session.detail(f"By {prepared.method}, because {prepared.method_reason}.")
    with _view(session, prepared) as view:
        result = run_prepared(session.site, prepared, view.on_host, view.on_progress if view.shown else None)
    rows = rows_of(result, request, order)
    if not silent:
        keys = (*HOST_KEYS, *map(port_key, request.ports))
        show(rows, keys, host_columns(request.ports), format_name, document=document(result, rows))
    tell_result(session, result)
    return result


def rows_of(result: ScanResult, request: ScanRequest, order: str | None = None) -> list[dict[str, Any]]:
    """Return the hosts of a scan as rows, in the order that was asked for; what is new comes first if none was.

    A port that was asked for is open, closed, or silent: nothing came back. This machine is not asked.
    """
    rows = []
    for host in result.hosts:
        said = result.ports.get(host.address, {})
        asked = {port_key(port): None if host.own else said.get(port, SILENT) for port in request.ports}
        rows.append({**host_row(host), **asked})
    if order is not None:
        rows.sort(key=lambda row: _SORTED[order](row))
    return rows


def _blank_last(value: Any) -> tuple[bool, Any]:
    return value is None, value


_SORTED: dict[str, Callable[[dict[str, Any]], Any]] = {
    "address": lambda row: by_number(ip_address(row["address"])),
    "name": lambda row: _blank_last(row["name"] and row["name"].casefold()),
    "mac": lambda row: _blank_last(row["mac"]),
    "vendor": lambda row: _blank_last(row["vendor"] and row["vendor"].casefold()),
    "kind": lambda row: _blank_last(row["kind"]),
    "standing": lambda row: _blank_last(row["standing"]),
    "rtt": lambda row: _blank_last(row["rtt_ms"]),
}


def _agree(session: Session, prepared: PreparedScan, yes: bool) -> None:
    count = len(prepared.addresses or ())
    if prepared.method == "listen":
        return
    takes = spoken_span(timedelta(seconds=count / prepared.pace))
    why = (
        f"at {prepared.pace:g} a second, because access points repeat each request at their lowest rate; --pace is for "
        "networks without Wi-Fi"
    )
    if count <= MAX_WITHOUT_A_YES or yes:
        if prepared.spares_air:
            session.note(f"{count:,} addresses take {takes} a round {why}.")
        return
    question = f"{count:,} addresses take {takes} a round, three rounds at least"
    question += f" ({why})" if prepared.spares_air else ""
    if not session.can_ask:
        raise click.UsageError(f"{question}: add --yes if you mean it, or give a smaller range")
    confirm(f"{question}. Scan them?", abort=True)


def _view(session: Session, prepared: PreparedScan) -> AbstractContextManager[LiveView]:
    from scopion.cli.look.live_view import LiveView

    return LiveView(prepared, shown=sys.stderr.isatty() and not session.quiet)


def _end(session: Session, results: Sequence[ScanResult], fail_on: tuple[str, ...], *, only_who: bool) -> None:
    """End with the exit code that was asked for. ``only_who``: the answer is printed already, and no error is added."""
    from scopion.alerts.news import tell

    for result in results:
        if result.not_remembered:
            raise StorageFailed(f"this scan was not remembered: {result.not_remembered}")
        if fail_on and result.memory_lost:
            raise ScopionError("--fail-on cannot be answered: the memory of earlier devices was lost")
        if fail_on and not result.folded:
            raise ScopionError("--fail-on cannot be answered: this is not one of the site's networks")
    happened = [
        piece
        for result in results
        for piece in tell(
            [event for event in result.events if str(event.kind) in fail_on], result.devices, session.site.vendors
        )
    ]
    if happened and only_who:
        for piece in happened:
            echo(f"{piece.kind}: {piece.sentence}")
        raise click.exceptions.Exit(CheckNotMet.exit_code)
    if happened:
        more = f" (and {len(happened) - 1} more)" if len(happened) > 1 else ""
        raise CheckNotMet(f"{happened[0].kind}: {happened[0].sentence}{more}")
    for result in results:
        if not result.findings.completed:
            raise ScopionError(
                f"the scan is partial ({result.findings.interruption}): what was found is kept, and no device "
                "counts as gone"
            )
