"""All tests, in two shares side by side: the lab waits for packets most of its time, the others compute.

Each share is a process of its own and says what it did when it has ended; the whole fails if either does.
"""

from __future__ import annotations

import signal
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import IO

ROOT = Path(__file__).parent.parent


def main() -> int:
    """Run both; returns the exit code of the whole."""
    # In the background of a shell interrupts are ignored, and by all children, too; some tests interrupt theirs.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    names = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in ROOT.glob("tests/**/test_*.py")]
    shares = [
        sorted(name for name in names if name.startswith("tests.lab.") is of_the_lab) for of_the_lab in (True, False)
    ]
    begun = [_begin(share) for share in shares]
    failed = False
    for process, told in begun:
        failed |= process.wait() != 0
        told.seek(0)
        sys.stderr.write(told.read())
    return int(failed)


def _begin(share: list[str]) -> tuple[subprocess.Popen[str], IO[str]]:
    if not share:
        raise SystemExit("no test modules: run this from the whole project")
    told = tempfile.TemporaryFile("w+", encoding="utf-8")  # noqa: SIM115 - it outlives this function, until it is read
    command = [sys.executable, "-m", "unittest", *share]
    return subprocess.Popen(command, cwd=ROOT, stdout=told, stderr=told, text=True), told


if __name__ == "__main__":
    sys.exit(main())
