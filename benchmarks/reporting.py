"""Looking back: a report on a year of a site with 250 devices, its page, and its figures; the whole story told."""

from __future__ import annotations

import json
import sys
import tempfile
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

from matplotlib.figure import Figure as Drawing

from benchmarks.figure import Figure, beside, in_turns, process, timed
from benchmarks.remembering import DAYS_OF_A_YEAR, START, command_beside, copy_year
from scopion.cli.report.report import FIGURES
from scopion.operations.begin.play_demo import SCENE
from scopion.operations.report.make_report import ReportRequest, report
from scopion.operations.site.open_site import Site
from scopion.reports.figures import draw, figure_of
from scopion.reports.tables import TABLES
from scopion.scenes.scene import load_scene

_RUNS = 5


def measure() -> Iterator[Figure]:
    """Measure in a folder of its own."""
    with tempfile.TemporaryDirectory(prefix="scopion-bench-") as holder:
        folder, out = Path(holder) / "year", Path(holder) / "out"
        out.mkdir()
        copy_year(folder)
        end = START + timedelta(days=DAYS_OF_A_YEAR)
        period = ("--since", START.strftime("%Y-%m-%d"), "--until", end.strftime("%Y-%m-%dT%H:%M:%SZ"))
        page = out / "page.html"
        arguments = ("report", *period, "--html", str(page))
        name = "report on a year of 250 devices, as a page"
        yield command_beside(name, folder, arguments, ("hours",), 12, runs=_RUNS)
        yield from _drawn(folder, out, page, ReportRequest(START, end))
    scopion = (sys.executable, "-m", "scopion")
    taken = in_turns(_RUNS, demo=process(*scopion, "demo"), version=process(*scopion, "--version"))
    commands = _told_commands()
    name = f"demo, {commands} commands, the whole process"
    yield beside(name, taken["demo"], commands * taken["version"], 4, what="so many starts")


def _told_commands() -> int:
    """Return how many commands the story runs, up to its told end."""
    moments = load_scene(SCENE).moments
    end = next(number for number, moment in enumerate(moments) if moment.last)
    return sum(len(moment.steps) for moment in moments[: end + 1])


def _drawn(folder: Path, out: Path, page: Path, wish: ReportRequest) -> Iterator[Figure]:
    """The size of the page, and each figure of that year, the slowest told; the first draws what all of them need."""
    site = Site(folder)
    made = report(site, wish)
    site.close()
    tables = json.dumps({name: list(table.rows(made)) for name, table in TABLES.items()}, default=str)
    yield beside("its page", page.stat().st_size / 1e6, len(tables) / 1e6, 2, what="its tables as JSON", unit="MB")
    draw(made, FIGURES[0], out / "first.png")
    taken = {}
    for name in FIGURES:
        for form in ("png", "svg"):
            began = time.perf_counter()
            draw(made, name, out / f"{name}.{form}")
            taken[f"{name}.{form}"] = time.perf_counter() - began
    slowest = max(taken, key=lambda name: taken[name])
    figure, kind = slowest.split(".")
    drawing = figure_of(made, figure)
    again = in_turns(
        _RUNS,
        ours=timed(lambda: draw(made, figure, out / slowest)),
        floor=timed(lambda: _empty(out / f"empty.{kind}", drawing)),
    )
    name, what = "the slowest figure of that year", "empty axes as large, saved"
    yield beside(name, again["ours"], again["floor"], 8, what=what, more=slowest)


def _empty(path: Path, like: Drawing) -> None:
    """The yardstick: a figure of the same size with nothing on its axes."""
    empty = Drawing(figsize=(like.get_figwidth(), like.get_figheight()), dpi=like.dpi, layout="constrained")
    empty.subplots()
    empty.savefig(path)
