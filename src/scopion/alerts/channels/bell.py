"""The bell of the terminal in which the site is watched."""

from __future__ import annotations

import sys

from scopion.alerts.channels.base import DeliveryFailed, Trace
from scopion.alerts.message import Message

_BELL = "\a"


class BellChannel:
    """Rings on standard error, which the live view uses as well; a bell a minute late tells nothing."""

    lasts_s: float | None = 60.0

    def deliver(self, message: Message, trace: Trace) -> None:
        """Ring once. Raises DeliveryFailed where there is no terminal."""
        if not sys.stderr.isatty():
            raise DeliveryFailed("there is no terminal whose bell could ring", permanent=True)
        sys.stderr.write(_BELL)
        sys.stderr.flush()
        trace("the bell was rung")
