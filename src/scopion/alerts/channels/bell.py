"""The bell of the terminal in which the site is watched."""

from __future__ import annotations

import sys

from scopion.alerts.channels.channel import DeliveryFailed, Trace
from scopion.alerts.message import Message

_BELL = "\a"


class BellChannel:
    """Rings on the process's standard error; a bell a minute late is useless.

    The live view replaces ``sys.stderr`` by a stream that removes control characters: the bell avoids that stream.
    """

    lasts_s: float | None = 60.0

    def deliver(self, message: Message, trace: Trace) -> None:
        """Ring once. Raises DeliveryFailed if there is no terminal."""
        terminal = sys.__stderr__
        if terminal is None or not terminal.isatty():
            raise DeliveryFailed("there is no terminal whose bell could ring", permanent=True)
        terminal.write(_BELL)
        terminal.flush()
        trace("the bell was rung")
