"""Writes into ``site.toml`` without losing its comments: settings go below the headings that the file has already.

It also takes a file apart into its tables, so that tables which are not asked about can be kept.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass

_HEADING = re.compile(r"\s*\[(?P<many>\[)?(?P<path>[^\]]+)\]")


@dataclass(frozen=True, slots=True)
class Block:
    """A table of a file with its lines as they are, tables below it included, without comments between tables."""

    name: str  # the first part of its path: enforcer
    text: str


def blocks_of(text: str) -> Iterator[Block]:
    """Yield the tables of a file that set anything, in their order. Lines before the first heading are none."""
    name, lines = "", list[str]()
    for line in text.splitlines():
        match = _HEADING.match(line)
        below = match is not None and "." in match["path"] and _first_part(match["path"]) == name
        if match is not None and not below:
            yield from _block(name, lines)
            name, lines = _first_part(match["path"]), []
        if name and line.strip() and not line.lstrip().startswith("#"):
            lines.append(line.rstrip())
    yield from _block(name, lines)


def heading_of(line: str) -> str:
    """Return the first part of the path of a table's heading; empty for any other line."""
    match = _HEADING.match(line)
    return _first_part(match["path"]) if match else ""


def _block(name: str, lines: list[str]) -> Iterator[Block]:
    if len(lines) > 1:
        yield Block(name, "\n".join(lines))


def _first_part(path: str) -> str:
    return path.partition(".")[0].strip().strip("\"'")


def with_settings(text: str, settings: str) -> str:
    """Return the commented file with settings (TOML, blocks separated by an empty line) below its headings, others at
    its end.

    Lines before the first heading, as ``name = ...``, go to the top, below the opening comment.
    """
    for block in settings.strip().split("\n\n"):
        heading, _, lines = block.partition("\n")
        if not heading.startswith("["):
            opening = re.match(r"(?:#[^\n]*\n)*", text)
            at = opening.end() if opening else 0
            text = f"{text[:at]}\n{block}\n{text[at:].removeprefix(chr(10))}"
            continue
        # One of several, as [[channel]], is a block of its own.
        several = heading.startswith("[[")
        below = None if several else re.search(rf"^{re.escape(heading)}.*$", text, re.MULTILINE)
        end = below.end() if below else len(text)
        text = f"{text[:end]}\n{lines if below else block}{text[end:] if below else chr(10)}"
    return text


def quoted(text: str) -> str:
    """Return a text as TOML writes it; it holds no control characters."""
    return json.dumps(text, ensure_ascii=False)


def assigned(**values: str | float | list[str] | None) -> str:
    """Return lines of settings; None and empty values are left out."""
    lines = []
    for key, value in values.items():
        if value in (None, "", []):
            continue
        if isinstance(value, list):
            shown = f"[{', '.join(map(quoted, value))}]"
        elif isinstance(value, str):
            shown = quoted(value)
        else:
            shown = f"{value:g}"
        lines.append(f"{key} = {shown}")
    return "\n".join(lines)
