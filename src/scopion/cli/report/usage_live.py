"""Who uses the line at this moment, as bars that are drawn again each second."""

from __future__ import annotations

import sys
import time
from collections.abc import Sequence
from contextlib import closing, suppress
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts.session import Session
from scopion.cli.parts.terminal import echo
from scopion.model.errors import NotFound
from scopion.model.text import plain, spoken_size
from scopion.model.usage import spoken_rate

if TYPE_CHECKING:
    from scopion.operations.usage.list_usage import Usage, UsageRow
    from scopion.operations.usage.measure_live import LiveMeasure

_EVERY_S = 1.0
_LEVELS = " ▏▎▍▌▋▊▉█"
_NAME, _PLACE, _RATE = 28, 28, 11  # characters
_WIDE = 110  # from this width of the terminal on it says who has counted


def show_live(session: Session, for_s: float | None) -> None:
    """Draw until Ctrl-C, or for a time. Without a terminal each picture is printed below the one before."""
    from scopion.operations.usage.list_usage import list_usage, nothing_counted
    from scopion.operations.usage.measure_live import LiveMeasure, pause

    site = session.site
    measure = LiveMeasure(site)
    if not measure.sources:
        raise NotFound(nothing_counted(site))
    ends = site.clock.monotonic() + for_s if for_s is not None else float("inf")
    with closing(measure), suppress(KeyboardInterrupt), _Screen() as screen:
        while True:
            began = site.clock.monotonic()
            measure.turn(_EVERY_S)
            screen.draw(lambda width, height: picture(measure, list_usage(site, live=measure.rates()), width, height))
            if began + _EVERY_S > ends:
                break
            pause(site, began + _EVERY_S)
            if site.story is not None and (for_s is None or sys.stdout.isatty()):
                time.sleep(_EVERY_S)  # its clock does not wait, and a person looks


def picture(measure: LiveMeasure, found: Usage, width: int, height: int) -> list[str]:
    """Return the lines of one picture: the largest first, bars to one scale, and what cannot be read."""
    busy = [each for each in found.rows if each.now > 0]
    top = max((max(each.down_bps or 0, each.up_bps or 0) for each in busy), default=0.0)
    place = _PLACE if width >= _WIDE else 0
    bar = max(6, (width - _NAME - place - 2 * (_RATE + 2) - 14) // 2)
    down, up = (sum(getattr(each, name) or 0 for each in busy) for name in ("down_bps", "up_bps"))
    total = f"{spoken_rate(down) or '0'} down, {spoken_rate(up) or '0'} up"
    lines = [click.style(f"{total} in all, of the last seconds", bold=True), ""]
    head = f"{'':{_NAME}}  {'counted at':<{place}}" if place else f"{'':{_NAME}}"
    title = f"{head}  {'down':<{bar + _RATE + 1}}  {'up':<{bar + _RATE + 1}}  {'today':>9}"
    lines.append(click.style(title.rstrip(), dim=True))
    room = max(1, height - 6 - len(measure.problems))
    for each in busy[:room]:
        lines.append(_bar_line(each, top, bar, place))
    if len(busy) > room:
        lines.append(click.style(f"and {len(busy) - room} more", dim=True))
    if not busy:
        lines.append("The first figures come once everything was read twice.")
    lines.append("")
    if top:
        lines.append(click.style(f"a whole bar: {spoken_rate(top)}; read: {', '.join(measure.sources)}", dim=True))
    lines += [click.style(f"{source}: {plain(problem)}", fg="red") for source, problem in measure.problems.items()]
    return lines


def _bar_line(each: UsageRow, top: float, wide: int, place: int) -> str:
    cells = _cell(each.name, _NAME) + (f"  {click.style(_cell(each.where, place), dim=True)}" if place else "")
    for bps, colour in ((each.down_bps or 0.0, "cyan"), (each.up_bps or 0.0, "yellow")):
        cells += f"  {click.style(_bar(bps, top, wide), fg=colour)} {spoken_rate(bps):>{_RATE}}"
    today = spoken_size(each.today.total) if each.today.total else ""
    return f"{cells}  {today:>9}".rstrip()


def _cell(text: str, wide: int) -> str:
    shown = plain(text)
    return (shown if len(shown) <= wide else f"{shown[: wide - 1]}…").ljust(wide)


def _bar(value: float, top: float, wide: int) -> str:
    eighths = round(value / top * wide * 8) if top else 0
    whole, rest = divmod(eighths, 8)
    return f"{'█' * whole}{_LEVELS[rest] if rest else ''}".ljust(wide)


class _Screen:
    """A terminal that is drawn again and again; else lines."""

    def __init__(self) -> None:
        self._live: Any = None
        self._last: Sequence[str] = ()

    def __enter__(self) -> _Screen:
        if sys.stdout.isatty():
            from rich.console import Console
            from rich.live import Live

            self._live = Live(console=Console(), auto_refresh=False, screen=True, vertical_overflow="crop")
            self._live.start()
        return self

    def __exit__(self, *_: object) -> None:
        if self._live is not None:
            self._live.stop()
            for line in self._last:  # what was seen last stays
                echo(line)

    def draw(self, lines: Any) -> None:
        """Draw what a function makes of the room that there is."""
        if self._live is None:
            for line in lines(100, 40):
                echo(click.unstyle(line))
            return
        from rich.text import Text

        console = self._live.console
        self._last = lines(console.width, console.height)
        self._live.update(Text.from_ansi("\n".join(self._last), no_wrap=True), refresh=True)
