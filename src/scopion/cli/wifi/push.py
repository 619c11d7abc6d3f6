"""``scopion wifi push``: put a list in force, and verify that it works."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import TYPE_CHECKING

import click

from scopion.cli.parts import options
from scopion.cli.parts.flags import gathered, insist
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.wifi.preview import (
    RadioOptions,
    caution_way_in,
    drop_foreign,
    enforcer_option,
    radio_option,
    show_preview,
)
from scopion.cli.wifi.sheet import hand_sheet
from scopion.cli.wifi.verify import verify_now
from scopion.model.band import at_band, spoken_band
from scopion.model.text import capitalised, counted, joined

if TYPE_CHECKING:
    from scopion.operations.wifi.send_push import OnStep, Pushed
    from scopion.wireless.enforcers.enforcer import ListStep


@click.command()
@options.ssid
@enforcer_option
@radio_option
@drop_foreign
@click.option(
    "--revert-after",
    metavar="TIME",
    type=options.SpanParam(),
    help="Take it back after this time, unless wifi keep is run.",
)
@click.option("--no-verify", is_flag=True, help="Do not verify afterwards.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@insist
@pass_session
@gathered("where", RadioOptions)
def push(
    session: Session,
    ssid: str,
    where: RadioOptions,
    revert_after: float | None,
    no_verify: bool,
    yes: bool,
    insist: bool,
) -> None:
    """Put a network's list in force on its enforcers.

    Shows what will change and asks; each radio is written step by step in the safe order and read back. A push
    that fails half-way is rolled back. Exit code 3 means that the list is in force and does not work. Of a page it
    prints the sheet, and waits until you say that it is typed in.
    """
    from scopion.operations.pages.held_by import is_reached
    from scopion.operations.wifi.preview_push import preview as look
    from scopion.operations.wifi.push_lists import push as send
    from scopion.operations.wifi.send_push import PushRequest

    caution_way_in(session)
    if not yes and is_reached(session.site, ssid):  # of a page alone, nothing changes before a person has typed it in
        found = look(session.site, ssid, where.choice(), drop_foreign=where.drop_foreign)
        show_preview(session, found, "table")
        session.require_yes("Put this in force?")
    request = PushRequest(
        where.choice(), revert_at=_deadline(session, revert_after), insist=insist, drop_foreign=where.drop_foreign
    )  # the process that keeps the deadline runs before anything is sent
    sent = send(session.site, ssid, request, on_step=saying(session))
    waiting = [each for each in sent if not tell_pushed(session, each, ask=not yes)]
    if revert_after is not None and request.revert_at is not None:
        until = session.site.clock.local(request.revert_at)
        session.note(f"It is taken back at {until:%H:%M:%S} unless you run scopion wifi keep")
        if any(each.plans[0].traits.by_hand for each in sent):
            session.note(
                "On a page only you can do that: the sheet that goes back is made then, and a watch sends it to you."
            )
    if not no_verify and not waiting:
        verify_now(session, ssid, None, None, scan=True, attempts=False)


def tell_pushed(session: Session, each: Pushed, *, ask: bool) -> bool:
    """Print the result of a push; of one to a page, its sheet, and ``ask`` whether it was typed in. Returns whether it
    is done: a sheet may wait.
    """
    if each.plans[0].traits.by_hand:
        return hand_sheet(session, each.push, ask=ask)
    together: dict[str, list[str]] = {}
    for plan in each.plans:
        held = each.read_back[plan.radio]
        # A mode that cannot be read is the one that was set.
        said = f"mode {held.mode or plan.target.mode}, {counted(held.entries, 'entry', 'entries')}"
        foreign = held.entries - len((held.allow & plan.ours.allow) | (held.deny & plan.ours.deny))
        said += f", {foreign if foreign < held.entries else 'all'} of them not yours" if foreign else ""
        together.setdefault(said, []).append(spoken_band(plan.radio))
    told = "; ".join(f"{joined(radios)}: {said}" for said, radios in together.items())
    session.note(f"Push {each.push.id}: {each.push.enforcer} holds the list (read back). {capitalised(told)}.")
    plan = each.plans[0]
    if each.problem:
        session.note(f"Caution: {each.problem}.")
    elif plan.traits.survives and each.first:
        session.note(f"Note: {plan.traits.survives}.")
    return True


def _deadline(session: Session, revert_after: float | None) -> datetime | None:
    """Return when a push is taken back, once a process keeps that deadline. Raises Refused."""
    if revert_after is None:
        return None
    from scopion.watching.revert_deadlines import require_reverter

    bearer = require_reverter(session.site, revert_after)
    session.detail(f"It would be taken back by {bearer}.")
    return session.site.clock.now() + timedelta(seconds=revert_after)


def saying(session: Session) -> OnStep:
    """Return a function that prints each step, where --verbose is given."""

    def say(enforcer: str, radio: str, step: ListStep) -> None:
        session.detail(f"  {at_band(enforcer, radio)}: {step}")

    return say
