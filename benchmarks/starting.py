"""How soon the program starts, beside the time of ``python -c "import click"`` in the same run."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

from benchmarks.figure import Figure

PROGRAM = str(Path(sys.executable).with_name("scopion"))
RUNS = 25


def measure() -> Iterator[Figure]:
    """The version and one vendor, interleaved with the yardstick so that all meet the same machine."""
    commands = {
        "click": [sys.executable, "-c", "import click"],
        "version": [PROGRAM, "--version"],
        "vendor": [PROGRAM, "vendor", "28:6f:b9:00:00:01"],
    }
    best = dict.fromkeys(commands, float("inf"))
    for _ in range(RUNS):
        for name, command in commands.items():
            best[name] = min(best[name], _seconds(command))
    yardstick = best["click"]
    detail = f"import click: {yardstick * 1000:.0f} ms"
    yield Figure("scopion --version / import click", best["version"] / yardstick, "x", 1.6, detail=detail)
    yield Figure("scopion vendor MAC / import click", best["vendor"] / yardstick, "x", 2.0, detail=detail)


def _seconds(command: Sequence[str]) -> float:
    began = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - began
