"""``scopion watch``."""

from __future__ import annotations

import logging
import sys

import click

from scopion.cli.parts.logged import Logged
from scopion.cli.parts.options import SpanParam
from scopion.cli.parts.session import Session, pass_session
from scopion.model.errors import CheckNotMet


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
        with Logged(session):
            well = run_watch(session.site, order)
    if once and not well:
        raise CheckNotMet("not everything went well: the log says what")
