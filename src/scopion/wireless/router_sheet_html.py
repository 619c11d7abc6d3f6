"""The sheet as a page of HTML to print: one file, without scripts, everything from outside escaped."""

from __future__ import annotations

from pathlib import Path

from scopion.model.text import plain_value
from scopion.wireless.router_sheet import Sheet

_TEMPLATE = Path(__file__).parent / "data" / "sheet.html"


def html(sheet: Sheet) -> str:
    """The whole page."""
    from jinja2 import Environment  # imported where a page is wanted

    environment = Environment(autoescape=True, finalize=plain_value)
    return environment.from_string(_TEMPLATE.read_text(encoding="utf-8")).render(sheet=sheet) + "\n"
