"""``scopion import``."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts.device_rows import host_columns, host_row
from scopion.cli.parts.flags import gathered, insist
from scopion.cli.parts.output import iso, output_format, show, spoken_ago
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, Row
from scopion.cli.parts.terminal import confirm, style
from scopion.cli.remember.take_over import TakeOver, take_over_file
from scopion.model.observation import Medium
from scopion.model.text import closed, counted

if TYPE_CHECKING:
    from scopion.operations.exchange.import_records import Imported
    from scopion.operations.scan.describe_hosts import Host

KEYS = (
    "standing", "name", "address", "mac", "vendor", "vendor_place", "kind", "kind_evidence", "names", "medium", "seen",
    "added", "device",
)  # fmt: skip
RECORDS = ("client-list", "dnsmasq", "isc-dhcpd", "kea", "neighbours", "capture")
LISTS = ("csv", "json", "jsonl", "ethers", "hosts", "dnsmasq-hosts", "isc-hosts", "kea-hosts")
KINDS = (*RECORDS, *LISTS)
_ACTS_SHOWN = 20


class _Kind(click.Choice[str]):
    """A kind that comes with the program, or one that was added to the registry of records."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Read either."""
        if value not in self.choices:
            from scopion.discovery.records.registry import record_types

            if any(each.name == value for each in record_types()):
                return value
        return super().convert(value, param, ctx)


@click.command("import")
@click.argument("file", metavar="FILE|-", required=False)
@click.option("--as", "kind", type=_Kind(KINDS), metavar="KIND", help="The kind of file [recognised by its content].")
@click.option("--preview", is_flag=True, help="Only show what the file says; change nothing.")
@click.option("--site", "archive", metavar="FILE.zip", help="A whole site, into a folder that has none yet.")
@click.option(
    "--active", is_flag=True, help="With --site: switch on its channels, enforcers and routers without asking."
)
@click.option("--yes", is_flag=True, help="Do not ask before a list is taken over.")
@insist
@output_format
@pass_session
@gathered("how", TakeOver)
def import_file(
    session: Session, file: str | None, kind: str | None, archive: str | None, active: bool, how: TakeOver
) -> None:
    """Records of other systems, or a file of scopion export.

    FILE is a client list copied from a router's web page (text, table, CSV or the page's source), a lease file of
    dnsmasq, ISC dhcpd or Kea, a neighbour listing, or a capture (pcap, pcapng); - reads what is pasted, up to Ctrl-D.
    Records keep their times: no device becomes present by them.

    Lists say what people think: csv, json, jsonl from scopion export, ethers and hosts files, host reservations of
    dnsmasq, ISC dhcpd and Kea. What would change is shown first; with any conflict nothing is changed.

    With --site, what its settings would do (run programs, send messages, change access points) is listed and asked
    about. Unless you agree, it comes as comments.
    """
    if archive is not None:
        _take_site(session, archive, file, active=active)
        return
    if file is None:
        raise click.UsageError("a FILE is missing, or - for what is pasted")
    from scopion.operations.exchange.exchange_devices import list_kind

    which = list_kind(file, kind)
    if which is not None:
        take_over_file(session, file, which, how)
        return
    _take_records(session, file, kind, preview=how.preview, insist=how.insist, format_name=how.format_name)


def _take_site(session: Session, archive: str, file: str | None, *, active: bool) -> None:
    from scopion.operations.exchange.import_site import site_import

    if file is not None:
        raise click.UsageError("--site takes in everything: it goes with no other file")
    with site_import(session.folder, archive) as arrival:
        told = arrival.settle(session.folder, agreed=active or _agreed(session, arrival.acts))
    session.note(f"The site is in {session.folder}: {', '.join(told.names)}.")
    for remark in told.remarks:
        session.note(f"{closed(remark)} Remove the # before what you want to have.")


def _agreed(session: Session, acts: Sequence[str]) -> bool:
    """Tell whether to switch on what a site's settings do; without a terminal to ask at, it stays off."""
    if not acts:
        return True
    session.note("Its settings act: they run programs, send messages, change access points or ask addresses.")
    for each in acts[:_ACTS_SHOWN]:
        session.note(f"  {each}")
    if len(acts) > _ACTS_SHOWN:
        session.note(f"  and {len(acts) - _ACTS_SHOWN} more: see site.toml in the file")
    return session.can_ask and confirm("Switch these on?", default=False)


def _take_records(
    session: Session, file: str, kind: str | None, *, preview: bool, insist: bool, format_name: str | None
) -> None:
    from scopion.operations.exchange.import_records import STANDARD_INPUT, fold_records, read_file

    if file == STANDARD_INPUT and session.can_ask:
        session.note("Paste the list, then press Ctrl-D on a line of its own.")
    imported = read_file(session.site, file, kind)
    if not preview:
        imported = fold_records(session.site, imported, insist=insist)
    media = {str(seen.mac): seen.medium for seen in imported.reading.observations if seen.medium != "unknown"}
    rows = [_row(imported, host, media.get(str(host.mac))) for host in imported.hosts]
    show(rows, KEYS, _columns(session), format_name, document=_document(imported, rows, preview))
    _tell(session, imported, preview)


def _row(imported: Imported, host: Host, medium: Medium | None) -> dict[str, Any]:
    assert host.mac is not None  # records without a MAC address are not taken in
    return {
        **host_row(host),
        "medium": str(medium) if medium else None,
        "seen": iso(seen) if (seen := imported.seen[host.mac]) is not None else None,
        "added": host.mac in imported.added,
    }


def _columns(session: Session) -> list[Column]:
    now = session.site.clock.now()

    def seen(row: Row) -> str:
        return spoken_ago(datetime.fromisoformat(row["seen"]), now) if row["seen"] else "not known"

    kept = [column for column in host_columns() if column.title not in ("RTT ms", "IPv6", "standing")]
    return [
        Column(
            "roster", lambda row: "added" if row["added"] else "has it", lambda row: "yellow" if row["added"] else "dim"
        ),
        *kept,
        Column("medium", lambda row: row["medium"] or "", lambda _: "dim", optional=2),
        Column("seen", seen, optional=3),
    ]


def _document(imported: Imported, rows: list[dict[str, Any]], preview: bool) -> dict[str, Any]:
    reading = imported.reading
    return {
        "record": {
            "kind": str(reading.kind),
            "about": reading.about,
            "as_of": iso(imported.as_of),
            "taken_in": not preview,
            "added": len(imported.added),
            "unread": reading.unread,
            "problems": [str(problem) for problem in reading.problems],
        },
        "hosts": [{key: row[key] for key in KEYS} for row in rows],
    }


def _tell(session: Session, imported: Imported, preview: bool) -> None:
    reading = imported.reading
    if imported.hosts:
        session.note("")
    told = session.site.clock.local(imported.as_of).strftime("%Y-%m-%d %H:%M")
    session.note(f"Read as {reading.about}, as of {told}.")
    without = len(imported.seen) - len({host.mac for host in imported.hosts})
    if without:
        session.note(f"{counted(without, 'adapter')} without an address {'is' if without == 1 else 'are'} not shown.")
    for problem in reading.problems:
        session.note(f"{style('Not read:', fg='yellow')} {closed(str(problem))}")
    if reading.unread > len(reading.problems):
        session.note(f"{reading.unread - len(reading.problems)} more could not be read.")
    added = len(imported.added)
    counts = (
        f"{counted(len(imported.seen), 'adapter')}: {added or 'none'} {'to be ' if preview else ''}added, "
        f"{len(imported.seen) - added or 'none'} in the roster already; {imported.named or 'none'} named"
    )
    undated = sum(moment is None for moment in imported.seen.values())
    if undated:
        it = "it was" if undated == 1 else "they were"
        session.note(f"Of {counted(undated, 'adapter')} the record does not say when {it} there.")
    closing = (
        "A preview: nothing was changed." if preview else "A record does not make a device present: only a scan does."
    )
    session.note(f"{style(counts, bold=True)}. {closing}")
