"""The made-up router that has nothing but a web page: what was typed into it, the page, and its text as people copy it.

Its clients are on the air at their times, unless its lists refuse them. What was typed is kept in the site's folder.
"""

from __future__ import annotations

import json
from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from html.parser import HTMLParser
from pathlib import Path

from scopion.model.mac import MacAddress, Notation
from scopion.roster.store.write_files import write_atomically
from scopion.scenes.scene import DATA, ScenePage, ScenePageClient

FILE, HTML = "router-page.json", "router-page.html"


@dataclass(frozen=True, slots=True)
class _Typed:
    """The list of one radio, as it was typed in."""

    mode: str = "off"
    listed: tuple[str, ...] = ()

    def admits(self, mac: str) -> bool:
        return self.mode == "off" or (mac in self.listed) is (self.mode == "allow")


class RouterPage:
    """The page of a scene, as it was last typed into."""

    def __init__(self, described: ScenePage, folder: Path) -> None:
        self.described = described
        self._folder = folder
        self._lists = {radio: _Typed() for radio in described.radios}
        path = folder / FILE
        if path.exists():
            kept = json.loads(path.read_text(encoding="utf-8"))
            self._lists |= {radio: _Typed(each["mode"], tuple(each["listed"])) for radio, each in kept.items()}

    def type(self, radio: str, mode: str, macs: Collection[MacAddress]) -> None:
        """Type the whole list of a radio and set its mode, and save."""
        self._lists[radio] = _Typed(mode, tuple(each.written(Notation.HYPHEN) for each in sorted(macs)))
        kept = {name: {"mode": each.mode, "listed": each.listed} for name, each in self._lists.items()}
        write_atomically(self._folder / FILE, (json.dumps(kept) + "\n").encode())

    def html(self, at: datetime) -> str:
        """Return the page at a moment, and keep it in the site's folder, for a browser."""
        from jinja2 import Environment

        template = (DATA / "router-page.html").read_text(encoding="utf-8")
        here = [each for each in self.described.clients if self._is_here(each, at)]
        shown = (
            Environment(autoescape=True).from_string(template).render(page=self.described, here=here, lists=self._lists)
        )
        write_atomically(self._folder / HTML, shown.encode())
        return shown

    def _is_here(self, client: ScenePageClient, at: datetime) -> bool:
        return client.period.holds(at) and self._lists[client.radio].admits(client.mac.written(Notation.HYPHEN))


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
        self._unseen += tag in ("style", "head")

    def handle_endtag(self, tag: str) -> None:
        self._unseen -= tag in ("style", "head")
        self.parts.append("\t" if tag in ("td", "th") else "\n" if tag in ("tr", "h1", "h2", "nav", "li") else "")

    def handle_data(self, data: str) -> None:
        if not self._unseen:
            self.parts.append(data.strip("\n"))
