"""How soon the program starts, beside the time of ``python -c "import click"``."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from benchmarks.figure import Figure, beside, in_turns, process
from benchmarks.remembering import one_device

PROGRAM = str(Path(sys.executable).with_name("scopion"))
RUNS = 25


def measure() -> Iterator[Figure]:
    """Measure the version, one vendor, and a site with one device."""
    with one_device() as site:
        taken = in_turns(
            RUNS,
            click=process(sys.executable, "-c", "import click"),
            version=process(PROGRAM, "--version"),
            vendor=process(PROGRAM, "vendor", "28:6f:b9:00:00:01"),
            devices=process(PROGRAM, "--site", str(site), "devices"),
        )
    yield beside("scopion --version", taken["version"], taken["click"], 1.6, what="import click")
    yield beside("scopion vendor MAC", taken["vendor"], taken["click"], 2.0, what="import click")
    yield beside("scopion devices, of one", taken["devices"], taken["click"], 3.0, what="import click")
