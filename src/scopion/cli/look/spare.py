"""``scopion spare``."""

from __future__ import annotations

from datetime import datetime, timedelta
from ipaddress import IPv4Address
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.options import SpanParam
from scopion.cli.parts.output import output_format, row_of, show, spoken_ago
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column
from scopion.cli.parts.terminal import echo, style
from scopion.model.clock import spoken_span
from scopion.model.device import NEVER
from scopion.model.errors import CheckNotMet
from scopion.model.text import counted

if TYPE_CHECKING:
    from scopion.operations.scan.find_spare import AddressUse, SpareAddresses

KEYS = ("address", "spare", "against", "last_used", "last_user")
_FEW = 5
_MONTH_S = 30 * 86_400.0


@click.command()
@click.argument("target", metavar="[SUBNET|ADDRESS]", required=False)
@click.option(
    "--unused-for",
    type=SpanParam(),
    default=_MONTH_S,
    metavar="TIME",
    help="It was not used for so long [30d].",
    show_default=False,
)
@click.option("--count", type=click.IntRange(1), default=_FEW, metavar="N", help=f"How many to show [{_FEW}].")
@click.option("--reasons", is_flag=True, help="Also show the others, and why they are not free.")
@options.place
@output_format
@pass_session
def spare(
    session: Session,
    target: str | None,
    unused_for: float,
    count: int,
    reasons: bool,
    place: str | None,
    format_name: str | None,
) -> None:
    """Free addresses of a subnet, or whether one is free.

    An address is free if it does not answer, was not used lately, is not in the DHCP pool and is not reserved.
    A single ADDRESS is probed as RFC 5227 requires before it is taken: this takes up to seven seconds. In another
    --place nothing can be asked from here: the answer is what its sensor has told.
    """
    from scopion.operations.scan.find_spare import spare_addresses, spare_elsewhere

    span = timedelta(seconds=unused_for)
    elsewhere = place if place != session.site.roster_for_reading().home else None
    address = _single(target)
    if address is not None and elsewhere is None:
        _one(session, address, span)
        return
    if elsewhere is not None:
        found = spare_elsewhere(session.site, target, elsewhere, span)
    else:
        found = spare_addresses(session.site, target, span)
    shown = found.free[:count]
    shown += [use for use in found.uses if not use.spare] if reasons else []
    show([row_of(use, KEYS) for use in shown], KEYS, _columns(session, reasons), format_name)
    _tell(session, found, len(found.free[:count]), span)
    if not found.free:
        raise CheckNotMet(f"no address of {found.subnet} is free: --reasons shows why")


def _single(target: str | None) -> IPv4Address | None:
    try:
        return IPv4Address(target) if target else None
    except ValueError:
        return None


def _one(session: Session, address: IPv4Address, span: timedelta) -> None:
    from scopion.operations.scan.find_spare import may_be_taken

    session.note(f"Asking whether any device uses {address}...")
    place, probed = may_be_taken(session.site, address, span, lambda number: session.detail(f"Probe {number} of 3."))
    if place.against:
        raise CheckNotMet(f"{address} is not free: {place.against}")
    echo(str(address))
    how = (
        "no device answered three probes (RFC 5227)"
        if probed
        else "no device answered; without raw frames it was not probed"
    )
    session.note(f"It may be taken: {how}, {_past(session, place)}.")
    named = session.site.settings.containing(address)
    _pool_hint(session, named is not None and bool(named.dhcp_pool))


def _past(session: Session, place: AddressUse) -> str:
    if place.last_used is None:
        return "and it is not known to have been used"
    if place.last_used == NEVER:
        return f"though a record gives it to {place.last_user}"
    return f"and {place.last_user} used it {spoken_ago(place.last_used, session.site.clock.now())}"


def _columns(session: Session, reasons: bool) -> list[Column]:
    now = session.site.clock.now()

    def used(row: Any) -> str:
        if row["last_used"] is None:
            return f"never; a record gives it to {row['last_user']}" if row["last_user"] else "never seen in use"
        return f"{spoken_ago(datetime.fromisoformat(row['last_used']), now)} by {row['last_user']}"

    columns = [
        Column("address", lambda row: row["address"], lambda row: "bold" if row["spare"] else "dim"),
        Column("last used", used, lambda row: "" if row["spare"] else "dim", shrinks=True),
    ]
    if reasons:
        columns.insert(1, Column("", lambda row: "free" if row["spare"] else row["against"], lambda _: ""))
    return columns


def _tell(session: Session, found: SpareAddresses, shown: int, span: timedelta) -> None:
    free, subnet = len(found.free), found.subnet
    session.note("")
    if not found.pool_known:
        _pool_hint(session, False)
    if found.since is None:
        session.note("Nothing is remembered yet: devices that are switched off now do not count.")
    elif session.site.clock.now() - found.since < span:
        memory = spoken_span(session.site.clock.now() - found.since)
        session.note(f"The roster goes back {memory} only: devices that were off all that time are not known.")
    lead = style(f"{free} of {counted(len(found.uses), 'address', 'addresses')} free", bold=True)
    best = "the best one is" if shown == 1 else f"the best {shown} are"
    more = f", {best} listed" if 0 < shown < free else ""
    if found.asked:
        session.note(f"{lead} - {subnet}{more}. Ask about one before you take it: scopion spare ADDRESS.")
        return
    seen = "that was never scanned completely"
    if found.looked is not None:
        seen = f"as of the scan {spoken_ago(found.looked, session.site.clock.now())}"
    session.note(f"{lead} - {subnet}{more}, {seen}. It is in another place: nothing was asked from here.")


def _pool_hint(session: Session, known: bool) -> None:
    if known:
        return
    session.note(
        f"{style('Note:', fg='yellow')} the DHCP server's pool is not known: a free address may be in it. "
        'Write it in site.toml: dhcp_pool = ["192.0.2.100-192.0.2.199"] under [[subnet]], with your range.'
    )
