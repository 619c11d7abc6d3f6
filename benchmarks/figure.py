"""One measured figure beside what it has to hold: mostly how many times as much as a bare piece of work, its floor.

Ours and the floor are measured in turns and their medians compared, so that both meet the same machine.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Figure:
    """A figure: at most ``hold`` is allowed, or at least, if ``least``."""

    name: str
    value: float
    unit: str
    hold: float
    least: bool = False
    detail: str = ""

    @property
    def kept(self) -> bool:
        """Tell whether the hold is kept."""
        return self.value >= self.hold if self.least else self.value <= self.hold

    def __str__(self) -> str:
        bound = "at least" if self.least else "at most"
        detail = f"  ({self.detail})" if self.detail else ""
        mark = "ok  " if self.kept else "MISS"
        return f"{mark}  {self.name:<58} {self.value:>12,.3g} {self.unit:<4} {bound} {self.hold:,g}{detail}"


def beside(name: str, ours: float, floor: float, hold: float, *, what: str, unit: str = "s", more: str = "") -> Figure:
    """Return how many times as long as the floor it takes; ``what`` says what the floor is."""
    detail = f"{ours:,.3g} {unit}; {what}: {floor:,.3g} {unit}"
    return Figure(name, ours / floor, "x", hold, detail=f"{detail}; {more}" if more else detail)


def in_turns(runs: int, **work: Callable[[], float]) -> dict[str, float]:
    """Return the median of what each measurement returned."""
    found: dict[str, list[float]] = {name: [] for name in work}
    for _ in range(runs):
        for name, measure in work.items():
            found[name].append(measure())
    return {name: statistics.median(values) for name, values in found.items()}


def timed(work: Callable[[], object]) -> Callable[[], float]:
    """Return a measurement of the seconds that a piece of work takes."""

    def measure() -> float:
        began = time.perf_counter()
        work()
        return time.perf_counter() - began

    return measure


def process(*command: str) -> Callable[[], float]:
    """Return a measurement of the seconds that a process takes, from its start to its end."""
    return timed(lambda: run(command))


def resident_at_most(process_number: int | str = "self", key: str = "VmHWM") -> float:
    """Return the megabytes that a process has taken at most, by the kernel's own count for it, without its parent's."""
    status = Path(f"/proc/{process_number}/status").read_text(encoding="ascii")
    return int(status.split(f"{key}:")[1].split()[0]) / 1000


def processor_time(process_number: int) -> float:
    """Return the seconds of processor time that a process has taken so far."""
    fields = Path(f"/proc/{process_number}/stat").read_text(encoding="ascii").rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def run(command: Sequence[str]) -> None:
    """Run a process to its end and drop what it prints."""
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
