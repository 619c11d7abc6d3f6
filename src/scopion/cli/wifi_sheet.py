"""``scopion wifi sheet``: the interface of those whose router has only a web page."""

from __future__ import annotations

import click

from scopion.cli import options
from scopion.cli.session import Session, pass_session


@click.command()
@options.ssid
@pass_session
def sheet(session: Session, ssid: str) -> None:
    """Numbered steps to type a list into the router's web page."""
    from scopion.operations.wifi_sheet import make_sheet

    click.echo(make_sheet(session.site, ssid), nl=False)
