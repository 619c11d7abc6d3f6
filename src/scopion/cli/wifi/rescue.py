"""``scopion rescue``: locked out of the Wi-Fi, and what to do."""

from __future__ import annotations

from pathlib import Path

import click

from scopion.cli.parts import options
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.sheets import html_option, write_sheets


@click.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkParam(), required=False)
@html_option
@pass_session
def rescue(session: Session, ssid: str | None, file: Path | None) -> None:
    """Locked out of the Wi-Fi? What is the case, and what to do.

    Looks which lists refuse this machine, what was pushed or typed in last, whether that is taken back by itself, and
    whether the router answers. Leads from the easiest way back to the last one. Needs no network, and changes nothing.
    """
    from scopion.operations.one_step.gather_rescue import rescue as gather

    write_sheets(session, ssid or "rescue", gather(session.site, ssid), file)
