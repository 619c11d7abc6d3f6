"""Looking back: a report on a year of a site with 250 devices, its page, and its figures; the whole story told."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

from benchmarks.figure import Figure
from benchmarks.remembering import DAYS_OF_A_YEAR, START, make_year, process_seconds, seconds_after_the_start
from scopion.cli.report import FIGURES
from scopion.operations.report import Wish, report
from scopion.operations.site import Site
from scopion.reports.figures import draw

_RUNS = 3


def measure() -> Iterator[Figure]:
    """In a folder of its own."""
    with tempfile.TemporaryDirectory(prefix="scopion-bench-") as holder:
        folder, out = Path(holder) / "year", Path(holder) / "out"
        out.mkdir()
        make_year(folder)
        end = START + timedelta(days=DAYS_OF_A_YEAR)
        period = ("--since", START.strftime("%Y-%m-%d"), "--until", end.strftime("%Y-%m-%dT%H:%M:%SZ"))
        page = out / "page.html"
        seconds = seconds_after_the_start(folder, "report", *period, "--html", str(page), runs=_RUNS)
        yield Figure("report on a year of 250 devices, as a page, after the start", seconds, "s", 5.0)
        yield Figure("its page", page.stat().st_size / 1e6, "MB", 2.0)
        yield from _figures(folder, out, Wish(START, end))
    yield Figure("demo, the whole process", min(process_seconds("demo") for _ in range(_RUNS)), "s", 20.0)


def _figures(folder: Path, out: Path, wish: Wish) -> Iterator[Figure]:
    """Each figure of that year, the slowest told; the first draws what all of them need."""
    site = Site(folder)
    made = report(site, wish)
    site.close()
    draw(made, FIGURES[0], out / "first.png")
    taken = {}
    for name in FIGURES:
        for form in ("png", "svg"):
            began = time.perf_counter()
            draw(made, name, out / f"{name}.{form}")
            taken[f"{name}.{form}"] = time.perf_counter() - began
    slowest = max(taken, key=lambda name: taken[name])
    yield Figure("the slowest figure of that year", taken[slowest], "s", 1.0, detail=slowest)
