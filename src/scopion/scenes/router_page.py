"""The made-up router that has nothing but a web page: the page, and its text as people copy it.

Its clients are on the air at their times, unless its lists refuse them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from html.parser import HTMLParser

from scopion.model.mac import MacAddress, Notation
from scopion.scenes.scene import DATA, ScenePage

HTML = "router-page.html"


@dataclass(frozen=True, slots=True)
class TypedList:
    """The list of one radio, as it was typed in."""

    mode: str = "off"
    macs: frozenset[MacAddress] = frozenset()

    @property
    def listed(self) -> list[str]:
        """Return its addresses, as the page shows them."""
        return [each.written(Notation.HYPHEN) for each in sorted(self.macs)]

    def admits(self, mac: MacAddress) -> bool:
        """Tell whether a device may connect."""
        return self.mode == "off" or (mac in self.macs) is (self.mode == "allow")


def page_at(page: ScenePage, at: datetime, typed: Mapping[str, TypedList]) -> str:
    """Return the page at a moment, in HTML; ``typed`` are its lists by band in GHz, those that were never typed left
    out.
    """
    from jinja2 import Environment

    lists = {radio: typed.get(radio, TypedList()) for radio in page.radios}
    here = [each for each in page.clients if each.period.holds(at) and lists[each.radio].admits(each.mac)]
    template = (DATA / "router-page.html").read_text(encoding="utf-8")
    return Environment(autoescape=True).from_string(template).render(page=page, here=here, lists=lists) + "\n"


def copied(html: str) -> str:
    """Return a page's text as a browser copies it: a line for each row, with tabs between its cells."""
    reader = _Copying()
    reader.feed(html)
    return "\n".join(line.strip(" ") for line in "".join(reader.parts).splitlines() if line.strip()) + "\n"


class _Copying(HTMLParser):
    """Gathers what a person would copy: no styles, tabs after cells, a new line after rows and blocks."""

    def __init__(self) -> None:
        super().__init__()
        self.parts: list[str] = []
        self._unseen = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Leave out what is not shown."""
        self._unseen += tag in ("style", "head")

    def handle_endtag(self, tag: str) -> None:
        """Part cells and lines."""
        self._unseen -= tag in ("style", "head")
        self.parts.append("\t" if tag in ("td", "th") else "\n" if tag in ("tr", "h1", "h2", "nav", "li") else "")

    def handle_data(self, data: str) -> None:
        """Take the text."""
        if not self._unseen:
            self.parts.append(data.strip("\n"))
