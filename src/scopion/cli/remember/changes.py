"""``scopion changes``."""

from __future__ import annotations

from datetime import datetime
from typing import Any

import click

from scopion.alerts.news import who
from scopion.cli.parts import options
from scopion.cli.parts.event_rows import kind_style
from scopion.cli.parts.output import chosen_format, iso, on_clock, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, Row
from scopion.cli.parts.terminal import style
from scopion.model.device import EventKind
from scopion.model.text import counted, joined
from scopion.operations.devices.compare_moments import Compared, changes_between, scans
from scopion.operations.devices.compare_snapshots import Difference

KEYS = ("kind", "at", "device", "name", "sentence", "address", "was_address")
SCAN_KEYS = ("scan", "started", "ended", "targets", "interface", "method", "asked", "answered", "completed")
# On a usual day many devices come and go: more than this many are told in one line.
_USUAL = {str(EventKind.LEFT): "gone", str(EventKind.RETURNED): "back"}
_TOLD_ONE_BY_ONE = 3
_SCANS_SHOWN = 30


@click.command()
@click.option(
    "--since", metavar="WHEN|scan:N", type=options.MomentOrScanParam(), help="From then. [the last scan but one]"
)
@click.option("--until", metavar="WHEN|scan:N", type=options.MomentOrScanParam(end=True), help="Up to then. [now]")
@click.option("--since-export", metavar="FILE", help="From what scopion export wrote (JSON, CSV) to now.")
@click.option("--scans", "listing", is_flag=True, help="The latest scans with their numbers; nothing is compared.")
@options.place
@output_format
@pass_session
def changes(
    session: Session,
    since: datetime | None,
    until: datetime | None,
    since_export: str | None,
    listing: bool,
    place: str | None,
    format_name: str | None,
) -> None:
    """Differences between two moments, scans, or an export.

    Devices that joined, left or returned, that have another address or name, and addresses with another MAC. WHEN is a
    moment in words or digits: yesterday, 'monday 09:00', '3 days', 2026-09-14.
    """
    if listing:
        _list(session, place, format_name)
        return
    if since_export is not None:
        from scopion.operations.exchange.exchange_devices import compared_with  # it reads files of many kinds

        if since or until or place:
            raise click.UsageError("--since-export compares all with now: it excludes --since, --until and --place")
        compared = compared_with(session.site, since_export)
    else:
        compared = changes_between(session.site, since, until, place)
    rows = [_row(session, compared, each) for each in compared.differences]
    if chosen_format(format_name) == "table":
        rows = _gathered(rows)
    document = {"since": iso(compared.since), "until": iso(compared.until), "differences": rows}
    show(rows, KEYS, _columns(), format_name, document=document)
    _close(session, compared)


def _row(session: Session, compared: Compared, difference: Difference) -> dict[str, Any]:
    device = compared.devices[difference.device]
    name = who(device.macs[0] if device.macs else None, device, session.site.vendors)
    number = difference.device if difference.device > 0 else None
    return row_of(difference, KEYS, device=number, name=name, sentence=f"{name} {difference.text}")


def _columns() -> list[Column]:
    return [
        Column("change", lambda row: row["kind"], kind_style),
        Column("what", lambda row: row["sentence"], lambda row: "dim" if row["kind"] in _USUAL else "", wraps=True),
    ]


def _gathered(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return the rows with many that only left or returned gathered in one line."""
    found: list[dict[str, Any]] = [row for row in rows if row["kind"] not in _USUAL]
    for kind, word in reversed(_USUAL.items()):
        alike = [row for row in rows if row["kind"] == kind]
        if len(alike) > _TOLD_ONE_BY_ONE:
            names = joined([_short(row) for row in alike])
            found.append({**alike[0], "sentence": f"{len(alike)} are {word}: {names}"})
        else:
            found += alike
    return found


def _short(row: Row) -> str:
    return str(row["name"]).partition(" (")[0]


def _close(session: Session, compared: Compared) -> None:
    clock = session.site.clock
    form = "%a %Y-%m-%d %H:%M"
    span = f"{clock.local(compared.since):{form}} to {clock.local(compared.until):{form}}"
    if compared.asked is not None and compared.asked < compared.since:
        began = clock.local(compared.since).strftime(form)
        session.note(f"The roster begins with the first complete scan ({began}): the comparison is with that one.")
    if compared.differences:
        session.note("")
    else:
        session.note("There is no difference.")
    session.note(
        f"{style(span, bold=True)}: {counted(compared.present, 'device')} present then, "
        f"{compared.unchanged} of them as before."
    )


def _list(session: Session, place: str | None, format_name: str | None) -> None:
    rows = [row_of(scan, SCAN_KEYS, scan=scan.number) for scan in scans(session.site, _SCANS_SHOWN, place)]
    clock = session.site.clock
    columns = [
        Column("scan", lambda row: str(row["scan"]), right=True),
        Column("ended", lambda row: on_clock(clock, row["ended"])),
        Column("targets", lambda row: row["targets"], shrinks=True),
        Column("on", lambda row: row["interface"]),
        Column("method", lambda row: row["method"]),
        Column("asked", lambda row: str(row["asked"]), right=True),
        Column("answered", lambda row: str(row["answered"]), right=True),
        Column("", lambda row: "" if row["completed"] else "partial", lambda _: "yellow"),
    ]
    show(rows, SCAN_KEYS, columns, format_name)
    if not rows:
        session.note("No scan is remembered yet.")
