"""Writes into ``site.toml`` without losing its comments: settings go below the headings that the file has already.

It also takes a file apart into its tables, so that tables which are not asked about can be kept.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from scopion.model.errors import Refused
from scopion.model.toml_text import parse_toml

_BARE = re.compile(r"[A-Za-z0-9_-]+")
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


def table_text(name: str, table: Mapping[str, Any]) -> str:
    """Return one of several tables, ``[[name]]``, with those below it, as TOML."""
    return "\n".join([f"[[{name}]]", *_lines_below(name, table)])


def _lines_below(path: str, table: Mapping[str, Any]) -> Iterator[str]:
    """Yield the values of a table, then the tables below it."""
    for key, value in table.items():
        if not isinstance(value, dict):
            # As JSON: texts, numbers, true and false, and lists of them are written in the same way.
            yield f"{key} = {json.dumps(value, ensure_ascii=False)}"
    for key, value in table.items():
        if isinstance(value, dict):
            below = f"{path}.{key if _BARE.fullmatch(key) else quoted(key)}"
            yield f"\n[{below}]"
            yield from _lines_below(below, value)


def without_block(text: str, name: str, number: int) -> str:
    """Return a file without one of several tables, the ``number``-th ``[[name]]``; comments stay.

    Raises Refused if it is written in a way that cannot be taken out safely.
    """
    begin, end = _lines_of(text, name, number)
    lines = text.splitlines(keepends=True)
    kept = [line for line in lines[begin:end] if line.lstrip().startswith("#")]
    after = lines[end:] if kept or not (begin and not lines[begin - 1].strip()) else _without_blank(lines[end:])
    wanted = parse_toml(text)
    del wanted[name][number]
    return _checked("".join([*lines[:begin], *kept, *after]), wanted, name, number)


def with_block_before(text: str, name: str, block: str) -> str:
    """Return a file with another ``[[name]]`` before the first one; at the end if there is none."""
    if not _headings(text, name):
        return with_settings(text, block)
    begin, _ = _lines_of(text, name, 0)
    lines = text.splitlines(keepends=True)
    wanted = parse_toml(text)
    wanted[name].insert(0, parse_toml(block)[name][0])
    return _checked("".join([*lines[:begin], f"{block}\n\n", *lines[begin:]]), wanted, name, 0)


def with_value(text: str, name: str, number: int, key: str, value: Sequence[str]) -> str:
    """Return a file in which a list of texts in the ``number``-th ``[[name]]``, or in ``[name]``, is another one.

    Raises Refused if it is written in a way that cannot be changed safely.
    """
    wanted = parse_toml(text)
    table = wanted[name][number] if isinstance(wanted[name], list) else wanted[name]
    table[key] = list(value)
    begin, end = _lines_of(text, name, number)
    lines = text.splitlines(keepends=True)
    written = f"{key} = [{', '.join(map(quoted, value))}]"
    there = re.compile(rf"^(\s*){re.escape(key)}\s*=\s*\[[^\]#]*\]")
    changed = [there.sub(rf"\g<1>{_literal(written)}", each) for each in lines]
    return _checked("".join([*lines[:begin], *changed[begin:end], *lines[end:]]), wanted, name, number)


def without_value(text: str, name: str, number: int, key: str) -> str:
    """Return a file in which a setting of the ``number``-th ``[[name]]`` that stands on a line of its own is gone.

    Raises Refused if it is written in a way that cannot be taken out safely.
    """
    wanted = parse_toml(text)
    del wanted[name][number][key]
    begin, end = _lines_of(text, name, number)
    lines = text.splitlines(keepends=True)
    kept = [each for each in lines[begin:end] if not re.match(rf"\s*{re.escape(key)}\s*=", each)]
    return _checked("".join([*lines[:begin], *kept, *lines[end:]]), wanted, name, number)


def _literal(text: str) -> str:
    return text.replace("\\", r"\\")


def _headings(text: str, name: str) -> list[int]:
    """Return the lines on which tables of a name begin, those below them left out."""
    found = []
    for at, line in enumerate(text.splitlines()):
        match = _HEADING.match(line)
        if match is not None and match["path"].strip().strip("\"'") == name:
            found.append(at)
    return found


def _lines_of(text: str, name: str, number: int) -> tuple[int, int]:
    """Return where the lines of a table begin and end, with those of the tables below it."""
    begins = _headings(text, name)
    if number >= len(begins):
        raise _by_hand(name, number)
    lines = text.splitlines()
    end = begins[number] + 1
    while end < len(lines):
        match = _HEADING.match(lines[end])
        if match is not None and not ("." in match["path"] and _first_part(match["path"]) == name):
            break
        end += 1
    return begins[number], end


def _without_blank(lines: list[str]) -> list[str]:
    return lines[1:] if lines and not lines[0].strip() else lines


def _checked(text: str, wanted: dict[str, Any], name: str, number: int) -> str:
    """Return an edited file if it says just what is wanted. Raises Refused."""
    empty = {key for key, value in wanted.items() if value == []}
    try:
        found = parse_toml(text)
    except ValueError:
        raise _by_hand(name, number) from None
    if found != {key: value for key, value in wanted.items() if key not in empty}:
        raise _by_hand(name, number)
    return text


def _by_hand(name: str, number: int) -> Refused:
    return Refused(f"[[{name}]] number {number + 1} of site.toml is written in a way that is not changed here: edit it")
