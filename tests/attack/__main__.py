"""``make attack``: all of it, half an hour or more on two cores; ``python -m tests.attack SHARE [SEED]`` for a part."""

from __future__ import annotations

import random
import sys
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor

from tests.attack import inputs, kills, replies, rosters

_ALL: tuple[tuple[str, Callable[[int, int], dict[str, int]], int, int], ...] = (
    # what, how, how many in all, in how many processes
    ("mutated inputs", inputs.attack, 10_000_000, 4),
    ("replies", replies.attack, 1_000_000, 2),
    ("kills and as many interrupts", kills.attack, 500, 2),
    ("damaged rosters", rosters.attack, 500, 2),
)


def main() -> int:
    """Run everything; the exit code."""
    share = float(sys.argv[1]) if len(sys.argv) > 1 else 1.0
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else random.randrange(10**6)
    print(f"seed {seed}", flush=True)
    failed = 0
    with ProcessPoolExecutor(2) as pool:
        began = time.monotonic()
        started = [
            (what, [pool.submit(_measured, how, max(1, round(count * share / parts)), seed + n) for n in range(parts)])
            for what, how, count, parts in _ALL
        ]
        for what, runs in started:
            came: dict[str, int] = {}
            peak = 0
            for run in runs:
                try:
                    counts, used = run.result()
                except Exception as error:
                    failed = 1
                    print(f"{what}: FAILED: {type(error).__name__}: {str(error)[:2000]}", flush=True)
                    continue
                peak = max(peak, used)
                for name, number in counts.items():
                    came[name] = came.get(name, 0) + number
            told = ", ".join(f"{name} {number:,}" for name, number in sorted(came.items()))
            print(f"{what}: {told}; peak {peak >> 10} MB; {(time.monotonic() - began) / 60:.0f} min", flush=True)
    return failed


def _measured(how: Callable[[int, int], dict[str, int]], count: int, seed: int) -> tuple[dict[str, int], int]:
    """What came of a part, and the most memory that its process has had, in KB."""
    import resource

    return how(count, seed), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss


if __name__ == "__main__":
    sys.exit(main())
