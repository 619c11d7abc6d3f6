"""Takes pushes back that no person keeps: finds the process that will do it, after the command that pushed has ended.

The watch does, if one runs; else a small process of its own, detached from the terminal and from the connection of the
command, so that it goes on when both are cut. The deadline itself is in the roster.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

from scopion.model.errors import Refused, ScopionError
from scopion.operations.folder.take_turns import watching_process
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.revert_push import revert_overdue
from scopion.roster.wifi.pushes import with_deadline
from scopion.watching.service.check_access import program_path

READY = "ready"
_READY_S = 20.0
_LOOK_EVERY_S = 0.5
# It waits this long for the push that is being made; one over SSH to a slow router takes half a minute.
_FOR_A_PUSH_S = 180.0
# An enforcer that cannot be reached is tried again; after a day a person has been there.
_TRY_AGAIN_S, _GIVE_UP_S = 5.0, 86_400.0


def require_reverter(site: Site, span_s: float) -> str:
    """Return who will take a push back after this time, in words. Raises Refused if no process can."""
    if site.story is not None:
        return "the next command or watch of the made-up site whose clock is past it"
    watcher = watching_process(site.folder)
    if watcher is not None:
        return f"the watch, process {watcher}"
    return f"process {_detached(site)}"


def _detached(site: Site) -> int:
    if os.name != "posix":
        raise Refused("--revert-after needs a watch here, because no process can be left behind: scopion watch first")
    command = [str(program_path()), "--site", str(site.folder.absolute()), "wifi", "revert", "--when-due"]
    try:
        process = subprocess.Popen(
            command,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=True,  # it goes on when the terminal closes
            cwd="/",
            text=True,
        )
    except OSError as error:
        raise Refused(f"--revert-after needs a process of its own, which cannot be started: {error}") from None
    assert process.stdout is not None
    os.set_blocking(process.stdout.fileno(), False)
    deadline = time.monotonic() + _READY_S
    while time.monotonic() < deadline and process.poll() is None:
        if (process.stdout.readline() or "").strip() == READY:
            process.stdout.close()
            return process.pid
        time.sleep(0.05)
    process.kill()
    process.wait()
    process.stdout.close()
    raise Refused(
        "--revert-after needs a process of its own, which did not get ready in time: scopion watch can do it, too"
    )


def wait_and_revert(site: Site) -> None:
    """Wait until nothing is left to be taken back. This runs in the process that is left behind."""
    if hasattr(signal, "SIGHUP"):
        signal.signal(signal.SIGHUP, signal.SIG_IGN)
    _ = site.roster, site.settings  # their errors are told now, to the command that waits for us to be ready
    sys.stdout.write(f"{READY}\n")
    sys.stdout.flush()
    sys.stdout.close()
    sys.stdout = Path(os.devnull).open("w", encoding="utf-8")  # noqa: SIM115 - for the rest of the process
    began, seen, failing_since = time.monotonic(), False, None
    while True:
        waiting = bool(with_deadline(site.roster))
        seen = seen or waiting
        if not waiting and (seen or time.monotonic() - began > _FOR_A_PUSH_S):
            return
        if watching_process(site.folder) is None and any(problem for *_, problem in _taken_back(site)):
            failing_since = failing_since or time.monotonic()
            if time.monotonic() - failing_since > _GIVE_UP_S:
                return
            time.sleep(_TRY_AGAIN_S)
        time.sleep(_LOOK_EVERY_S)


def _taken_back(site: Site) -> list[tuple[object, object, str]]:
    try:
        return [(each, done, problem) for each, done, problem in revert_overdue(site)]
    except ScopionError as error:
        return [(None, None, str(error))]
