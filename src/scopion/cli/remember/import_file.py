"""``scopion import``."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.flags import gathered, insist
from scopion.cli.parts.output import output_format
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.terminal import confirm
from scopion.cli.remember.take_over import TakeOver, take_over_file
from scopion.cli.remember.take_records import RecordOptions, take_records
from scopion.model.text import closed

RECORDS = ("client-list", "dnsmasq", "isc-dhcpd", "kea", "neighbours", "capture")
LISTS = ("csv", "json", "jsonl", "notes", "ethers", "hosts", "dnsmasq-hosts", "isc-hosts", "kea-hosts")
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


class _Columns(click.ParamType[tuple[str, ...]]):
    """What columns are, with commas between."""

    name = "list"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, ...]:
        """Split it."""
        return value if isinstance(value, tuple) else tuple(each.strip() for each in value.split(","))


@click.command("import")
@click.argument("file", metavar="FILE|-", required=False)
@click.option("--as", "kind", type=_Kind(KINDS), metavar="KIND", help="The kind of file [recognised by its content].")
@click.option("--preview", is_flag=True, help="Only show what the file says; change nothing.")
@click.option("--site", "archive", metavar="FILE.zip", help="A whole site, into a folder that has none yet.")
@click.option(
    "--active", is_flag=True, help="With --site: switch on its channels, enforcers and routers without asking."
)
@click.option("--yes", is_flag=True, help="Do not ask before a list is taken over.")
@click.option(
    "--columns", metavar="LIST", type=_Columns(), help="What the columns of your own list are: owner,label,mac."
)
@click.option("--ssid", type=options.NetworkParam(), help="The network of a pasted list's wireless devices.")
@click.option("--band", type=click.Choice(["2.4", "5", "6"]), help="Their band, in GHz.")
@insist
@output_format
@pass_session
@gathered("on_air", RecordOptions)
@gathered("how", TakeOver)
def import_file(
    session: Session,
    /,
    file: str | None,
    kind: str | None,
    archive: str | None,
    active: bool,
    how: TakeOver,
    on_air: RecordOptions,
) -> None:
    """Records of other systems, or a file of scopion export.

    FILE is a client list copied from a router's web page (text, table, CSV or the page's source), a lease file of
    dnsmasq, ISC dhcpd or Kea, a neighbour listing, or a capture (pcap, pcapng); - reads what is pasted, up to Ctrl-D.
    Records keep their times: no device becomes present by them. What was understood of a client list is shown, and
    asked about, before it is taken in; its wireless devices are remembered as associated with their network.

    Lists say what people think: csv, json, jsonl from scopion export; your own list in any form, with MAC addresses and
    words; ethers and hosts files, host reservations of dnsmasq, ISC dhcpd and Kea. What would change is shown first;
    with any conflict nothing is changed.

    With --site, what its settings would do (run programs, send messages, change access points) is listed and asked
    about. Unless you agree, it comes as comments.
    """
    if archive is not None:
        _take_site(session, archive, file, active=active)
        return
    if file is None:
        raise click.UsageError("a FILE is missing, or - for what is pasted")
    from scopion.operations.exchange.exchange_devices import list_kind
    from scopion.operations.exchange.read_input import STANDARD_INPUT, read_input

    if file == STANDARD_INPUT and session.can_ask:
        session.note("Paste the list, then press Ctrl-D on a line of its own.")
    given = read_input(file)
    which = list_kind(session.site, given, kind)
    if how.columns and which != "notes":
        raise click.UsageError("--columns goes with your own list, and this is another kind of file")
    if which is not None and (on_air.ssid or on_air.band):
        raise click.UsageError("--ssid and --band go with a router's list, and this is another kind of file")
    if which is not None:
        take_over_file(session, given, which, how)
        return
    take_records(session, given, kind, how, on_air)


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
