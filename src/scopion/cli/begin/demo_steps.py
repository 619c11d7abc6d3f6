"""Runs the commands of the story: each as the real program in a process of its own.

Where the system can fork, the new process starts with what this one has loaded already, which saves its start-up time.
"""

from __future__ import annotations

import importlib
import os
import subprocess
import sys
from collections.abc import Iterable, Mapping
from pathlib import Path

from scopion.scenes.scene import StoryStep

# The account of every change: the page and the lists of the story show no other.
KEEPER = "keeper"
# On macOS a process that was forked may not use the system's own libraries.
_FORKS = hasattr(os, "fork") and sys.platform != "darwin"
# What most commands import while they run, and takes longest.
_NEEDED = (
    "dns.message", "jinja2", "scopion.operations.report.make_report", "scopion.operations.scan.run_scan",
    "scopion.operations.wifi.audit_networks", "scopion.operations.wifi.preview_push",
    "scopion.operations.wifi.verify_network", "scopion.watching.run_watch", "zxcvbn",
)  # fmt: skip


def environment_of(folder: Path) -> dict[str, str]:
    """Return the environment of a command of the story in a folder."""
    return {**os.environ, "SCOPION_SITE": str(folder.resolve()), "LOGNAME": KEEPER}


def run_shown(step: StoryStep, folder: Path, columns: int, pasted: str = "") -> int:
    """Run a command as a person would see it, and return its exit code. Its output goes to standard output.

    ``pasted`` is its standard input.
    """
    environment = {**environment_of(folder), "SCOPION_FORMAT": "table"}
    if not sys.stdout.isatty():
        environment.setdefault("COLUMNS", str(columns))
    sys.stdout.flush()
    if not _FORKS:
        command = [sys.executable, "-m", "scopion", *step.command]
        ended = subprocess.run(
            command, env=environment, cwd=folder, stderr=subprocess.STDOUT, check=False, input=pasted, text=True
        )
        return ended.returncode
    return _forked(step, folder, environment, sys.stdout.fileno(), pasted)


def run_quietly(step: StoryStep, folder: Path, *, shown: str = "", pasted: str = "") -> tuple[int, str]:
    """Run a command, and return its exit code and its output: as in a pipe, or as in a terminal of
    ``shown`` columns.
    """
    environment = environment_of(folder)
    if shown:
        environment |= {"SCOPION_FORMAT": "table", "COLUMNS": shown}
    if not _FORKS:
        command = [sys.executable, "-m", "scopion", *step.command]
        ended = subprocess.run(
            command, env=environment, cwd=folder, capture_output=True, text=True, check=False, input=pasted
        )
        return ended.returncode, ended.stderr
    import tempfile

    with tempfile.TemporaryFile("w+", errors="replace") as said:
        sys.stdout.flush()
        code = _forked(step, folder, environment, said.fileno(), pasted)
        said.seek(0)
        return code, said.read()


def warm_up(steps: Iterable[StoryStep]) -> None:
    """Load what the commands of some steps will need, once for all processes that are forked later."""
    from scopion.cli.main import FAMILIES
    from scopion.operations.site.load_settings import adapter

    adapter()
    names = {step.command[0] for step in steps}
    for family in FAMILIES.values():
        for name, entry in family.items():
            if name in names:
                importlib.import_module(f"scopion.cli.{entry.module}")
    for module in _NEEDED:
        importlib.import_module(module)


def _forked(step: StoryStep, folder: Path, environment: Mapping[str, str], output: int, pasted: str) -> int:
    child = os.fork()
    if child:
        return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    code = 1
    try:
        os.environ.clear()
        os.environ.update(environment)
        os.chdir(folder)
        _write_to(output)
        _read_from(pasted)
        from scopion.cli.main import main

        main(list(step.command))
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
    finally:
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        os._exit(code)


def _read_from(pasted: str) -> None:
    """Give this process a standard input: what was pasted, or nothing, so that no command waits for a person."""
    import tempfile

    with tempfile.TemporaryFile() as given:
        given.write(pasted.encode())
        given.seek(0)
        os.dup2(given.fileno(), 0)
    sys.stdin = os.fdopen(0, "r", encoding="utf-8", closefd=False)


def _write_to(output: int) -> None:
    """Make this process write to a stream, by new text streams: the old ones remember what they were opened on."""
    for number, name in ((1, "stdout"), (2, "stderr")):
        os.dup2(output, number)
        encoding = getattr(sys, name).encoding
        stream = os.fdopen(number, "w", encoding=encoding, errors="replace", closefd=False)
        stream.reconfigure(line_buffering=True)  # the two are read as one, in order
        setattr(sys, name, stream)
