"""Sending lists to enforcers: what a push would do, the push, whether it worked, and the way back."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

import click

from scopion.cli import options
from scopion.cli.output import iso, output_format, show
from scopion.cli.session import Session, pass_session, shell_word
from scopion.cli.table import Column
from scopion.model.text import counted, joined

if TYPE_CHECKING:
    from scopion.model.mac import MacAddress
    from scopion.operations.previewing import Preview
    from scopion.operations.pushing import Pushed
    from scopion.operations.verifying import Check, Verdict
    from scopion.roster.pushes import Push
    from scopion.wireless.enforcers.base import Step
    from scopion.wireless.plan import RadioPlan

_COLOURS = {"add": "green", "remove": "yellow", "foreign": "magenta", "drop": "yellow", "disconnect": "red"}
PREVIEW_KEYS = ("enforcer", "radio", "change", "list", "mac", "name", "associated")
PREVIEW_COLUMNS = (
    Column("enforcer", lambda row: row["enforcer"], optional=2),
    Column("radio", lambda row: f"{row['radio']} GHz"),
    Column("change", lambda row: row["change"], lambda row: _COLOURS.get(row["change"], "")),
    Column("list", lambda row: row["list"]),
    Column("MAC", lambda row: row["mac"]),
    Column("name", lambda row: row["name"] or "–", shrinks=True),
    Column("now", lambda row: row["associated"] or ""),
)
CHECK_KEYS = ("where", "what", "met", "says")
CHECK_COLUMNS = (
    Column("", lambda row: {True: "✓", False: "✗", None: "?"}[row["met"]],
           lambda row: {True: "green", False: "red bold", None: "yellow"}[row["met"]]),
    Column("where", lambda row: row["where"]),
    Column("looked at", lambda row: row["what"]),
    Column("found", lambda row: row["says"], wraps=True),
)  # fmt: skip
PUSH_KEYS = ("push", "at", "ssid", "enforcer", "radios", "state", "entries", "who", "because", "revert_at", "problem")
PUSH_COLUMNS = (
    Column("push", lambda row: str(row["push"]), right=True),
    Column("at", lambda row: row["at"][:16].replace("T", " ")),
    Column("enforcer", lambda row: row["enforcer"]),
    Column("radios", lambda row: " ".join(row["radios"])),
    Column("state", lambda row: row["state"], lambda row: "" if row["state"] == "done" else "yellow"),
    Column("entries", lambda row: row["entries"], right=True),
    Column("why", lambda row: row["because"] or f"by {row['who']}", shrinks=True),
)

radio_option = click.option("--radio", "radios", metavar="GHZ", multiple=True, help="This radio only: 2.4, 5 or 6.")
enforcer_option = click.option("--enforcer", metavar="NAME", help="This enforcer only.")
drop_foreign = click.option("--drop-foreign", is_flag=True, help="Remove entries that others have put there.")


@click.command()
@options.ssid
@enforcer_option
@radio_option
@drop_foreign
@output_format
@pass_session
def preview(
    session: Session,
    ssid: str,
    enforcer: str | None,
    radios: tuple[str, ...],
    drop_foreign: bool,
    format_name: str | None,
) -> None:
    """What a push would change, radio by radio, against what is held now."""
    from scopion.operations.previewing import Which
    from scopion.operations.previewing import preview as look

    found = look(session.site, ssid, Which(enforcer, radios or None), drop_foreign=drop_foreign)
    rows = preview_rows(found)
    show(rows, PREVIEW_KEYS, PREVIEW_COLUMNS, format_name, document=_document(found, rows))
    session.note("")
    for sentence in preview_sentences(session, found):
        session.note(sentence)
    if any(plan.steps for plan in found.plans):
        session.note(f"To put it in force: scopion wifi push {shell_word(ssid)}")


@click.command()
@options.ssid
@enforcer_option
@radio_option
@drop_foreign
@click.option("--revert-after", metavar="TIME", type=options.Span(), help="Take it back then unless wifi keep is said.")
@click.option("--no-verify", is_flag=True, help="Do not look afterwards whether it works.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@options.insist
@pass_session
def push(
    session: Session,
    ssid: str,
    enforcer: str | None,
    radios: tuple[str, ...],
    drop_foreign: bool,
    revert_after: float | None,
    no_verify: bool,
    yes: bool,
    insist: bool,
) -> None:
    """Put a network's list in force on its enforcers.

    Shows what will change and asks; each radio is written step by step in the safe order and read back. What fails
    half-way is rolled back. Ends with exit code 3 if it is in force and does not work.
    """
    from scopion.operations.previewing import Which
    from scopion.operations.previewing import preview as look
    from scopion.operations.pushing import Wish
    from scopion.operations.pushing import push as send

    which = Which(enforcer, radios or None)
    if not yes:
        found = look(session.site, ssid, which, drop_foreign=drop_foreign)
        show(preview_rows(found), PREVIEW_KEYS, PREVIEW_COLUMNS, "table")
        session.note("")
        for sentence in preview_sentences(session, found):
            session.note(sentence)
        session.require_yes("Put this in force?")
    wish = Wish(
        which, revert_at=_deadline(session, revert_after), insist=insist, drop_foreign=drop_foreign
    )  # the deadline has its bearer before anything is sent
    for each in send(session.site, ssid, wish, on_step=_saying(session)):
        tell_pushed(session, each)
    if revert_after is not None and wish.revert_at is not None:
        until = session.site.clock.local(wish.revert_at)
        session.note(f"It is taken back at {until:%H:%M:%S} unless you say: scopion wifi keep")
    if not no_verify:
        _verify(session, ssid, None, None, scan=True)


@click.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkName(), required=False)
@pass_session
def keep(session: Session, ssid: str | None) -> None:
    """Keep a push that would be taken back."""
    from scopion.operations.pushing import keep as keep_pushes

    for each in keep_pushes(session.site, ssid):
        session.note(f"Push {each.id} to {each.enforcer} for {each.ssid!r} stays in force.")


@click.command()
@options.ssid
@click.option(
    "--clients",
    metavar="FILE",
    type=click.File("r", errors="replace"),
    help="A client list copied from the router's page; - is standard input.",
)
@click.option("--no-scan", is_flag=True, help="Only read what the enforcers hold and who is associated.")
@output_format
@pass_session
def verify(session: Session, ssid: str, clients: Any, no_scan: bool, format_name: str | None) -> None:
    """Whether the list is in force and works; exit code 3 if not.

    Reads the lists back, looks who is associated, and scans: whoever is refused and still here is explained.
    """
    _verify(session, ssid, clients.read() if clients is not None else None, format_name, scan=not no_scan)


@click.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkName(), required=False)
@click.option("--to", "number", type=int, metavar="PUSH", help="Back to what was held before this push.")
@click.option("--list", "listed", is_flag=True, help="The pushes, with before and after.")
@click.option("--when-due", is_flag=True, help="Wait, and take back what nobody keeps; started by push itself.")
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
    """Put back what was held before the last push, or before another."""
    from scopion.operations.pushing import revert as take_back
    from scopion.operations.pushing import revert_to

    if when_due:
        _wait_for_deadlines(session)
        return
    if listed:
        _list_pushes(session, ssid, format_name)
        return
    if number is None and ssid is None:
        raise click.UsageError("say of which network, or --to PUSH: scopion wifi revert --list shows them")
    if not yes:
        what = f"before push {number}" if number is not None else f"before the last push for {ssid!r}"
        session.require_yes(f"Put back what was held {what}?")
    if number is not None:
        done = revert_to(session.site, number, on_step=_saying(session))
    else:
        assert ssid is not None
        done = take_back(session.site, ssid, on_step=_saying(session))
    for each in done:
        tell_pushed(session, each)
    session.note("Your own lists are not changed by that: scopion undo takes changes of those back.")


def preview_rows(found: Preview) -> list[dict[str, Any]]:
    """A row for each entry that changes, is foreign, or goes."""
    names = _names(found)
    rows = []
    for plan in found.plans:
        here = {each.mac for each in plan.stations}

        def row(change: str, which: str, mac: MacAddress, plan: RadioPlan = plan, here: Any = here) -> dict[str, Any]:
            return {
                "enforcer": plan.enforcer,
                "radio": plan.radio,
                "change": change,
                "list": which,
                "mac": str(mac),
                "name": names.get(mac) or None,
                "associated": "associated" if mac in here else None,
            }

        for which in ("allow", "deny"):
            held, target = getattr(plan.held, which), getattr(plan.target, which)
            foreign, dropped = getattr(plan.foreign, which), getattr(plan.dropped, which)
            rows += [row("add", which, mac) for mac in sorted(target - held)]
            rows += [row("remove", which, mac) for mac in sorted(held - target - dropped)]
            rows += [row("drop", which, mac) for mac in sorted(dropped)]
            rows += [row("foreign", which, mac) for mac in sorted(foreign)]
            rows += [row("keep", which, mac) for mac in sorted((held & target) - foreign)]
        rows += [row("disconnect", "", each.mac) for each in plan.leaving]
    return rows


def preview_sentences(session: Session, found: Preview) -> list[str]:
    """A sentence for each radio, and what else a person should know."""
    said = []
    names = {mac: each.called for each in found.devices for mac in each.macs}
    for plan in found.plans:
        holds = f" of {plan.capacity}" if plan.capacity is not None else ""
        used = f"{plan.target.entries}{holds} entries used"
        changes = [
            f"{len(plan.added)} added" if plan.added else "",
            f"{len(plan.removed)} removed" if plan.removed else "",
            f"{len(plan.kept)} kept" if plan.kept else "",
        ]
        changed = joined(list(filter(None, changes))) or "no entry changes"
        mode = f"mode {plan.target.mode}"
        if not plan.traits.reads_mode:
            mode += " (what it is now cannot be read)"
        elif plan.held.mode is not plan.target.mode:
            mode += f" (now {plan.held.mode})"
        leaving = [names.get(each.mac) or str(each.mac) for each in plan.leaving]
        gone = f" {joined(leaving)} will be disconnected right away." if leaving else ""
        said.append(f"{plan.enforcer}, {plan.radio} GHz: {mode}; {changed}, {used}.{gone}")
        said += [
            f"Caution: {names.get(mac) or mac} is refused by your list, but a foreign allow entry on {plan.radio} GHz "
            "voids that: --drop-foreign removes it, scopion wifi import takes it over."
            for mac in plan.voided
        ]
        if plan.foreign.entries:
            count = counted(plan.foreign.entries, "entry", "entries")
            said.append(f"{count} on {plan.radio} GHz not of ours: kept; scopion wifi import takes them over.")
    if found.interrupted is not None:
        said.append(f"Push {found.interrupted.id} was ended half-way, or is going on: another push goes on from there.")
    if found.waiting is not None and found.waiting.revert_at is not None:
        until = session.site.clock.local(found.waiting.revert_at)
        said.append(f"Push {found.waiting.id} is taken back at {until:%H:%M:%S} unless you say: scopion wifi keep")
    return said


def tell_pushed(session: Session, each: Pushed) -> None:
    """What became of a push."""
    radios = joined([f"{plan.radio} GHz" for plan in each.plans])
    plan = each.plans[0]
    entries = counted(plan.target.entries, "entry", "entries")
    said = f"holds it on {radios}, read back: mode {plan.target.mode}, {entries}"
    session.note(f"Push {each.push.id}: {each.push.enforcer} {said}.")
    if each.problem:
        session.note(f"Caution: {each.problem}.")
    elif plan.traits.survives and each.first:
        session.note(f"Note: {plan.traits.survives}.")


def _names(found: Preview) -> dict[MacAddress, str]:
    """What to call an address: by its device, else as the list describes it."""
    names = {rule.line.mac: rule.line.name for rule in found.policy.rules}
    for device in found.devices:
        for mac in device.macs:
            if device.called != str(mac):
                names[mac] = device.called
    return names


def _document(found: Preview, rows: Sequence[dict[str, Any]]) -> dict[str, Any]:
    return {
        "ssid": found.network.ssid,
        "mode": str(found.wanted.mode),
        "radios": [
            {
                "enforcer": plan.enforcer,
                "radio": plan.radio,
                "effect": str(plan.traits.effect),
                "reads_mode": plan.traits.reads_mode,
                "reads_stations": plan.traits.reads_stations,
                "notation": str(plan.traits.notation),
                "in_force": plan.is_in_force,
                "entries": plan.target.entries,
                "capacity": plan.capacity,
                "voided": [str(mac) for mac in plan.voided],
                "steps": [str(step) for step in plan.steps],
            }
            for plan in found.plans
        ],
        "changes": list(rows),
    }


def _deadline(session: Session, revert_after: float | None) -> datetime | None:
    """The moment at which a push is taken back, once somebody has agreed to do so. Raises Refused."""
    if revert_after is None:
        return None
    from scopion.watching.deadlines import require_bearer

    bearer = require_bearer(session.site, revert_after)
    session.detail(f"It would be taken back by {bearer}.")
    return session.site.clock.now() + timedelta(seconds=revert_after)


def _wait_for_deadlines(session: Session) -> None:
    from scopion.watching.deadlines import bear

    bear(session.site)


def _saying(session: Session) -> Any:
    def say(enforcer: str, radio: str, step: Step) -> None:
        session.detail(f"  {enforcer}, {radio} GHz: {step}")

    return say


def _list_pushes(session: Session, ssid: str | None, format_name: str | None) -> None:
    from scopion.roster.pushes import pushes

    roster = session.site.roster_for_reading()
    rows = [_push_row(each) for each in (pushes(roster, ssid) if roster is not None else [])]
    show(rows, PUSH_KEYS, PUSH_COLUMNS, format_name, document={"pushes": rows})
    if not rows:
        session.note("Nothing was ever pushed.")


def _push_row(each: Push) -> dict[str, Any]:
    counts = [len(told["target"]["allow"]) + len(told["target"]["deny"]) for told in each.radios.values()]
    before = [len(told["before"]["allow"]) + len(told["before"]["deny"]) for told in each.radios.values()]
    return {
        "push": each.id,
        "at": iso(each.at),
        "ssid": each.ssid,
        "enforcer": each.enforcer,
        "radios": list(each.radios),
        "state": str(each.state),
        "entries": f"{max(before, default=0)}→{max(counts, default=0)}",
        "who": each.who or None,
        "because": each.because or None,
        "revert_at": iso(each.revert_at) if each.revert_at else None,
        "problem": each.problem or None,
    }


def _verify(session: Session, ssid: str, clients: str | None, format_name: str | None, *, scan: bool) -> None:
    from scopion.model.errors import CheckNotMet
    from scopion.operations.verifying import verify as look

    verdict = look(session.site, ssid, clients=clients, scan=scan)
    show_verdict(session, verdict, format_name)
    if not verdict.met:
        raise CheckNotMet(_unmet(verdict))


def show_verdict(session: Session, verdict: Verdict, format_name: str | None) -> None:
    """The checks, and what else is worth knowing."""
    rows = [_check_row(each) for each in verdict.checks]
    document = {"ssid": verdict.network.ssid, "met": verdict.met, "checks": rows, "notes": verdict.notes}
    show(rows, CHECK_KEYS, CHECK_COLUMNS, format_name, document=document)
    session.note("")
    for each in verdict.notes:
        session.note(f"{each}.")
    if verdict.met:
        unread = sum(check.met is None for check in verdict.checks)
        also = f" {counted(unread, 'thing')} could not be read." if unread else ""
        session.note(f"The list of {verdict.network.ssid!r} is in force, and nobody whom it refuses is here.{also}")


def _check_row(each: Check) -> dict[str, Any]:
    return {"where": each.where, "what": each.what, "met": each.met, "says": each.says}


def _unmet(verdict: Verdict) -> str:
    failed = sum(check.met is False for check in verdict.checks)
    if not failed:
        return f"whether the list of {verdict.network.ssid!r} is in force could not be seen"
    return f"the list of {verdict.network.ssid!r} does not do what it should: {counted(failed, 'check')} not met"
