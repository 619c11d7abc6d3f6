"""Runs the benchmarks and prints one line a figure: what, the measurement, the hold, and whether it is kept."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator

from benchmarks import (
    answering,
    large,
    listening,
    one_step,
    remembering,
    reporting,
    round_trips,
    scanning,
    sensing,
    sensing_live,
    starting,
    vendors,
    watching,
    wires,
)
from benchmarks.figure import Figure

BENCHMARKS: dict[str, Callable[[], Iterator[Figure]]] = {
    "start": starting.measure,
    "vendor": vendors.measure,
    "scan": scanning.measure,
    "listen": listening.measure,
    "large": large.measure,
    "remember": remembering.measure,
    "one-step": one_step.measure,
    "round-trips": round_trips.measure,
    "radius": answering.measure,
    "sensors": sensing.measure,
    "sensors-live": sensing_live.measure,
    "wires": wires.measure,
    "report": reporting.measure,
    "watch": watching.measure,
}


def main() -> int:
    """Run those that are asked for, or all; 1 if a hold is broken."""
    wanted = sys.argv[1:] or list(BENCHMARKS)
    broken = 0
    for name in wanted:
        for figure in BENCHMARKS[name]():
            print(figure, flush=True)
            broken += not figure.kept
    return 1 if broken else 0


if __name__ == "__main__":
    sys.exit(main())
