"""``scopion wifi keep`` and ``revert``: the way back, or the end of it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.output import on_clock, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column
from scopion.cli.wifi.push import saying, tell_pushed
from scopion.model.band import EVERY_RADIO, spoken_bands
from scopion.model.clock import Clock
from scopion.roster.wifi.pushes import HAND

if TYPE_CHECKING:
    from scopion.roster.wifi.pushes import Push

PUSH_KEYS = ("push", "at", "ssid", "enforcer", "radios", "state", "entries", "who", "because", "revert_at", "problem")


@click.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkParam(), required=False)
@pass_session
def keep(session: Session, ssid: str | None) -> None:
    """Keep a push that would be taken back."""
    from scopion.operations.wifi.revert_push import keep as keep_pushes

    for each in keep_pushes(session.site, ssid):
        to = "" if each.enforcer == HAND else f" to {each.enforcer}"
        session.note(f"Push {each.id}{to} for {each.ssid!r} stays in force.")


@click.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkParam(), required=False)
@click.option("--to", "number", type=int, metavar="PUSH", help="Back to what was held before this push.")
@click.option("--list", "listed", is_flag=True, help="The pushes, with before and after.")
@click.option("--when-due", is_flag=True, help="Wait, and take back what is not kept; push starts this itself.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@output_format
@pass_session
def revert(
    session: Session,
    ssid: str | None,
    number: int | None,
    listed: bool,
    when_due: bool,
    yes: bool,
    format_name: str | None,
) -> None:
    """Restore what was held before the last push, or another.

    Of a page it prints the sheet that goes back.
    """
    from scopion.operations.pages.held_by import is_reached
    from scopion.operations.wifi.revert_push import revert as take_back
    from scopion.operations.wifi.revert_push import revert_to

    if when_due:
        from scopion.watching.revert_deadlines import wait_and_revert

        wait_and_revert(session.site)
        return
    if listed:
        _list(session, ssid, format_name)
        return
    if number is None and ssid is None:
        raise click.UsageError("say of which network, or --to PUSH: scopion wifi revert --list shows them")
    if not yes and (ssid is None or is_reached(session.site, ssid)):  # a page changes only when it is typed in
        what = f"before push {number}" if number is not None else f"before the last push for {ssid!r}"
        session.require_yes(f"Put back what was held {what}?")
    if number is not None:
        done = revert_to(session.site, number, on_step=saying(session))
    else:
        assert ssid is not None
        done = take_back(session.site, ssid, on_step=saying(session))
    for each in done:
        tell_pushed(session, each, ask=not yes)
    session.note("Your own lists are not changed by that: scopion undo takes changes of those back.")


def _list(session: Session, ssid: str | None, format_name: str | None) -> None:
    from scopion.roster.wifi.pushes import pushes

    rows = [_row(each) for each in pushes(session.site.roster_for_reading(), ssid)]
    show(rows, PUSH_KEYS, _columns(session.site.clock), format_name, document={"pushes": rows})
    if not rows:
        session.note("Nothing was ever pushed.")


def _columns(clock: Clock) -> list[Column]:
    return [
        Column("push", lambda row: str(row["push"]), right=True),
        Column("at", lambda row: on_clock(clock, row["at"])),
        Column("enforcer", lambda row: row["enforcer"]),
        Column("radios", lambda row: spoken_bands(each or EVERY_RADIO for each in row["radios"])),
        Column("state", lambda row: row["state"], lambda row: "" if row["state"] in ("done", "skipped") else "yellow"),
        Column("entries", lambda row: row["entries"], right=True),
        Column("why", lambda row: row["because"] or f"by {row['who']}", shrinks=True),
    ]


def _row(each: Push) -> dict[str, Any]:
    counts = [len(told["target"]["allow"]) + len(told["target"]["deny"]) for told in each.radios.values()]
    before = [len(told["before"]["allow"]) + len(told["before"]["deny"]) for told in each.radios.values()]
    entries = f"{max(before, default=0)}→{max(counts, default=0)}"
    return row_of(each, PUSH_KEYS, push=each.id, radios=list(each.radios), entries=entries)
