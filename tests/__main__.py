"""All tests, in two shares side by side: the lab waits for packets most of its time, the others compute.

Each share is a process of its own; the whole fails if either does. The lab, which takes longer, is watched as it runs;
what the other said is shown after it.
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
    lab, others = (
        sorted(name for name in names if name.startswith("tests.lab.") is of_the_lab) for of_the_lab in (True, False)
    )
    with tempfile.TemporaryFile("w+", encoding="utf-8") as told:
        second = _begin(others, told)
        codes = [_begin(lab).wait(), second.wait()]
        told.seek(0)
        sys.stderr.write(told.read())
    return int(any(codes))


def _begin(share: list[str], told: IO[str] | None = None) -> subprocess.Popen[str]:
    if not share:
        raise SystemExit("no test modules: run this from the whole project")
    return subprocess.Popen([sys.executable, "-m", "unittest", *share], cwd=ROOT, stdout=told, stderr=told, text=True)


if __name__ == "__main__":
    sys.exit(main())
