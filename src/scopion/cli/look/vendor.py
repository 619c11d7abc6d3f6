"""``scopion vendor``."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts.flags import insist
from scopion.cli.parts.output import chosen_format, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column
from scopion.cli.parts.terminal import echo, style
from scopion.model.errors import InvalidMacAddress, NotFound

if TYPE_CHECKING:
    from scopion.vendors.registry import Vendor

KEYS = ("asked", "vendor", "place", "country", "kind", "prefix", "bits")
COLUMNS = (
    Column("asked", lambda row: row["asked"]),
    # Organisations that share a prefix stand below each other.
    Column("vendor", lambda row: row["vendor"].replace(" / ", "\n"), lambda row: _vendor_style(row), shrinks=True),
    Column("place", lambda row: (row["place"] or "").replace(" / ", "\n"), shrinks=True),
    Column("prefix", lambda row: _prefix(row)),
)


@click.command()
@click.argument("macs", metavar="[MAC|PREFIX]...", nargs=-1)
@click.option("--organisation", metavar="TEXT", help="List the prefixes of the organisations whose name contains TEXT.")
@click.option(
    "--refresh", metavar="PATH|URL", help="Read the IEEE's CSV files (plain or gzip; a file, a folder, a URL)."
)
@insist
@click.option("--age", is_flag=True, help="Show the age of the listing in use.")
@output_format
@pass_session
def vendor(
    session: Session,
    macs: tuple[str, ...],
    organisation: str | None,
    refresh: str | None,
    insist: bool,
    age: bool,
    format_name: str | None,
) -> None:
    """Vendors of MAC addresses or prefixes.

    Give MAC addresses in any notation, or their first six or more digits, as arguments or one a line on standard input.
    The longest assigned prefix of 36, 28 or 24 bits decides.
    """
    if refresh is not None:
        _refresh(session, refresh, insist=insist)
    elif age:
        _say_ages(session)
    elif organisation is not None:
        _list_prefixes(session, organisation, format_name)
    elif macs:
        _look_up(session, enumerate(macs, 1), "argument", format_name)
    elif sys.stdin.isatty():
        raise click.UsageError("give a MAC address or a prefix, or a list of them on standard input")
    else:
        lines = ((number, line.strip()) for number, line in enumerate(sys.stdin, 1))
        _look_up(session, ((number, line) for number, line in lines if line), "standard input, line", format_name)


def _look_up(session: Session, texts: Iterator[tuple[int, str]], where: str, format_name: str | None) -> None:
    """Answer what can be answered; each text that is no MAC address is named, and the exit code is then 2."""
    from scopion.operations.site.open_vendors import open_vendors

    vendors = open_vendors(session.folder)
    rows, wrong = [], 0
    for number, text in texts:
        try:
            rows.append(_row(text, vendors.of_prefix(text)))
        except InvalidMacAddress as error:
            wrong += 1
            echo(f"scopion: {where} {number}: {error}", err=True)
    if rows or not wrong:
        _print(rows, format_name)
    if wrong:
        raise click.exceptions.Exit(2)


def _print(rows: list[dict[str, Any]], format_name: str | None) -> None:
    if len(rows) == 1 and chosen_format(format_name) == "table":
        # One answer needs no table, and no time to draw one.
        row = rows[0]
        place = f", {row['place']}" if row["place"] else ""
        prefix = f"  [{_prefix(row)}]" if row["prefix"] else ""
        echo(f"{style(row['vendor'], bold=True)}{place}{prefix}")
        return
    show(rows, KEYS, COLUMNS, format_name)


def _list_prefixes(session: Session, text: str, format_name: str | None) -> None:
    from scopion.operations.site.open_vendors import open_vendors

    if not text.strip():
        raise click.UsageError("--organisation needs some letters of a name")
    found = sorted(
        open_vendors(session.folder).of_organisation(text.strip()), key=lambda each: (each.name, each.prefix)
    )
    if not found:
        raise NotFound(f"no organisation in the listing has {text!r} in its name")
    rows = [_row(_grouped(each.prefix or ""), each) for each in found]
    show(rows, KEYS, COLUMNS[:1] + COLUMNS[1:3], format_name)


def _refresh(session: Session, source: str, *, insist: bool) -> None:
    from scopion.operations.site.refresh_vendors import refresh_listing

    replaced = refresh_listing(session.folder, source, datetime.now(UTC).date(), insist=insist)
    session.note(f"Replaced: {', '.join(replaced)}.")
    _say_ages(session)


def _say_ages(session: Session) -> None:
    from scopion.operations.site.refresh_vendors import listing_ages

    for age in listing_ages(session.folder, datetime.now(UTC).date()):
        echo(str(age))


def _row(asked: str, found: Vendor) -> dict[str, Any]:
    countries = [who.country for who in found.organisations if who.country]
    return row_of(found, KEYS, asked=asked, vendor=found.name, country=countries)


def _vendor_style(row: Any) -> str:
    return "dim" if row["vendor"].startswith("(") else "bold"


def _prefix(row: Any) -> str:
    return f"{_grouped(row['prefix'])}/{row['bits']}" if row["prefix"] else ""


def _grouped(digits: str) -> str:
    """Return ``8c:1f:64:af:a`` for nine digits."""
    return ":".join(digits[at : at + 2] for at in range(0, len(digits), 2))
