"""A program of the user: its arguments are a list and never go through a shell; it gets the alert as JSON."""

from __future__ import annotations

import json
import os
import signal
import subprocess
from contextlib import suppress
from pathlib import Path

from scopion.alerts.alert_settings import CommandSettings
from scopion.alerts.channels.channel import DeliveryFailed, Trace
from scopion.alerts.message import Message
from scopion.model.errors import Refused
from scopion.model.text import clean
from scopion.roster.store.owner_rights import bound_to, home_of, within_rights

_SAID = 200
_NOT_AGAIN = 65  # EX_DATAERR of sysexits(3): the program rejects this message for good


class CommandChannel:
    """Runs one program for each message."""

    lasts_s = None

    def __init__(self, settings: CommandSettings, folder: Path) -> None:
        self._settings = settings
        self._folder = folder

    def deliver(self, message: Message, trace: Trace) -> None:
        """Run it to its end. Raises DeliveryFailed if it fails or takes too long."""
        settings = self._settings
        program = settings.command[0]
        trace(f"running {program} with {len(settings.command) - 1} arguments, the alert as JSON on its standard input")
        # The program does not get our secrets from the environment.
        environment = {key: os.environ[key] for key in ("PATH", "HOME", "LANG", "TZ", "USER") if key in os.environ}
        account = _bound_to(self._folder)
        if account is not None:
            environment.pop("USER", None)
            environment["HOME"] = home_of(account)
            trace(f"with the rights of account {account}, which owns site.toml")
        try:
            running = subprocess.Popen(
                settings.command,
                stdin=subprocess.PIPE,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE,
                cwd=self._folder,
                env=environment,
                start_new_session=True,
                **within_rights(account),
            )
        except FileNotFoundError:
            raise DeliveryFailed(f"there is no program {program}: write its whole path") from None
        except OSError as error:
            raise DeliveryFailed(f"{program} cannot be run: {error.strerror}") from None
        try:
            _, said = running.communicate(json.dumps(message.document()).encode() + b"\n", settings.timeout_s)
        except subprocess.TimeoutExpired:
            raise DeliveryFailed(
                f"{program} had not ended after {settings.timeout_s:g} seconds and was stopped"
            ) from None
        finally:
            _end(running)
        if running.returncode:
            words = clean(said.decode("utf-8", "replace"), _SAID)
            raise DeliveryFailed(
                f"{program} ended with {running.returncode}" + (f": {words}" if words else ""),
                permanent=running.returncode == _NOT_AGAIN,
            )
        trace(f"{program} ended well")


def _bound_to(folder: Path) -> int | None:
    try:
        return bound_to(folder)
    except Refused as error:
        raise DeliveryFailed(str(error)) from None


def _end(running: subprocess.Popen[bytes]) -> None:
    """End it with everything that it has started: they are a session of their own."""
    if running.poll() is None:
        with suppress(ProcessLookupError):
            os.killpg(running.pid, signal.SIGKILL)
        running.wait()
    for stream in (running.stdin, running.stderr):
        if stream is not None:
            stream.close()
