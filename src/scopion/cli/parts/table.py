"""Draws rows as a table for a terminal: measured, cut where they must be, coloured. Cells are plain text, never markup.

This drawing is our own because it draws ten thousand rows in a tenth of a second, and a scan draws it ten times a
second while it sends. Text from outside was cleaned when it came in; it is cleaned here again, because a roster may
hold anything.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

import click

from scopion.cli.parts import terminal
from scopion.model.text import plain

Row = Mapping[str, Any]
# A column that is cut keeps at least this many characters, or it would say nothing.
_LEAST_WIDTH = 12
_USEFUL_WIDTH = 20
_GAP = 2  # blanks between two columns
_LESS = "…"
_PLAIN_AGAIN = "\x1b[0m"


@dataclass(frozen=True, slots=True, eq=False)
class Column:
    """One column of the terminal's table."""

    title: str
    text: Callable[[Any], str]  # of a row, whatever the rows of the table are
    style: Callable[[Any], str] = lambda _: ""  # "bold", "dim", a colour, or several of them
    right: bool = False
    shrinks: bool = False  # it is cut when the terminal is narrow
    wraps: bool = False  # a sentence: it continues in the next line when the terminal is narrow, and is never cut
    optional: int = 0  # it is left out before anything is cut, the highest first; 0: never


def plain_column(key: str, *, shrinks: bool = False, wraps: bool = False) -> Column:
    """Return a column that shows a key as the machine formats have it, the items of a list below each other."""

    def text(row: Row) -> str:
        value = row[key]
        if isinstance(value, list):
            return "\n".join(map(str, value))
        return "" if value is None else ("yes" if value else "no") if isinstance(value, bool) else str(value)

    return Column(key, text, shrinks=shrinks, wraps=wraps)


def drawn(rows: Sequence[Any], columns: Sequence[Column], width: int, *, coloured: bool = True) -> list[str]:
    """Return the lines of a table, with a heading, for a terminal of ``width`` columns; a row may
    take several lines.
    """
    texts = {column: _clean([column.text(row) for row in rows]) for column in columns}
    natural = {column: _natural(column.title, cells) for column, cells in texts.items()}
    shown = _chosen(columns, natural, width)
    widths = _fitted(shown, natural, width)
    heading = _code("dim") if coloured else ""
    lines = [_joined([_cell(column.title, column, widths[column], heading) for column in shown])]
    blanks = [" " * widths[column] for column in shown]
    drawn_columns = []
    for column in shown:
        codes = [_code(column.style(row)) for row in rows] if coloured else [""] * len(rows)
        drawn_columns.append(_column(column, texts[column], codes, widths[column]))
    for cells in zip(*drawn_columns, strict=True):
        lines.append(_joined([parts[0] for parts in cells]))
        for at in range(1, max(map(len, cells))):
            lines.append(
                _joined([parts[at] if at < len(parts) else blank for parts, blank in zip(cells, blanks, strict=True)])
            )
    return lines


def _clean(cells: list[str]) -> list[str]:
    """Return cells without control characters; a cell of several lines keeps them."""
    if "".join(cells).isprintable():
        return cells
    return ["\n".join(map(plain, cell.split("\n"))) for cell in cells]


def _column(column: Column, texts: Sequence[str], codes: Sequence[str], width: int) -> Sequence[Sequence[str]]:
    """Return the cells of one column as they are drawn, each as its lines."""
    if column.wraps or not _is_plain(texts):
        return [
            [_cell(part, column, width, code) for part in _parts(text, column, width)]
            for text, code in zip(texts, codes, strict=True)
        ]
    # Most columns: all cells at once, which is three times as fast as one after the other.
    cut = [text if len(text) <= width else _cut(text, width) for text in texts]
    left = [f"{code}{text}{_PLAIN_AGAIN}" if code and text else text for text, code in zip(cut, codes, strict=True)]
    right = [" " * (width - len(text)) for text in cut]
    if column.right:
        left, right = right, left
    return [(begin + end,) for begin, end in zip(left, right, strict=True)]


def _chosen(columns: Sequence[Column], natural: Mapping[Column, int], width: int) -> list[Column]:
    """Return the columns without the optional ones for which there is no room."""
    shown = list(columns)
    needed = {column: _needed(column, natural[column]) for column in columns}
    while sum(needed[column] for column in shown) + _GAP * (len(shown) - 1) > width:
        least_needed = max(shown, key=lambda column: column.optional)
        if not least_needed.optional:
            break
        shown.remove(least_needed)
    return shown


def _needed(column: Column, natural: int) -> int:
    """Return the least width of a column: it is better to cut a little than to leave another column out."""
    return min(natural, _USEFUL_WIDTH) if column.shrinks else natural


def _fitted(shown: Sequence[Column], natural: Mapping[Column, int], width: int) -> dict[Column, int]:
    """Return how wide each column is drawn: those that may be cut are cut, the widest first; then, in a very narrow
    terminal, any.
    """
    widths = {column: natural[column] for column in shown}
    excess = sum(widths.values()) + _GAP * (len(shown) - 1) - width
    for patient in ([column for column in shown if column.shrinks or column.wraps], list(shown)):
        while excess > 0:
            widest = max(patient, key=lambda column: widths[column], default=None)
            if widest is None or widths[widest] <= _LEAST_WIDTH:
                break
            widths[widest] -= 1
            excess -= 1
    return widths


def _parts(text: str, column: Column, width: int) -> list[str]:
    """Return the lines of one cell."""
    parts = text.split("\n")
    if not column.wraps:
        return parts
    import textwrap

    return [line for part in parts for line in (textwrap.wrap(part, width) or [""])]


def _cell(text: str, column: Column, width: int, code: str) -> str:
    """Return one line of a cell, cut or filled up, in its colours."""
    cells = _measured(text)
    if cells > width:
        text = _cut(text, width)
        cells = _measured(text)
    filling = " " * (width - cells)
    coloured = f"{code}{text}{_PLAIN_AGAIN}" if code and text else text
    return filling + coloured if column.right else coloured + filling


def _joined(cells: Sequence[str]) -> str:
    return (" " * _GAP).join(cells).rstrip()


def _cut(text: str, width: int) -> str:
    if text.isascii():
        return text[: width - 1] + _LESS
    from rich.cells import set_cell_size

    return set_cell_size(text, width - 1).rstrip() + _LESS


def _natural(title: str, cells: Sequence[str]) -> int:
    if _is_plain(cells):
        return max(len(title), *map(len, cells))
    return max(len(title), *(_measured(part) for cell in cells for part in cell.split("\n")))


def _is_plain(cells: Sequence[str]) -> bool:
    """Tell whether each cell is one line in which a character takes one column."""
    whole = "".join(cells)
    return whole.isascii() and "\n" not in whole


def _measured(text: str) -> int:
    """Return how many columns of a terminal a text takes."""
    if text.isascii():
        return len(text)
    from rich.cells import cell_len

    return cell_len(text)


def styled(text: str, style: str) -> str:
    """Return a text to be printed in a style of the program's words: "bold", "dim", a colour, or several of them."""
    return terminal.style(text, **_looks(style)) if style else text


@cache
def _code(style: str) -> str:
    """Return the escape sequence that begins a style, of the program's own words only; empty for none."""
    if not style:
        return ""
    return click.style("", **_looks(style), reset=False)


def _looks(style: str) -> dict[str, Any]:
    """Return a style's words as Click takes them."""
    words = style.split()
    colour = next((word for word in words if word not in ("bold", "dim")), None)
    return {"fg": colour, "bold": "bold" in words or None, "dim": "dim" in words or None}
