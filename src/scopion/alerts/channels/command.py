"""A program of the user: its arguments are a list and never go through a shell; it gets the alert as JSON."""

from __future__ import annotations

import json
from pathlib import Path

from scopion.alerts.alert_settings import CommandSettings
from scopion.alerts.channels.channel import DeliveryFailed, Trace
from scopion.alerts.channels.run_program import rights_of, run_program
from scopion.alerts.message import Message

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
        if (account := rights_of(self._folder)) is not None:
            trace(f"with the rights of account {account}, which owns site.toml")
        given = json.dumps(message.document()).encode() + b"\n"
        ended = run_program(settings.command, self._folder, settings.timeout_s, given=given)
        if ended.code:
            raise DeliveryFailed(
                f"{program} ended with {ended.code}" + (f": {ended.said}" if ended.said else ""),
                permanent=ended.code == _NOT_AGAIN,
            )
        trace(f"{program} ended well")
