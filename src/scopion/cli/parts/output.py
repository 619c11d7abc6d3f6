"""Shows rows: a table in a terminal, tab-separated text in a pipe, CSV, JSON or JSON Lines on request.

A row is a mapping whose keys are the documented JSON keys. The machine formats give every key; the terminal's table
gives the columns that fit a person. Text from the network was cleaned when it came in; here each format escapes for
itself.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, date, datetime
from itertools import chain, islice
from typing import Any

import click

from scopion.cli.parts.table import Column, Row, drawn
from scopion.model.bounded_cache import BoundedCache
from scopion.model.clock import Clock, spoken_span
from scopion.model.device import NEVER
from scopion.model.errors import UsageError
from scopion.model.rows import row_of as shared_row_of
from scopion.model.text import FORMULA_SIGNS, escaped_json, plain

FORMATS = ("table", "tsv", "csv", "json", "jsonl")
_LINES_AT_ONCE = 1_000
_FORMULAS = tuple(before + sign for before in "\t\n" for sign in FORMULA_SIGNS if sign.isprintable())
_DIGITS = tuple(f"{number:02}" for number in range(61))
_DAYS = BoundedCache[int, str](
    lambda number: date.fromordinal(number).isoformat(), 4_096
)  # a list has few, and many moments

output_format = click.option(
    "--format",
    "format_name",
    type=click.Choice(FORMATS),
    metavar="FORMAT",
    help="table, tsv, csv, json or jsonl [table in a terminal, tsv in a pipe; or SCOPION_FORMAT].",
)


def chosen_format(asked: str | None) -> str:
    """Return the format to use: the option's, else the environment's, else what suits the output."""
    preferred = os.environ.get("SCOPION_FORMAT", "")
    if not asked and preferred and preferred not in FORMATS:
        raise UsageError(f"SCOPION_FORMAT={preferred!r} is none of {', '.join(FORMATS)}")
    return asked or preferred or ("table" if sys.stdout.isatty() else "tsv")


def show(
    rows: Iterable[Row],
    keys: Sequence[str],
    columns: Sequence[Column],
    asked: str | None,
    *,
    document: Mapping[str, Any] | None = None,
) -> None:
    """Print rows. ``keys`` orders the machine formats; ``document`` is what ``json`` gives instead of the bare rows."""
    name = chosen_format(asked)
    if name == "table":
        show_table(list(rows), columns)
    elif name in ("tsv", "csv"):
        lines = (map(row.__getitem__, keys) for row in rows)
        click.echo(separated(chain([keys], lines), "\t" if name == "tsv" else ","), nl=False)
    else:
        import json

        if name == "json":
            click.echo(
                escaped_json(json.dumps(document if document is not None else list(rows), indent=2, ensure_ascii=False))
            )
            return
        for row in rows:
            click.echo(escaped_json(json.dumps(dict(row), ensure_ascii=False)))


def iso(moment: datetime) -> str:
    """Return a moment for machines: UTC, to the second. Put together here: ``isoformat`` takes four times as long."""
    utc = moment if moment.tzinfo is UTC else moment.astimezone(UTC)
    return f"{_DAYS[utc.toordinal()]}T{_DIGITS[utc.hour]}:{_DIGITS[utc.minute]}:{_DIGITS[utc.second]}Z"


def iso_or_never(moment: datetime) -> str | None:
    """Return when something was last seen, for machines; None if never."""
    return None if moment == NEVER else iso(moment)


def row_of(source: object, keys: Sequence[str], **others: Any) -> dict[str, Any]:
    """Return a row with these keys, in their order: ``others``, and else the object's attributes of the same name."""
    return shared_row_of(source, keys, iso_or_never, **others)


def spoken_ago(moment: datetime, now: datetime) -> str:
    """Return how long ago something was last seen, for people."""
    return "never" if moment == NEVER else f"{spoken_span(now - moment)} ago"


def on_clock(clock: Clock, moment: str | None, form: str = "%a %Y-%m-%d %H:%M") -> str:
    """Return a moment of a row, as machines have it, in the site's local time; empty where there is none."""
    return clock.local(datetime.fromisoformat(moment)).strftime(form) if moment else ""


def separated(lines: Iterable[Iterable[Any]], separator: str) -> str:
    """Return CSV (RFC 4180) or tab-separated text; a text that a spreadsheet would execute begins
    with an apostrophe.
    """
    if separator == "\t":
        rest = iter(lines)
        return "".join(_tabbed(some) for some in iter(lambda: [*map(list, islice(rest, _LINES_AT_ONCE))], []))
    import csv
    import io

    text = io.StringIO()
    csv.writer(text, lineterminator="\r\n").writerows([_escaped(value) for value in line] for line in lines)
    return text.getvalue()


def _tabbed(lines: list[list[Any]]) -> str:
    # Most values are texts, nothing or no: calling a function for each of them would take twice as long.
    rows = [
        [
            each if each.__class__ is str else "" if each is None else "no" if each is False else _cell(each)
            for each in line
        ]
        for line in lines
    ]
    text = "\n" + "\n".join(map("\t".join, rows))
    if (
        text.count("\n") != len(rows)
        or text.count("\t") != sum(map(len, rows)) - len(rows)
        or not text.replace("\t", "").replace("\n", "").isprintable()
        or any(start in text for start in _FORMULAS)
    ):
        return "".join("\t".join(_escaped(value) for value in line) + "\n" for line in lines)
    return text[1:] + "\n"


def _escaped(value: Any) -> str:
    """Return a cell that neither a terminal nor a spreadsheet obeys; a number stays as it is, below zero as well."""
    text = plain(_cell(value).replace("\t", " "))
    return f"'{text}" if text.startswith(FORMULA_SIGNS) and not isinstance(value, (int, float)) else text


def _cell(value: Any) -> str:
    if isinstance(value, (list, tuple)):
        try:
            return " ".join(value)
        except TypeError:  # not all of them are texts
            return " ".join(map(_cell, value))
    if value is None:
        return ""
    return ("yes" if value else "no") if isinstance(value, bool) else str(value)


def show_table(rows: Sequence[Any], columns: Sequence[Column]) -> None:
    """Print rows of any kind that the columns can read as a table."""
    import shutil

    if rows:
        width = shutil.get_terminal_size((80, 24)).columns
        coloured = sys.stdout.isatty() and not os.environ.get("NO_COLOR")
        # its cells are clean, and its colours are known ones
        click.echo("\n".join(drawn(rows, columns, width, coloured=coloured)))
