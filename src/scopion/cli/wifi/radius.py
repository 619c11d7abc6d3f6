"""``scopion wifi radius``: lists that access points ask for by RADIUS: the server, its log, a test, and the sheet."""

from __future__ import annotations

import sys

import click

from scopion.cli.parts.families import Family
from scopion.cli.parts.logged import Logged
from scopion.cli.parts.options import SpanParam
from scopion.cli.parts.session import Session, pass_session


@click.group(cls=Family, no_args_is_help=True)
def radius() -> None:
    """Lists for access points of any make, which ask by RADIUS.

    scopion wifi radius SSID shows what to enter in the access point's page.
    """


@radius.command()
@click.option("--for", "for_s", type=SpanParam(), metavar="TIME", help="End after that, as 90s, 12h or 14d.")
@pass_session
def serve(session: Session, for_s: float | None) -> None:
    """Answer access points until stopped.

    It answers by the lists that were pushed, from memory, and needs no roster. scopion service install sets it up to
    start early and at once again.
    """
    if sys.platform == "win32":
        raise click.UsageError("the server needs Linux or another Unix")
    from scopion.watching.radius.run_server import run_server

    with Logged(session):
        run_server(session.site.folder, for_s=for_s)
