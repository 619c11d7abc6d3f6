"""``scopion watch``."""

from __future__ import annotations

import logging
import sys

import click

from scopion.cli.parts.options import SpanParam
from scopion.cli.parts.session import Session, pass_session
from scopion.model.clock import Clock
from scopion.model.errors import CheckNotMet
from scopion.model.text import plain

# The numbers that tell the service manager's journal how bad a line is (sd-daemon(3)).
_JOURNAL = {logging.DEBUG: 7, logging.INFO: 6, logging.WARNING: 4, logging.ERROR: 3, logging.CRITICAL: 2}


@click.command()
@click.option("--once", is_flag=True, help="Run one round - sweep, read, send alerts - and end: for cron.")
@click.option("--for", "for_s", type=SpanParam(), metavar="TIME", help="End after that, as 90s, 12h or 14d.")
@click.option("--log", "plain", is_flag=True, help="Show log lines in a terminal, too, instead of the live view.")
@pass_session
def watch(session: Session, once: bool, for_s: float | None, plain: bool) -> None:
    """Watch the site: sweep, listen, alert, until stopped.

    In a terminal it shows the devices that are here and what has happened; elsewhere it writes a log to standard error.
    Where raw frames are permitted, a device that joins is noticed at its first frame. Ctrl-C ends the watch; SIGHUP
    reads site.toml again.
    """
    if sys.platform == "win32":
        raise click.UsageError("the watch needs Linux or another Unix; scopion scan works here")
    from scopion.watching.run_watch import WatchOptions, run_watch

    live = sys.stderr.isatty() and not plain and not once
    order = WatchOptions(once=once, for_s=for_s, terminal=sys.stderr.isatty())
    if live:
        from scopion.cli.tell.watch_view import WatchView

        logging.getLogger("scopion").addHandler(logging.NullHandler())  # the view shows what matters
        with WatchView(session) as view:
            well = run_watch(session.site, order, view.on_turn)
    else:
        with _Logged(session):
            well = run_watch(session.site, order)
    if once and not well:
        raise CheckNotMet("not everything went well: the log says what")


class _Logged:
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
