"""The part of the watch that keeps a record of itself in the roster: at its beginning, at each change, at its end."""

from __future__ import annotations

import os
import socket
from dataclasses import replace
from datetime import datetime

from scopion import __version__
from scopion.model.text import clean
from scopion.roster.watch_record import Trouble, WatchRecord, keep_watch_record
from scopion.watching.watch_context import WatchContext

# A telephone that is turned away tries for ever: the counts are not written each time.
_ATTEMPTS_EVERY_S = 60.0


class Recording:
    """Writes the record when something in it is another; between, nothing is written."""

    def __init__(self, context: WatchContext, *, raw_frames: bool, once: bool, service: bool) -> None:
        self._context = context
        self._since: dict[str, tuple[str, datetime]] = {}  # the troubles: what each is, and since when
        self._kept: WatchRecord | None = None
        self._attempts_at = 0.0  # when other counts of attempts are worth writing
        self._record = WatchRecord(
            process=os.getpid(),
            host=clean(socket.gethostname(), 64),
            account=_account(),
            version=__version__,
            since=context.clock.now(),
            raw_frames=raw_frames,
            service=service,
            once=once,
            terminal=context.memory.terminal,
        )

    def wake_at(self) -> float:
        """Return when something is due next: never by itself."""
        return float("inf")

    def turn(self, now: float) -> None:
        """Write the record, if anything in it has changed."""
        record = self._current()
        if self._kept is not None and record.attempts != self._kept.attempts:
            if now < self._attempts_at:
                record = replace(record, attempts=self._kept.attempts)
            else:
                self._attempts_at = now + _ATTEMPTS_EVERY_S
        self._keep(record)

    def end(self) -> None:
        """Note that the watch ended properly."""
        with self._context.doing("keeping the watch's record"):
            self._keep(replace(self._current(), ended=self._context.clock.now()))

    def _current(self) -> WatchRecord:
        context, now = self._context, self._context.clock.now()
        for doing in self._since.keys() - context.troubles.keys():
            del self._since[doing]
        for doing, problem in context.troubles.items():
            if self._since.get(doing, ("", now))[0] != problem:
                self._since[doing] = problem, now
        troubles = tuple(Trouble(doing, problem, since) for doing, (problem, since) in self._since.items())
        return replace(
            self._record, troubles=troubles, enforcers=dict(context.readings), attempts=dict(context.attempts)
        )

    def _keep(self, record: WatchRecord) -> None:
        if record != self._kept:
            keep_watch_record(self._context.site.roster, record)
            self._kept = record


def _account() -> str:
    """Return the name of the account whose rights the watch has; its number if it has no name."""
    try:
        import pwd

        return clean(pwd.getpwuid(os.geteuid()).pw_name, 40)
    except (ImportError, KeyError):
        return str(os.geteuid()) if hasattr(os, "geteuid") else ""
