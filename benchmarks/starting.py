"""How soon the program starts, beside the time of ``python -c "import click"``."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from benchmarks.figure import Figure, beside, in_turns, process

PROGRAM = str(Path(sys.executable).with_name("scopion"))
RUNS = 25


def measure() -> Iterator[Figure]:
    """The version and one vendor."""
    taken = in_turns(
        RUNS,
        click=process(sys.executable, "-c", "import click"),
        version=process(PROGRAM, "--version"),
        vendor=process(PROGRAM, "vendor", "28:6f:b9:00:00:01"),
    )
    yield beside("scopion --version", taken["version"], taken["click"], 1.6, what="import click")
    yield beside("scopion vendor MAC", taken["vendor"], taken["click"], 2.0, what="import click")
