"""``scopion alerts rules``: which events go to which channels, and what they would do with an event now."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import click

from scopion.alerts.alert_settings import RuleSettings
from scopion.cli.parts import options
from scopion.cli.parts.families import Family
from scopion.cli.parts.output import on_clock, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column
from scopion.cli.tell.set_channels import tell_watch
from scopion.model.alert import Severity
from scopion.model.clock import spoken_span
from scopion.model.device import EventKind, Standing
from scopion.model.text import counted

KEYS = (
    "number", "channels", "events", "standings", "kinds", "subnets", "places", "devices", "hours", "severity",
    "silent", "repeat_s", "repeat_times", "second", "second_after_s",
)  # fmt: skip
TRIAL_KEYS = ("channel", "told", "severity", "due", "rule", "why")
COLUMNS = (
    Column("", lambda row: str(row["number"]), lambda _: "dim", right=True),
    Column("which events", lambda row: _what(row), wraps=True),
    Column("go to", lambda row: _where(row), lambda row: "dim" if row["silent"] else "", wraps=True),
)


@click.group(cls=Family, invoke_without_command=True)
@output_format
@click.pass_context
def rules(ctx: click.Context, format_name: str | None) -> None:
    """Which events go to which channels: list, add, remove, try.

    For each channel the first rule that fits counts. Without rules, each channel is told what is worth telling.
    """
    if ctx.invoked_subcommand is None:
        ctx.invoke(list_, format_name=format_name)


@rules.command("list")
@output_format
@pass_session
def list_(session: Session, format_name: str | None = None) -> None:
    """The rules, in the order in which they are tried."""
    there = session.site.settings.rule
    rows = [row_of(each, KEYS, number=number) for number, each in enumerate(there, 1)]
    show(rows, KEYS, COLUMNS, format_name)
    if rows:
        session.note("\nFor each channel the first rule that fits counts; what fits none is not told.")
    else:
        session.note("There are no rules: each channel is told what is worth telling, of every device.")
    if not session.site.settings.channel:
        session.note("No channel is set yet: scopion alerts add makes one.")


@rules.command()
@click.option("--channel", "channels", metavar="NAME", multiple=True, help="To this channel [all].")
@click.option(
    "--event",
    "events",
    type=options.one_of(EventKind),
    metavar="KIND",
    multiple=True,
    help="Of this kind [what is worth telling]: " + ", ".join(EventKind) + ".",
)
@click.option("--standing", "standings", type=options.one_of(Standing), multiple=True, help="Of such devices.")
@click.option("--kind", "kinds", metavar="TEXT", multiple=True, help="Of devices of this kind: phone or tablet.")
@click.option("--subnet", "subnets", metavar="RANGE|NAME", multiple=True, help="In this subnet.")
@click.option("--place", "places", type=options.PlaceParam(), metavar="NAME", multiple=True, help="In this place.")
@click.option("--device", "devices", metavar="LABEL|MAC", multiple=True, help="Of this device.")
@click.option("--hours", metavar="HOURS", default="", help="At these hours: 'mon-fri 08:00-18:00'.")
@click.option("--severity", type=options.one_of(Severity), help="high passes through night hours.")
@click.option(
    "--repeat", "repeat_s", metavar="TIME", type=options.SpanParam(), help="High severity: again so often until seen."
)
@click.option("--times", "repeat_times", metavar="N", type=click.IntRange(1, 24), default=6, help="At most so often.")
@click.option(
    "--second", metavar="NAME", help="High severity: also by this channel, if the first fails or it is unseen."
)
@click.option("--after", "second_after_s", metavar="TIME", type=options.SpanParam(), default="15m", help="...so long.")
@click.option("--silent", is_flag=True, help="They are not told.")
@click.option("--last", is_flag=True, help="After the other rules [before them].")
@pass_session
def add(session: Session, /, last: bool, severity: str | None, **given: Any) -> None:
    """Add a rule: what fits it goes to its channels, or nowhere.

    Each option may be repeated; what is left out holds for all. The rule is tried before the others.
    """  # fmt: skip
    from scopion.operations.notify.edit_rules import add_rule

    rule = RuleSettings(
        **{name: value for name, value in given.items() if name not in ("events", "standings")},
        events=tuple(map(EventKind, given["events"])),
        standings=tuple(map(Standing, given["standings"])),
        severity=Severity(severity) if severity else None,
    )
    done = add_rule(session.site, rule, last=last)
    row = row_of(rule, KEYS, number=done.number)
    session.note(f"Rule {done.number}: {_what(row)}: {_where(row)}.")
    if done.with_rest:
        session.note("Rule 2 is for all the rest, which is told as before.")
    tell_watch(session)


@rules.command()
@click.argument("number", metavar="RULE", type=click.IntRange(min=1))
@pass_session
def remove(session: Session, number: int) -> None:
    """Take a rule out, by its number in the list."""
    from scopion.operations.notify.edit_rules import remove_rule

    row = row_of(remove_rule(session.site, number), KEYS, number=number)
    session.note(f"There is no such rule any more: {_what(row)}: {_where(row)}.")
    tell_watch(session)


@rules.command("try")
@click.argument("device", metavar="[DEVICE]", type=options.DeviceParam(), required=False)
@click.option(
    "--event",
    "kind",
    type=options.one_of(EventKind),
    metavar="KIND",
    default="joined",
    show_default=True,
    help="What happens to it.",
)
@click.option("--at", metavar="WHEN", type=options.MomentParam(), help="When [now].")
@output_format
@pass_session
def try_(session: Session, device: str | None, kind: str, at: datetime | None, format_name: str | None) -> None:
    """What each channel would get if DEVICE joined now, when and why.

    Without DEVICE it is a made-up newcomer. Nothing is sent.
    """  # fmt: skip
    from scopion.operations.notify.try_rules import event_of, newcomer, outlook

    site = session.site
    roster = site.roster_for_reading()
    which = EventKind(kind)
    it = event_of(site, roster, device, which, at) if device else newcomer(site, roster, which, at)
    found = outlook(site, roster, it)
    columns = (
        Column("channel", lambda row: row["channel"], lambda _: "bold"),
        Column("is told", lambda row: (on_clock(site.clock, row["due"]) or "at once") if row["told"] else "no",
               lambda row: "green" if row["told"] else "dim"),
        Column("how urgent", lambda row: row["severity"] or ""),
        Column("why", lambda row: row["why"], wraps=True),
    )  # fmt: skip
    show([row_of(each, TRIAL_KEYS) for each in found], TRIAL_KEYS, columns, format_name)
    told = sum(each.told for each in found)
    what = it.device.called if device else "a made-up newcomer"
    session.note(f"\n{kind} of {what}: {counted(told, 'channel')} of {len(found)} would be told. Nothing was sent.")


def _what(row: dict[str, Any]) -> str:
    """Return in words what a rule is about."""
    of = [
        f"{' or '.join(row['standings'])} devices" if row["standings"] else "",
        f"kind {' or '.join(row['kinds'])}" if row["kinds"] else "",
        f"in {' or '.join(row['subnets'])}" if row["subnets"] else "",
        f"in {' or '.join(row['places'])}" if row["places"] else "",
        f"of {' or '.join(row['devices'])}" if row["devices"] else "",
        f"at {row['hours']}" if row["hours"] else "",
    ]
    return ", ".join([" or ".join(row["events"]) or "what is worth telling", *filter(None, of)])


def _where(row: dict[str, Any]) -> str:
    """Return in words where a rule sends it."""
    if row["silent"]:
        return f"not told to {' and '.join(row['channels'])}" if row["channels"] else "told to no channel"
    channels = " and ".join(row["channels"]) or "every channel"
    more = [f"{row['severity']} severity" if row["severity"] else ""]
    if row["repeat_s"]:
        every = spoken_span(timedelta(seconds=row["repeat_s"]))
        more.append(f"again every {every} until seen, {row['repeat_times']} times at most")
    if row["second"]:
        after = spoken_span(timedelta(seconds=row["second_after_s"]))
        more.append(f"by {row['second']} too if that fails, or is not seen, for {after}")
    return ", ".join(filter(None, (channels, *more)))
