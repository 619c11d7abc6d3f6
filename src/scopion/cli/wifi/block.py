"""``scopion block`` and ``scopion unblock``: one step from a device to lists that are in force and verified."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.flags import gathered, insist
from scopion.cli.parts.session import Session, pass_session, shell_word
from scopion.cli.parts.terminal import prompt, style
from scopion.cli.wifi.network_settings import said_of
from scopion.cli.wifi.push import saying, tell_pushed
from scopion.cli.wifi.verify import show_verdict, unmet
from scopion.model.errors import CheckNotMet
from scopion.model.text import counted, joined

if TYPE_CHECKING:
    from scopion.operations.one_step.block_device import BlockChange, BlockedNetwork, BlockRequest


@dataclass(frozen=True, slots=True)
class BlockOptions:
    """Where a device is blocked or unblocked, and on what terms."""

    ssids: tuple[str, ...]
    everywhere: bool
    span: float | None  # seconds
    until: datetime | None
    hours: str | None
    description: str
    insist: bool


def _terms(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options of both commands."""
    for decorate in (
        gathered("terms", BlockOptions),
        pass_session,
        insist,
        click.option("--yes", is_flag=True, help="Do not ask."),
        click.option("--dry-run", is_flag=True, help="Show what would be true afterwards, and change nothing."),
        click.option("--description", metavar="TEXT", default="", help="Why."),
        click.option("--everywhere", is_flag=True, help="On every network of the site."),
        click.option("--ssid", "ssids", metavar="SSID", type=options.NetworkParam(), multiple=True,
                     help="On this network. May be repeated."),
        click.option("--hours", metavar="HOURS", help="At these hours only: 'mon-fri 22:00-06:00', or a timetable."),
        click.option("--until", metavar="WHEN", type=options.MomentParam(end=True, ahead=True),
                     help="Until this moment: 'friday 18:00'."),
        click.option("--for", "span", metavar="TIME", type=options.SpanParam(), help="For this time: 2h."),
    ):  # fmt: skip
        command = decorate(command)
    return command


@click.command()
@options.device
@_terms
def block(session: Session, /, device: str, terms: BlockOptions, dry_run: bool, yes: bool) -> None:
    """Keep a device off the Wi-Fi: list, push and check.

    Takes the networks where DEVICE is associated or was last. Shows what will be true afterwards, asks once, puts it in
    force and verifies. Exit code 3 means that it does not work. Of a router's page it prints the steps to type.
    """
    _run(session, device, terms, block=True, dry_run=dry_run, yes=yes)


@click.command()
@options.device
@_terms
def unblock(session: Session, /, device: str, terms: BlockOptions, dry_run: bool, yes: bool) -> None:
    """Let a device back on the Wi-Fi: list, push and check.

    Takes the networks whose lists refuse DEVICE. With --for, --until or --hours it is admitted then only.
    """
    _run(session, device, terms, block=False, dry_run=dry_run, yes=yes)


def _run(session: Session, device: str, terms: BlockOptions, *, block: bool, dry_run: bool, yes: bool) -> None:
    from scopion.operations.one_step.block_device import carry_out, rehearse
    from scopion.operations.wifi.edit_networks import networks
    from scopion.operations.wifi.find_subjects import require_subject

    request = _request(session, device, terms, block=block)
    named = block and not request.ssids and session.can_ask and not networks(session.site)
    if named:  # the answer is the decision, too: nothing is in force before a person has typed it in
        require_subject(session.site, device)
        request = _with_asked_network(request)
    change = rehearse(session.site, request)
    _tell(session, change)
    if dry_run:
        session.note("Nothing was changed.")
        return
    if not yes and not named:
        session.require_yes("Do this?")
    change = carry_out(session.site, change)
    waiting = _push(session, change, ask=not yes)
    _verify(session, change, waiting)


def _request(session: Session, device: str, terms: BlockOptions, *, block: bool) -> BlockRequest:
    from scopion.operations.one_step.block_device import BlockRequest

    if terms.span is not None and terms.until is not None:
        raise click.UsageError("--for and --until both say when it ends: give one")
    if terms.hours is not None and (terms.span is not None or terms.until is not None):
        raise click.UsageError("--hours holds every week; --for and --until hold once: give one of them")
    if terms.everywhere and terms.ssids:
        raise click.UsageError("--everywhere means all networks, --ssid one: give one of them")
    until = terms.until
    if terms.span is not None:
        until = session.site.clock.now() + timedelta(seconds=terms.span)
    return BlockRequest(
        device, block, terms.ssids, terms.everywhere, until, terms.hours, terms.description, terms.insist
    )


def _with_asked_network(request: BlockRequest) -> BlockRequest:
    """Return the request with the network whose name a person types. Raises Abort for an empty line."""
    ssid = str(prompt("What is the name of the Wi-Fi (its SSID)? An empty line stops", "", show_default=False)).strip()
    if not ssid:
        raise click.Abort
    return replace(request, ssids=(ssid,))


def _tell(session: Session, change: BlockChange) -> None:
    """Print what will be true afterwards, network by network."""
    for caution in change.cautions:
        session.note(f"{style('Caution:', fg='yellow')} {caution}.")
    if change.why and len(change.networks) + len(change.elsewhere) > 1:
        named = joined([repr(each.ssid) for each in change.networks])
        session.note(f"On {named}: {change.why}.")
    for each in change.networks:
        session.note(each.says)
        for sentence in _at_once(each):
            session.note(f"  {sentence}")
    if change.elsewhere and change.request.block:
        verb = "stays as it is" if len(change.elsewhere) == 1 else "stay as they are"
        session.note(f"{joined([repr(each) for each in change.elsewhere])} {verb}: --everywhere means all networks.")


def _at_once(each: BlockedNetwork) -> list[str]:
    """Return what a push does beside, in sentences."""
    if each.push is None:
        return ["The router has only its web page: the steps to type follow."]
    said = []
    if each.push.disconnects:
        said.append(f"It is connected now, and {joined(list(each.push.enforcers))} disconnects it at once.")
    if each.push.others:
        said.append(f"Also disconnected: {joined(list(each.push.others))}.")
    if each.push.also_sent:
        count = counted(each.push.also_sent, "address", "addresses")
        said.append(
            f"What was changed before and not pushed yet goes with it, {count}: "
            f"scopion wifi preview {shell_word(each.ssid)}"
        )
    return said


def _push(session: Session, change: BlockChange, *, ask: bool) -> list[str]:
    """Put each network's list in force, or hand over its sheet. Returns the networks whose sheets wait."""
    from scopion.operations.pages.held_by import is_reached
    from scopion.operations.wifi.push_lists import push
    from scopion.operations.wifi.send_push import PushRequest

    waiting = []
    for each in change.networks:
        if each.is_new and not is_reached(session.site, each.ssid):
            session.note(said_of(session.site, each.network))
        request = PushRequest(insist=change.request.insist)
        for sent in push(session.site, each.ssid, request, on_step=saying(session)):
            if not tell_pushed(session, sent, ask=ask):
                waiting.append(each.ssid)
    return waiting


def _verify(session: Session, change: BlockChange, waiting: Sequence[str]) -> None:
    """Verify each network whose list is in force; say whether it works, and how to go back."""
    from scopion.operations.pages.held_by import is_reached
    from scopion.operations.wifi.verify_network import verify

    failed = []
    done = [each for each in change.networks if each.ssid not in waiting]
    for each in done:
        verdict = verify(session.site, each.ssid, attempts=False)
        show_verdict(session, verdict, None)
        if not verdict.met:
            failed.append(unmet(verdict))
            if not is_reached(session.site, each.ssid):
                word = shell_word(each.ssid)
                session.note(f"With a copy of the router's own client list: scopion wifi verify {word} --clients -")
    _tell_later(session, change)
    if failed:
        raise CheckNotMet("; ".join(failed))
    if done:
        refused = [each.ssid for each in done if not each.admitted]
        admitted = [each.ssid for each in done if each.admitted]
        if refused:
            session.note(f"It works: {change.name} is kept off {joined([repr(each) for each in refused])}.")
        if admitted:
            session.note(f"It works: {change.name} may use {joined([repr(each) for each in admitted])}.")
    back = "unblock" if change.request.block else "block"
    session.note(f"To go back: scopion {back} {shell_word(change.request.device)}")
    if change.request.block and change.is_new and change.request.until is None:
        session.note(f"To be told when it comes back: scopion mark {shell_word(change.request.device)} unwanted")


def _tell_later(session: Session, change: BlockChange) -> None:
    """Say who carries out what time changes, if no watch runs."""
    from scopion.operations.folder.take_turns import watching_process

    later = [each.ssid for each in change.networks if each.changes_later]
    if later and watching_process(session.site.folder) is None:
        session.note(
            "No watch runs, and only a watch carries out hours and ends: start scopion watch or scopion service, or "
            f"run scopion wifi push {shell_word(later[0])} by then."
        )
