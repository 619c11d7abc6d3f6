"""``scopion scan``."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.device_rows import HOST_KEYS, host_columns, host_row, iso
from scopion.cli.output import output_format, show
from scopion.cli.session import Session, pass_session
from scopion.model.device import EventKind
from scopion.model.targets import MAX_WITHOUT_A_YES

if TYPE_CHECKING:
    from scopion.cli.live_view import LiveView
    from scopion.operations.prepare import PreparedScan
    from scopion.operations.scan_result import ScanResult


@click.command()
@click.argument("targets", metavar="[TARGET]...", nargs=-1)
@click.option("--exclude", metavar="TARGET", multiple=True, help="Leave these out. May be repeated.")
@click.option("--interface", metavar="NAME", help="Scan from this one [see scopion here].")
@click.option(
    "--method",
    type=click.Choice(["auto", "arp", "touch"]),
    help="arp: raw frames. touch: without privilege, by harmless datagrams. [auto: arp where it is permitted]",
)
@click.option(
    "--pace", type=float, metavar="N", help="Requests a second [2000 on cable, 90 on the air, 500 if not known]."
)
@click.option(
    "--rounds", type=click.IntRange(1, 100), metavar="N", help="At most so many rounds [as the answers need]."
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
    from scopion.operations.prepare import ScanRequest, prepare_scan
    from scopion.operations.scan import run_prepared

    prepared = prepare_scan(session.site, ScanRequest(**options))
    _agree(session, prepared, yes)
    session.detail(f"From {prepared.choice.interface.name}, because {prepared.choice.reason}.")
    session.detail(f"By {prepared.method}, because {prepared.method_reason}.")
    with _view(session, prepared) as view:
        result = run_prepared(session.site, prepared, view.on_host, view.on_progress)
    rows = [host_row(host) for host in result.hosts]
    show(rows, HOST_KEYS, host_columns(), format_name, document=_document(result, rows))
    _tell(session, result)
    _end(result, fail_on)


def _agree(session: Session, prepared: PreparedScan, yes: bool) -> None:
    count = len(prepared.addresses or ())
    if count <= MAX_WITHOUT_A_YES or yes:
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


def _document(result: ScanResult, rows: list[dict[str, Any]]) -> dict[str, Any]:
    findings = result.findings
    return {
        "scan": {
            "targets": str(result.targets),
            "subnet": str(result.subnet),
            "interface": result.choice.interface.name,
            "method": str(result.method),
            "started": iso(result.started),
            "seconds": round(findings.duration_s, 3),
            "completed": findings.completed,
            "interruption": findings.interruption or None,
            "asked": findings.asked,
            "answered": findings.answered,
            "requests": findings.requests,
            "rounds": findings.rounds,
            "loss": round(findings.loss, 3),
            "remembered": result.folded,
            "baseline": result.baseline,
            "site": str(result.recognition.verdict),
            "site_reason": result.recognition.reason,
            "memory_lost": result.memory_lost,
        },
        "hosts": rows,
        "events": [
            {
                "kind": str(event.kind),
                "at": iso(event.at),
                "device": event.device_id,
                "mac": str(event.mac),
                "address": str(event.address),
                "was_address": str(event.was_address) if event.was_address else None,
                "away_since": iso(event.away_since) if event.away_since else None,
            }
            for event in result.events
        ],
    }


def _tell(session: Session, result: ScanResult) -> None:
    """The notes, the news and the closing sentence."""
    from scopion.operations.news import tell
    from scopion.operations.scan_result import notes

    if result.hosts:
        session.note("")
    for note in notes(result):
        session.note(f"{click.style('Note:', fg='yellow')} {note}.")
    news = tell(result.events, result.devices, session.site.vendors)
    for piece in news:
        session.note(f"{click.style(piece.kind + ':', bold=True)} {piece.sentence}.")
    for remark in _remarks(session, result):
        session.note(remark)
    session.note(_closing(result, Counter(piece.kind for piece in news)))


def _remarks(session: Session, result: ScanResult) -> Iterable[str]:
    """What became of the memory, if it is not the usual thing."""
    if result.memory_lost:
        yield (
            f"The memory of earlier devices was lost: the damaged roster is kept as {result.memory_lost} in "
            f"{session.folder}. This is not a first scan; who is new here cannot be told this time."
        )
    elif result.baseline:
        yield f"This is the baseline of {result.subnet}: from now on a scan tells who joined and who left."
    if not result.recognition.is_site:
        verb = "Remembered all the same" if result.folded else "Not remembered"
        hint = "" if result.folded else " To make it one of its networks: scopion scan --remember."
        yield f"{verb}: this is none of the networks of {session.site.name}, {result.recognition.reason}.{hint}"


def _closing(result: ScanResult, counts: Counter[EventKind]) -> str:
    findings = result.findings
    words = {
        EventKind.JOINED: "new",
        EventKind.READDRESSED: "moved",
        EventKind.RETURNED: "back",
        EventKind.LEFT: "gone",
    }
    lead = ", ".join(f"{counts[kind]} {word}" for kind, word in words.items() if kind in counts)
    if not lead:
        known = result.folded and not result.baseline and not result.memory_lost
        lead = "Nothing new" if known and findings.completed else f"{findings.answered} found"
    partial = "" if findings.completed else "PARTIAL: "
    of_all = "" if findings.completed else f" of {len(result.targets)}"
    return (
        f"{partial}{click.style(lead, bold=True)} - {result.range} on {result.choice.interface.name}: "
        f"{findings.asked}{of_all} asked, {findings.answered} answered in {findings.duration_s:.1f} s."
    )


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
