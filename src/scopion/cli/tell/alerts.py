"""``scopion alerts``: list alerts, test a channel, try again, mute, and the time of learning."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.families import Family
from scopion.cli.parts.output import iso, on_clock, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, Row
from scopion.cli.parts.terminal import echo, style
from scopion.cli.tell import set_channels
from scopion.cli.tell.rules import rules
from scopion.model.alert import AlertState
from scopion.model.clock import Clock
from scopion.model.device import EventKind
from scopion.model.text import counted, joined
from scopion.operations.notify import manage_alerts as operations

KEYS = (
    "id", "state", "severity", "channel", "subject", "events", "made", "due", "attempts", "again", "ended", "problem",
    "identity", "seen_by", "seen_at", "seen_note",
)  # fmt: skip
MUTE_KEYS = ("device", "event", "since", "until")
LEARNING_KEYS = ("subnet", "name", "until")
_WIDTH = 100  # of a message on the screen: longer lines are hard to read
_STYLES = {"waiting": "yellow", "sent": "dim", "failed": "bold red"}
_event = click.option(
    "--event", "kind", type=options.one_of(EventKind), metavar="KIND",
    help="Only this kind of event: " + ", ".join(EventKind) + ".",
)  # fmt: skip


@click.group(cls=Family, invoke_without_command=True)
@output_format
@click.pass_context
def alerts(ctx: click.Context, format_name: str | None) -> None:
    """Alerts: which were sent where, and which wait.

    Without a command it is scopion alerts list.
    """
    if ctx.invoked_subcommand is None:
        ctx.invoke(list_, format_name=format_name)


@alerts.command("list")
@click.option("--state", "states", type=options.one_of(AlertState), multiple=True)
@click.option("--channel", metavar="NAME", help="Only of this channel.")
@click.option("--limit", type=click.IntRange(min=1), default=30, show_default=True, help="The latest N.")
@output_format
@pass_session
def list_(
    session: Session,
    states: tuple[str, ...] = (),
    channel: str | None = None,
    limit: int = 30,
    format_name: str | None = None,
) -> None:
    """The latest alerts: waiting, sent, failed."""
    found = operations.alert_list(session.site, tuple(map(AlertState, states)), channel, limit)
    rows = [_row(each) for each in found.listed]
    columns = _columns(session.site.clock)
    if any(row["problem"] for row in rows):
        columns.append(Column("problem", lambda row: row["problem"] or "", lambda _: "red", wraps=True))
    if any(row["seen_at"] for row in rows):
        columns.append(Column("seen by", _seen_by, lambda _: "green", wraps=True))
    show(rows, KEYS, columns, format_name)
    if rows:
        session.note("")
    for sentence in _closing(found):
        session.note(sentence)


def _row(listed: operations.ListedAlert) -> dict[str, Any]:
    alert = listed.alert
    waits = alert.state is AlertState.WAITING
    again = alert.again if waits and alert.attempts else None
    seen = listed.seen
    taken = {
        "seen_by": seen.who if seen is not None else None,
        "seen_at": iso(seen.at) if seen is not None else None,
        "seen_note": seen.note if seen is not None else None,
    }
    return row_of(alert, KEYS, subject=listed.subject, events=alert.count, again=again, **taken)


def _seen_by(row: Row) -> str:
    if not row["seen_at"]:
        return ""
    return ": ".join(filter(None, (row["seen_by"] or "someone", row["seen_note"])))


def _columns(clock: Clock) -> list[Column]:
    def moment(text: str | None) -> str:
        return on_clock(clock, text, "%a %d %b %H:%M")

    def state(row: Row) -> str:
        return str(row["state"])

    def when(row: Row) -> str:
        if row["state"] != "waiting":
            return moment(row["ended"])
        return f"again {moment(row['again'])}" if row["again"] else f"due {moment(row['due'])}"

    def style(row: Row) -> str:
        return _STYLES[row["state"]]

    return [
        Column("", lambda row: str(row["id"]), lambda _: "dim", right=True),
        Column("state", state, style),
        Column("made", lambda row: moment(row["made"]), lambda _: "dim", optional=2),
        Column("channel", lambda row: row["channel"]),
        Column(
            "alert", lambda row: row["subject"], lambda row: "bold" if row["severity"] == "high" else "", wraps=True
        ),
        Column("when", when, lambda row: "" if row["state"] == "waiting" else "dim", optional=1),
    ]


def _closing(found: operations.AlertList) -> list[str]:
    said = [f"{found.counts.get(state, 0)} {state}" for state in AlertState]
    told = [f"{', '.join(said)}." if sum(found.counts.values()) else "No alert was sent yet."]
    if not found.channels:
        told.append("No channel is set yet: scopion alerts add makes one, by mail or otherwise.")
    elif found.counts.get(AlertState.FAILED):
        told.append("scopion alerts retry tries those again that failed.")
    return told


@alerts.command("show")
@click.argument("number", metavar="ALERT", type=click.IntRange(min=1))
@click.option("--html", is_flag=True, help="The HTML part of the mail.")
@pass_session
def show_(session: Session, number: int, html: bool) -> None:
    """The message of an alert, as it was sent or would be sent now."""
    message = operations.message_of(session.site, number)
    if html:
        from scopion.alerts.html_templates import html_of

        echo(html_of(message))
        return
    echo(style(message.subject, bold=True))
    echo()
    for line in message.text.splitlines():
        echo(click.wrap_text(line, _WIDTH, preserve_paragraphs=True) if not line.startswith(" ") else line)


@alerts.command()
@click.argument("numbers", metavar="ALERT...", type=click.IntRange(min=1), nargs=-1, required=True)
@click.option("--note", metavar="TEXT", default="", help="What you do: 'a new power supply is ordered'.")
@click.option("--by", "who", metavar="NAME", default="", help="Who takes care of it [your account].")
@pass_session
def seen(session: Session, numbers: tuple[int, ...], note: str, who: str) -> None:
    """Say that you take care of alerts: they are not told again.

    scopion status and the next message about the same device say who does, since when, and the note.
    """
    from scopion.operations.notify.follow_alerts import take_on

    taken = take_on(session.site, numbers, note, who)
    named = joined([str(each) for each in taken.numbers])
    session.note(f"{taken.who or 'You'} took on alert {named}: {'they are' if len(taken.numbers) > 1 else 'it is'} "
                 "not told again.")  # fmt: skip


@alerts.command()
@click.argument("channel")
@pass_session
def test(session: Session, channel: str) -> None:
    """Send a marked test by CHANNEL now, and explain each step."""

    def step(text: str) -> None:
        session.note(f"  {text}")

    operations.test_channel(session.site, channel, step)
    session.note(style("It works.", fg="green") + " Look whether the test has arrived.")


@alerts.command()
@click.argument("numbers", metavar="[ALERT]...", type=click.IntRange(min=1), nargs=-1)
@pass_session
def retry(session: Session, numbers: tuple[int, ...]) -> None:
    """Try again at once: these alerts, or all that failed or wait."""
    chosen = operations.retry_alerts(session.site, numbers)
    session.note(
        f"{counted(len(chosen), 'alert')} will be tried as soon as scopion watch runs."
        if chosen
        else "Nothing has failed, and nothing waits for another try."
    )


@alerts.command()
@click.argument("device", metavar="[DEVICE]", type=options.DeviceParam(), required=False)
@_event
@click.option("--for", "span", type=options.SpanParam(), metavar="TIME", help="For how long: 2h, 3d.")
@click.option(
    "--until",
    type=options.MomentParam(end=True, ahead=True),
    metavar="WHEN",
    help="Until then: 18:00, 'tomorrow 08:00', friday.",
)
@click.option("--end", is_flag=True, help="Unmute it; without a DEVICE or kind, everything.")
@output_format
@pass_session
def mute(
    session: Session,
    device: str | None,
    kind: str | None,
    span: float | None,
    until: datetime | None,
    end: bool,
    format_name: str | None,
) -> None:
    """Send no alerts for a DEVICE or a kind of event for a time; without any, list what is muted.

    scopion events still lists what happens.
    """
    chosen = EventKind(kind) if kind else None
    if end:
        ended = operations.unmute(session.site, device, chosen)
        session.note(f"{counted(ended, 'mute')} ended.")
        return
    if device is None and chosen is None:
        if span or until:
            raise click.UsageError("name a DEVICE or an --event: everything at once cannot be muted")
        _show_muted(session, format_name)
        return
    if (span is None) == (until is None):
        raise click.UsageError("say for how long: --for 2h, or --until 'tomorrow 08:00'")
    clock = session.site.clock
    last = until or clock.now() + timedelta(seconds=span or 0)
    if last <= clock.now():
        raise click.UsageError("that moment is over")
    made = operations.mute(session.site, device, chosen, last)
    what = " of ".join(filter(None, (kind, made.device)))
    session.note(f"Muted until {clock.local(last):%A %d %B, %H:%M}: {what}.")


def _show_muted(session: Session, format_name: str | None) -> None:
    clock = session.site.clock
    rows = [
        row_of(each.mute, MUTE_KEYS, device=each.device, event=each.mute.kind)
        for each in operations.muted(session.site)
    ]
    columns = [
        Column("device", lambda row: row["device"] or "any"),
        Column("event", lambda row: row["event"] or "any"),
        Column("until", lambda row: on_clock(clock, row["until"])),
    ]
    show(rows, MUTE_KEYS, columns, format_name)
    session.note(f"{counted(len(rows), 'mute')} in force." if rows else "Nothing is muted.")


@alerts.command()
@click.argument("subnet", required=False)
@click.option(
    "--end", is_flag=True, help="End it now: alerts about devices that join are no longer gathered for a day."
)
@click.option("--until", type=options.DayParam(), metavar="DATE", help="Continue to the end of this day.")
@options.place
@output_format
@pass_session
def learning(
    session: Session, subnet: str | None, end: bool, until: Any, place: str | None, format_name: str | None
) -> None:
    """The subnets that are being learnt, and until when; or end it.

    After a subnet's first complete scan, joined devices are gathered in one alert a day, so that a laptop which was off
    on the first evening causes no alarm. Unwanted devices and a changed gateway cause an alert at once.
    """
    clock = session.site.clock
    if end or until:
        last = clock.from_local(datetime.combine(until + timedelta(days=1), datetime.min.time())) if until else None
        chosen = operations.end_learning(session.site, subnet, place, last)
        names = joined([str(each) for each in chosen])
        session.note(
            f"{names}: learnt until the end of {until}."
            if until
            else f"{names}: alerts about devices that join are no longer gathered for a day."
        )
        return
    learnt = [each for each in operations.learning_subnets(session.site) if place in (None, each.place)]
    rows = [row_of(each, LEARNING_KEYS, subnet=each.range) for each in learnt]
    columns = [
        Column("subnet", lambda row: row["name"]),
        Column("learnt until", lambda row: on_clock(clock, row["until"])),
    ]
    show(rows, LEARNING_KEYS, columns, format_name)
    session.note(
        "Devices that join these are gathered in one alert a day; --end ends that."
        if rows
        else "No subnet is being learnt: alerts about devices that join are not gathered for a day."
    )


for command in (set_channels.add, set_channels.remove, rules, set_channels.rehearse):
    alerts.add_command(command)
