"""``scopion events``."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

import click

from scopion.cli.parts import options
from scopion.cli.parts.event_rows import event_columns, event_row
from scopion.cli.parts.output import output_format, show
from scopion.cli.parts.session import Session, pass_session
from scopion.model.device import EventKind
from scopion.model.text import counted

if TYPE_CHECKING:
    from scopion.operations.devices.list_events import Log

KEYS = (
    "at", "kind", "device", "sentence", "mac", "address", "was_address", "away_since", "other_mac", "name", "was_name",
    "place",
)  # fmt: skip


@click.command()
@click.argument("devices", metavar="[DEVICE]...", type=options.DeviceParam(), nargs=-1)
@options.since
@options.until
@click.option(
    "--kind",
    "kinds",
    type=options.one_of(EventKind),
    metavar="KIND",
    multiple=True,
    help="Only these: " + ", ".join(EventKind) + ". May be repeated.",
)
@options.place
@click.option("--limit", type=click.IntRange(min=1), help="The latest N. [50 without --since, else all]")
@output_format
@pass_session
def events(
    session: Session,
    devices: tuple[str, ...],
    since: datetime | None,
    until: datetime | None,
    kinds: tuple[str, ...],
    place: str | None,
    limit: int | None,
    format_name: str | None,
) -> None:
    """The log: devices that joined, left, returned, moved.

    WHEN is a moment in words or digits: yesterday, 'monday 09:00', '3 days', 2026-09-14, '2026-09-14 14:00'.
    """
    from scopion.operations.devices.list_events import event_log

    most = limit or (None if since else 50)
    log = event_log(session.site, since=since, until=until, kinds=kinds, which=devices, place=place, limit=most)
    rows = [{**event_row(told.event), "sentence": told.sentence} for told in log.told]
    show(rows, KEYS, event_columns(session.site.clock), format_name)
    _close(session, log)


def _close(session: Session, log: Log) -> None:
    if log.told:
        session.note("")
    hidden = log.total - len(log.told)
    more = f"; {hidden} earlier ones: --limit or --since shows them" if hidden else ""
    session.note(f"{counted(len(log.told), 'event')}{more}.")
