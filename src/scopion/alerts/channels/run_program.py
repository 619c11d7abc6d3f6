"""Runs a program of this machine for a channel: without a shell, within a time, with the rights of the site's owner."""

from __future__ import annotations

import os
import signal
import subprocess
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from scopion.alerts.channels.channel import DeliveryFailed
from scopion.model.errors import Refused
from scopion.model.text import clean
from scopion.roster.store.owner_rights import bound_to, home_of, within_rights

_SAID = 200
# The program does not get our secrets from the environment.
_HANDED_DOWN = ("PATH", "HOME", "LANG", "TZ", "USER")


@dataclass(frozen=True, slots=True)
class Ended:
    """How a program ended."""

    code: int
    said: str  # the beginning of its standard error


def rights_of(folder: Path) -> int | None:
    """Return the account within whose rights a program is run, which owns ``site.toml``; None: this process's own."""
    try:
        return bound_to(folder)
    except Refused as error:
        raise DeliveryFailed(str(error)) from None


def run_program(
    command: Sequence[str], folder: Path, timeout_s: float, *, given: bytes = b"", also: Sequence[str] = ()
) -> Ended:
    """Run a program in the site's folder to its end; ``also``: more variables of the environment that it gets.

    Raises DeliveryFailed if it cannot be run or takes too long; then everything that it has started is ended.
    """
    program, account = command[0], rights_of(folder)
    environment = {key: os.environ[key] for key in (*_HANDED_DOWN, *also) if key in os.environ}
    if account is not None:
        environment.pop("USER", None)
        environment["HOME"] = home_of(account)
    try:
        running = subprocess.Popen(
            command,
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            cwd=folder,
            env=environment,
            start_new_session=True,
            **within_rights(account),
        )
    except FileNotFoundError:
        raise DeliveryFailed(f"there is no program {program}: write its whole path") from None
    except OSError as error:
        raise DeliveryFailed(f"{program} cannot be run: {error.strerror}") from None
    try:
        _, said = running.communicate(given, timeout_s)
    except subprocess.TimeoutExpired:
        raise DeliveryFailed(f"{program} had not ended after {timeout_s:g} seconds and was stopped") from None
    finally:
        _end(running)
    return Ended(running.returncode, clean(said.decode("utf-8", "replace"), _SAID))


def _end(running: subprocess.Popen[bytes]) -> None:
    """End it with everything that it has started: they are a session of their own."""
    if running.poll() is None:
        with suppress(ProcessLookupError):
            os.killpg(running.pid, signal.SIGKILL)
        running.wait()
    for stream in (running.stdin, running.stderr):
        if stream is not None:
            stream.close()
