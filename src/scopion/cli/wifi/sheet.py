"""``scopion wifi sheet``, ``done`` and ``import``: for routers with only a web page, or with a list already."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.flags import insist
from scopion.cli.parts.session import Session, pass_session, shell_word
from scopion.cli.parts.sheets import html_option, write_sheets
from scopion.cli.parts.terminal import confirm, echo
from scopion.cli.wifi.preview import enforcer_option, radio_option
from scopion.model.text import counted, joined
from scopion.roster.wifi.pushes import HAND, PushState

if TYPE_CHECKING:
    from scopion.roster.wifi.pushes import Push


page_option = click.option("--enforcer", "page", metavar="NAME", help="This page only, if the network has several.")


@click.command()
@options.ssid
@page_option
@click.option("--whole", is_flag=True, help="Everything, not only what has changed since it was typed in.")
@click.option("--rescue", is_flag=True, help="What to do if you are locked out, to be printed beforehand.")
@html_option
@pass_session
def sheet(session: Session, ssid: str, page: str | None, whole: bool, rescue: bool, file: Path | None) -> None:
    """Numbered steps to type a list into the router's web page.

    The steps are in the safe order, for each radio. After scopion wifi done, only changes are listed.
    """
    from scopion.operations.wifi.type_lists import sheets

    if rescue:
        from scopion.operations.one_step.gather_rescue import rescue as gather

        if whole or page:
            raise click.UsageError("--rescue has the whole list of the network: give it without --whole and --enforcer")
        made = gather(session.site, ssid, beforehand=True)
    else:
        made = [each for _, each in sheets(session.site, ssid, page, whole=whole)]
    write_sheets(session, ssid, made, file)


@click.command()
@options.ssid
@page_option
@radio_option
@pass_session
def done(session: Session, ssid: str, page: str | None, radios: tuple[str, ...]) -> None:
    """Record that the sheet was typed in; the next has only changes."""
    from scopion.operations.wifi.type_lists import typed_in

    for each in typed_in(session.site, ssid, radios, page):
        tell_typed(session, each)
    session.note(
        f"To check that it works: scopion wifi verify {shell_word(ssid)}; --clients reads the page's client list, too."
    )


def tell_typed(session: Session, push: Push) -> None:
    """Print what a page holds, as a person has said."""
    where = joined([f"{radio} GHz" for radio in push.radios])
    target = next(iter(push.radios.values()))["target"]
    count = counted(len(target["allow"]) + len(target["deny"]), "entry", "entries")
    at = "" if push.enforcer == HAND else f" ({push.enforcer})"
    session.note(f"Noted: {push.ssid!r}{at} has {count} in mode {target['mode']} on {where}.")


def hand_sheet(session: Session, push: Push, *, ask: bool) -> bool:
    """Print the sheet of a push to a page; in a terminal, ``ask`` if it was typed in. Returns whether it is done."""
    from scopion.operations.wifi.type_lists import sheet_again, typed_in
    from scopion.wireless.write_sheet import text

    if push.state is not PushState.WAITING:
        session.note(f"The page of {push.ssid!r} holds the list already, as you said: nothing is to be typed.")
        return True
    echo(text(sheet_again(session.site, push)), nl=False)
    session.note("")
    if ask and session.can_ask and confirm("Is it typed in, on all radios?"):
        for each in typed_in(session.site, push.ssid, name=push.enforcer):
            tell_typed(session, each)
        return True
    also = "" if push.enforcer == HAND else f" --enforcer {shell_word(push.enforcer)}"
    session.note(f"It waits for you. Once it is typed in: scopion wifi done {shell_word(push.ssid)}{also}")
    return False


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
