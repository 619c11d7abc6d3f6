"""All checks: the lab, which waits for packets most of its time, and beside it lint and the others, which compute.

The lab is a process of its own and comes first: it makes promises in seconds, so the others run with less priority. The
whole fails if any does. The lab is watched as it runs; what the others said is shown after it.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from threading import Event

ROOT = Path(__file__).parent.parent
# Three of the others at a time, of which one waits most of its time, too; when the lab has ended, four.
BESIDE, AFTER = 3, 4
# The patient ones are real machines with timeouts, so they go before what only computes.
PATIENT_NICENESS, NICENESS = 5, 10
FOLDERS = "attack core program roster watch wifi wires".split()  # beside the lab
# Files of the lab that promise nothing in seconds: they have labs of their own, and need no quiet.
PATIENT = {
    "test_comings.py", "test_enforcers.py", "test_first_steps.py", "test_killed.py", "test_orders.py", "test_page.py",
    "test_radius.py", "test_sensors_killed.py", "test_service_manager.py", "test_shared_folder.py", "test_switches.py",
}  # fmt: skip
# What takes long, whatever its size: it waits for downloads, or plays weeks.
LONG = {"test_packaging.py", "test_fortnight.py", "test_docs.py", "test_taken_on.py"}
# The air is booted once for all its tests, so that they are one process.
AIR = "tests.air"


def main() -> int:
    """Run everything; returns the exit code of the whole."""
    # In the background of a shell interrupts are ignored, and by all children, too; some tests interrupt theirs.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    patient = sorted(path for folder in ("lab", "wires") for path in ROOT.glob(f"tests/{folder}/test_*.py"))
    patient = [path for path in patient if path.name in PATIENT]
    lab = [path for path in sorted(ROOT.glob("tests/lab/test_*.py")) if path not in patient]
    # The long ones first, so that none is left over at the end, then the large ones.
    rest = [path for folder in FOLDERS for path in ROOT.glob(f"tests/{folder}/test_*.py") if path not in patient]
    rest.sort(key=lambda path: (path.name not in LONG, -path.stat().st_size))
    others = [*patient, *rest]
    if not lab or not others:
        raise SystemExit("no test modules: run this from the whole project")
    lab_has_ended = Event()
    with ThreadPoolExecutor(AFTER) as workers:
        for _ in range(AFTER - BESIDE):
            workers.submit(lab_has_ended.wait)
        # Style and types first: they take a core for a while, and the lab leaves one.
        beside = [workers.submit(_run_beside, "lint", NICENESS, ["make", "lint"])]
        beside.append(workers.submit(_run_beside, "air", PATIENT_NICENESS, [sys.executable, "-m", AIR]))
        for path in others:
            niceness = PATIENT_NICENESS if path in patient else NICENESS
            beside.append(workers.submit(_run_beside, path.name, niceness, _command([path])))
        try:
            codes = [subprocess.run(_command(lab), cwd=ROOT, check=False).returncode]
        finally:
            lab_has_ended.set()
        for each in beside:
            ended = each.result()
            sys.stderr.write(f"{ended.stdout}{ended.stderr}")
            codes.append(ended.returncode)
    return int(any(codes))


def _run_beside(name: str, niceness: int, command: list[str]) -> subprocess.CompletedProcess[str]:
    ended = subprocess.run(
        command, cwd=ROOT, check=False, capture_output=True, text=True, preexec_fn=lambda: os.nice(niceness)
    )
    ended.stderr = f"{name}: {ended.stderr.strip()}\n"
    return ended


def _command(paths: list[Path]) -> list[str]:
    names = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in paths]
    return [sys.executable, "-m", "unittest", *names]


if __name__ == "__main__":
    sys.exit(main())
