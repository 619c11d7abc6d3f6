"""``status`` after a year of a site with 250 devices, and ``block`` on the made-up site, beside its verifying scan."""

from __future__ import annotations

import io
import os
import shutil
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing, redirect_stdout
from functools import partial
from pathlib import Path

from benchmarks import bare_rows
from benchmarks.figure import Figure, beside, in_turns, run, timed
from benchmarks.remembering import copy_year
from benchmarks.starting import PROGRAM
from scopion.operations.report.gather_status import gather_status
from scopion.operations.site.open_site import Site
from scopion.reports.status_lines import status_lines
from scopion.roster.store.open_roster import FILE

RUNS = 9


def measure() -> Iterator[Figure]:
    """Measure in folders of their own."""
    with tempfile.TemporaryDirectory(prefix="scopion-bench-") as folder:
        year = Path(folder) / "year"
        copy_year(year)
        yield status_beside(year)
        yield from _block(Path(folder))


def status_beside(year: Path) -> Figure:
    """What ``status`` does after its start: one reading of the roster, into lines; beside the bare reading."""
    taken = in_turns(RUNS, ours=timed(partial(_status, year)), floor=timed(partial(_bare, year)))
    name = "status after a year of 250 devices, without its start"
    return beside(name, taken["ours"], taken["floor"], 4, what="bare rows")


def _status(year: Path) -> None:
    site = Site(year)
    print(*status_lines(gather_status(site), site.clock.local), sep="\n", file=io.StringIO())
    site.close()


def _bare(year: Path) -> None:
    with redirect_stdout(io.StringIO()), closing(bare_rows.opened(str(year / FILE))) as db:
        bare_rows.status(db)


def _block(folder: Path) -> Iterator[Figure]:
    """From the key to "it works": the device's name to a list that the daemon holds, read back and verified."""
    site, used = folder / "site", folder / "used"
    os.environ["SCOPION_LIVE"] = "namespaces"
    run((PROGRAM, "demo", "--begin", str(site)))
    run((PROGRAM, "--site", str(site), "scan"))
    block = ("block", "192.0.2.90", "--ssid", "Kilnhaven", "--yes")
    taken = in_turns(RUNS, ours=partial(_seconds, site, used, block), scan=partial(_seconds, site, used, ("scan",)))
    more = f"{taken['ours']:.2f} s; a scan: {taken['scan']:.2f} s; both with their start, on the made-up site"
    yield Figure("block, beyond the verifying scan", taken["ours"] - taken["scan"], "s", 2, detail=more)


def _seconds(site: Path, used: Path, command: tuple[str, ...]) -> float:
    """Run a command on a fresh copy of a site. Returns the seconds that it took."""
    shutil.rmtree(used, ignore_errors=True)
    shutil.copytree(site, used)
    began = time.perf_counter()
    run((sys.executable, "-m", "scopion", "--site", str(used), *command))
    return time.perf_counter() - began
