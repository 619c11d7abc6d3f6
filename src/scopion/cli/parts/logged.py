"""Log lines of what runs for long, on standard error: for people, or for the system's journal."""

from __future__ import annotations

import logging
import sys

from scopion.cli.parts.session import Session
from scopion.model.clock import Clock
from scopion.model.text import plain

# The numbers that tell the service manager's journal how bad a line is (sd-daemon(3)).
_JOURNAL = {logging.DEBUG: 7, logging.INFO: 6, logging.WARNING: 4, logging.ERROR: 3, logging.CRITICAL: 2}


class Logged:
    """Writes log lines to standard error, for the journal or for people."""

    def __init__(self, session: Session) -> None:
        from scopion.watching.run_watch import is_service

        self._level = logging.DEBUG if session.verbose else logging.WARNING if session.quiet else logging.INFO
        self._handler = logging.StreamHandler(sys.stderr)
        self._handler.setFormatter(_JournalLines() if is_service() else _Lines(session.site.clock))
        self._before: int = logging.NOTSET

    def __enter__(self) -> None:
        root = logging.getLogger("scopion")
        self._before = root.level
        root.setLevel(self._level)
        root.addHandler(self._handler)

    def __exit__(self, *_: object) -> None:
        root = logging.getLogger("scopion")
        root.removeHandler(self._handler)
        root.setLevel(self._before)


class _Lines(logging.Formatter):
    """For people: the time at the site, which on a made-up one is the story's; only unusual levels are marked."""

    def __init__(self, clock: Clock) -> None:
        super().__init__()
        self._clock = clock

    def format(self, record: logging.LogRecord) -> str:
        marked = f"{record.levelname.lower()}: " if record.levelno > logging.INFO else ""
        return f"{self._clock.local(self._clock.now()):%Y-%m-%d %H:%M:%S}  {marked}{plain(record.getMessage())}"


class _JournalLines(logging.Formatter):
    """For the journal: it knows the time, and takes a number for how bad a line is."""

    def format(self, record: logging.LogRecord) -> str:
        return f"<{_JOURNAL.get(record.levelno, 6)}>{plain(record.getMessage())}"
