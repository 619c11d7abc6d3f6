"""Shows rows: a table in a terminal, tab-separated text in a pipe, CSV, JSON or JSON Lines on request.

A row is a mapping whose keys are the documented JSON keys. The machine formats give every key; the terminal's table
gives the columns that fit a person. Text that came from the network has been cleaned where it entered; here each
format escapes for itself.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from scopion.model.errors import UsageError

if TYPE_CHECKING:
    from rich.console import Console, OverflowMethod
    from rich.table import Table

FORMATS = ("table", "tsv", "csv", "json", "jsonl")
Row = Mapping[str, Any]
# A spreadsheet takes a cell that begins so for a formula.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")

output_format = click.option(
    "--format",
    "format_name",
    type=click.Choice(FORMATS),
    metavar="FORMAT",
    help="table, tsv, csv, json or jsonl [table in a terminal, tsv in a pipe; or SCOPION_FORMAT].",
)


# A column that is cut keeps at least so many characters, or it would say nothing.
_LEAST_WIDTH = 12
_GAP = 2  # blanks between two columns


@dataclass(frozen=True, slots=True)
class Column:
    """One column of the terminal's table."""

    title: str
    text: Callable[[Row], str]
    style: Callable[[Row], str] = lambda _: ""
    right: bool = False
    shrinks: bool = False  # is cut when the terminal is narrow
    wraps: bool = False  # a sentence: goes on in the next line when the terminal is narrow, and is never cut
    optional: int = 0  # left out before anything is cut, the highest first; 0: never


def chosen_format(asked: str | None) -> str:
    """The format to use: the option's, else the environment's, else what suits the output."""
    preferred = os.environ.get("SCOPION_FORMAT", "")
    if not asked and preferred and preferred not in FORMATS:
        raise UsageError(f"SCOPION_FORMAT={preferred!r} is none of {', '.join(FORMATS)}")
    return asked or preferred or ("table" if sys.stdout.isatty() else "tsv")


def show(
    rows: Sequence[Row],
    keys: Sequence[str],
    columns: Sequence[Column],
    asked: str | None,
    *,
    document: Mapping[str, Any] | None = None,
) -> None:
    """Print rows. ``keys`` orders the machine formats; ``document`` is what ``json`` gives instead of the bare rows."""
    import json

    name = chosen_format(asked)
    if name == "table":
        _table(rows, columns)
    elif name == "json":
        click.echo(json.dumps(document if document is not None else list(rows), indent=2, ensure_ascii=False))
    elif name == "jsonl":
        for row in rows:
            click.echo(json.dumps(dict(row), ensure_ascii=False))
    else:
        separator = "\t" if name == "tsv" else ","
        click.echo(separated([keys, *([row.get(key) for key in keys] for row in rows)], separator), nl=False)


def separated(lines: Sequence[Sequence[Any]], separator: str) -> str:
    """CSV (RFC 4180) or tab-separated text; in CSV a cell that a spreadsheet would execute is made text."""
    if separator == "\t":
        return "".join("\t".join(_cell(value).replace("\t", " ") for value in line) + "\n" for line in lines)
    import csv
    import io

    text = io.StringIO()
    csv.writer(text, lineterminator="\r\n").writerows([[_safe(_cell(value)) for value in line] for line in lines])
    return text.getvalue()


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list | tuple):
        return " ".join(_cell(each) for each in value)
    return str(value)


def _safe(text: str) -> str:
    return f"'{text}" if text.startswith(_FORMULA) else text


def _table(rows: Sequence[Row], columns: Sequence[Column]) -> None:
    from rich.console import Console

    if rows:
        console = Console()
        console.print(rich_table(rows, columns, console))


def rich_table(rows: Sequence[Row], columns: Sequence[Column], console: Console) -> Table:
    """The rows as Rich draws them; cells are plain text, never markup. Optional columns only where there is room."""
    texts = {column: [column.text(row) for row in rows] for column in columns}
    widths = {column: _width(column.title, cells) for column, cells in texts.items()}
    shown = list(columns)
    # Measured here and drawn once: a scan is drawn ten times a second while it sends.
    while sum(widths[column] for column in shown) - _GAP > console.width:
        least_needed = max(shown, key=lambda column: column.optional)
        if not least_needed.optional:
            break
        shown.remove(least_needed)
    return _drawn(rows, shown, texts)


def _width(title: str, cells: Sequence[str]) -> int:
    from rich.cells import cell_len

    return _GAP + max(cell_len(line) for cell in (title, *cells) for line in cell.split("\n"))


def _drawn(rows: Sequence[Row], columns: Sequence[Column], texts: Mapping[Column, Sequence[str]]) -> Table:
    from rich.table import Table
    from rich.text import Text

    table = Table(box=None, pad_edge=False, padding=(0, _GAP, 0, 0), header_style="dim", show_edge=False)
    for column in columns:
        table.add_column(
            column.title,
            justify="right" if column.right else "left",
            no_wrap=not (column.shrinks or column.wraps),
            min_width=_LEAST_WIDTH if column.shrinks or column.wraps else None,
        )
    for number, row in enumerate(rows):
        # A row is one line: what does not fit is cut, and the machine formats have it whole.
        table.add_row(
            *(
                Text(texts[each][number], each.style(row), no_wrap=not each.wraps, overflow=_overflow(each))
                for each in columns
            )
        )
    return table


def _overflow(column: Column) -> OverflowMethod:
    return "fold" if column.wraps else "ellipsis"
