"""Writes a sheet: as plain text for a terminal, as a page to print, and as lines for a message."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from pathlib import Path

from scopion.model.text import joined, plain_value
from scopion.wireless.router_sheet import Sheet, SheetLine

_TEMPLATE = Path(__file__).parent / "data" / "sheet.html"
WIDTH = 88  # prints on a sheet of paper at a readable size


def text(sheet: Sheet) -> str:
    """Return the sheet as plain text."""
    body: list[str] = []
    for number, step in enumerate(sheet.steps, 1):
        body += _wrapped(step.says, f"{number:>3}. ", "     ")
        if step.lines:
            body += ["", *_listed(step.lines), ""]
        if step.then:
            body += [*_wrapped(step.then, "     ", "     "), ""]
    hours = []
    if sheet.hours_say:
        width = max((len(name) for _, name, _ in sheet.hours), default=0)
        hours = ["", *_wrapped(sheet.hours_say), ""]
        hours += [f"       {mac}   {name:{width}}   {windows}".rstrip() for mac, name, windows in sheet.hours]
    tail = [line for each in sheet.tail for line in ("", *_wrapped(each))]
    return "\n".join([sheet.title, sheet.about, "", *_wrapped(sheet.says), "", *body, *hours, *tail]) + "\n"


def html(sheet: Sheet) -> str:
    """Return the sheet as a page to print: one file of HTML without scripts, with everything from outside escaped."""
    from jinja2 import Environment  # imported where a page is wanted

    environment = Environment(autoescape=True, finalize=plain_value)
    return environment.from_string(_TEMPLATE.read_text(encoding="utf-8")).render(sheet=sheet) + "\n"


def in_lines(sheet: Sheet) -> list[str]:
    """Return the steps as lines of a message, each with what is to be typed."""
    found = []
    for step in sheet.steps:
        typed = [
            " ".join(filter(None, (line.mac, f"({line.name})" if line.name else "", line.remark)))
            for line in step.lines
        ]
        found.append(f"{step.says} {joined(typed)}".rstrip())
    return found


def _listed(lines: Sequence[SheetLine]) -> list[str]:
    width = max((len(line.name) for line in lines), default=0)
    typed = max((len(line.mac) for line in lines), default=0)
    found = []
    for line in lines:
        found.append(f"       [ ] {line.mac:{typed}}   {line.name:{width}}   {line.remark}".rstrip())
        found += _wrapped(line.caution, "           ", "           ") if line.caution else []
    return found


def _wrapped(said: str, first: str = "", rest: str = "") -> list[str]:
    return textwrap.wrap(
        said, WIDTH, initial_indent=first, subsequent_indent=rest, break_long_words=False, break_on_hyphens=False
    )
