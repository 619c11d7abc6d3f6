"""``scopion wifi sheet``, ``done`` and ``import``: for routers with only a web page, or with a list already."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.flags import insist
from scopion.cli.parts.session import Session, pass_session, shell_word
from scopion.cli.parts.terminal import echo
from scopion.cli.wifi.preview import enforcer_option, radio_option
from scopion.model.text import counted, joined
from scopion.roster.store.write_files import write_atomically


@click.command()
@options.ssid
@click.option("--whole", is_flag=True, help="Everything, not only what has changed since it was typed in.")
@click.option(
    "--html",
    "page",
    metavar="FILE",
    type=click.Path(dir_okay=False, path_type=Path, allow_dash=True),
    help="As a page to print; - is standard output.",
)
@pass_session
def sheet(session: Session, ssid: str, whole: bool, page: Path | None) -> None:
    """Numbered steps to type a list into the router's web page.

    The steps are in the safe order, for each radio. After scopion wifi done, only changes are listed.
    """
    from scopion.operations.wifi.make_sheet import sheet_of
    from scopion.wireless.router_sheet import html, text

    made = sheet_of(session.site, ssid, whole=whole)
    if page is None:
        echo(text(made), nl=False)
        return

    if str(page) == "-":
        echo(html(made), nl=False)
        return
    write_atomically(page, html(made).encode())
    session.note(f"The sheet of {ssid!r} is in {page}.")


@click.command()
@options.ssid
@radio_option
@pass_session
def done(session: Session, ssid: str, radios: tuple[str, ...]) -> None:
    """Record that the sheet was typed in; the next has only changes."""
    from scopion.operations.wifi.make_sheet import note_typed_in

    noted = note_typed_in(session.site, ssid, radios)
    where = joined([f"{radio} GHz" for radio in noted.radios])
    target = next(iter(noted.radios.values()))["target"]
    count = counted(len(target["allow"]) + len(target["deny"]), "entry", "entries")
    session.note(f"Noted: {ssid!r} has {count} in mode {target['mode']} on {where}.")
    session.note(
        f"To check that it works: scopion wifi verify {shell_word(ssid)}; --clients reads the page's client list, too."
    )


@click.command(name="import")
@options.ssid
@enforcer_option
@radio_option
@click.option("--description", metavar="TEXT", default="", help="Why, or who owns them.")
@insist
@pass_session
def import_entries(session: Session, /, ssid: str, **rest: Any) -> None:
    """Put what enforcers already hold on your own lists."""
    from scopion.operations.wifi.edit_entries import import_foreign

    taken = import_foreign(session.site, ssid, **rest)
    for which, names in taken.items():
        if names:
            session.note(f"{counted(len(names), 'entry', 'entries')} put on the {which} list: {joined(names)}.")
    if not any(taken.values()):
        session.note("The enforcers hold nothing that is not on your lists.")
