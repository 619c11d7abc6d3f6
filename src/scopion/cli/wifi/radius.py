"""``scopion wifi radius``: lists that access points ask for by RADIUS: the sheet, the server, a test, the log."""

from __future__ import annotations

import sys
from datetime import datetime
from ipaddress import ip_address
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.families import Family
from scopion.cli.parts.logged import Logged
from scopion.cli.parts.output import chosen_format, iso, on_clock, output_format, row_of, show, spoken_ago
from scopion.cli.parts.session import Session, pass_session, shell_word
from scopion.cli.parts.sheets import html_option, write_sheets
from scopion.cli.parts.table import Column, Row
from scopion.cli.parts.terminal import echo, style
from scopion.model.errors import EnforcerUnreachable
from scopion.model.text import capitalised, counted, joined

if TYPE_CHECKING:
    from scopion.operations.radius.tell_answers import ToldAnswer
    from scopion.operations.radius.try_list import Tried

LOG_KEYS = (
    "at", "outcome", "name", "mac", "access_point", "network", "reason", "advice", "until", "test", "source", "said",
)  # fmt: skip
_COLOURS = {"accepted": "green", "other VLAN": "cyan", "rejected": "red", "no answer": "yellow"}
LOG_COLUMNS = (
    Column("when", lambda row: row["when"]),
    Column("answer", lambda row: row["outcome"], lambda row: _COLOURS[row["outcome"]]),
    Column("device", lambda row: row["name"] or row["mac"] or "–", lambda _: "bold", shrinks=True),
    Column("MAC", lambda row: (row["mac"] or "") if row["name"] else "", optional=1),
    Column("access point", lambda row: row["access_point"] or row["source"], shrinks=True),
    Column("network", lambda row: row["network"] or "", shrinks=True, optional=2),
    Column("why", lambda row: _why(row), wraps=True),
)
_TURNS = 4  # access points that a device tries in turn
_SAME = ("outcome", "mac", "access_point", "network", "reason", "test", "source", "said", "ends")
TEST_KEYS = ("access_point", "name", "mac", "outcome", "until", "vlan", "took_ms")
TEST_COLUMNS = (
    Column("access point", lambda row: row["access_point"]),
    Column("device", lambda row: row["name"], lambda _: "bold", shrinks=True),
    Column("MAC", lambda row: row["mac"]),
    Column("answer", lambda row: row["outcome"], lambda row: _COLOURS[row["outcome"]]),
    Column("until", lambda row: row["at"]),
    Column("ms", lambda row: "" if row["took_ms"] is None else str(row["took_ms"]), right=True),
)


class _SheetFirst(Family):
    """The family: another word than a command is an SSID, whose sheet is meant."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Return the command that is typed, or ``sheet``."""
        if not args[0].startswith("-") and self.get_command(ctx, args[0]) is None:
            args = ["sheet", *args]
        return super().resolve_command(ctx, args)


@click.group(cls=_SheetFirst, no_args_is_help=True)
def radius() -> None:
    """Lists for access points of any make, which ask by RADIUS.

    scopion wifi radius SSID is its sheet: what to enter in the access point's page.
    """


@radius.command()
@options.ssid
@click.option("--make-secrets", is_flag=True, help="Make up the secrets whose files are not there yet.")
@click.option("--show-secrets", is_flag=True, help="Write the secrets on the sheet.")
@html_option
@pass_session
def sheet(session: Session, ssid: str, make_secrets: bool, show_secrets: bool, file: Path | None) -> None:
    """What to enter in the page of an access point.

    In general words, because every maker has others: server, ports, secret, MAC authentication, accounting,
    disconnection.
    """
    from scopion.operations.radius.ask_server import radius_settings_of
    from scopion.operations.radius.make_secrets import make_secrets as make
    from scopion.operations.wifi.word_radius_sheet import sheet_for

    if make_secrets:
        made = make(radius_settings_of(session.site, ssid), session.site.folder)
        session.note(f"Made up: {joined(list(map(str, made)))}." if made else "Every secret is there already.")
    write_sheets(session, ssid, [sheet_for(session.site, ssid, show_secrets=show_secrets)], file)


@radius.command()
@click.option("--for", "for_s", type=options.SpanParam(), metavar="TIME", help="End after that, as 90s, 12h or 14d.")
@pass_session
def serve(session: Session, for_s: float | None) -> None:
    """Answer access points until stopped.

    It answers by the lists that were pushed, from memory, and needs no roster. scopion service install sets it up as a
    service that starts early and keeps its ports.
    """
    if sys.platform == "win32":
        raise click.UsageError("the server needs Linux or another Unix")
    if session.site.story is not None:
        raise click.UsageError("the access points of a made-up site are answered without it: there is nothing to start")
    from scopion.watching.radius.run_server import run_server

    with Logged(session):
        run_server(session.site.folder, for_s=for_s)


@radius.command()
@options.ssid
@click.argument("devices", metavar="[DEVICE]...", type=options.DeviceParam(), nargs=-1)
@click.option("--access-point", metavar="NAME", help="As this access point only.")
@click.option("--from", "source", metavar="ADDRESS", help="Ask from this address of this machine, as the access point.")
@output_format
@pass_session
def test(
    session: Session,
    ssid: str,
    devices: tuple[str, ...],
    access_point: str | None,
    source: str | None,
    format_name: str | None,
) -> None:
    """Ask the server as an access point would.

    Without a DEVICE about one that is on the list and one that is on none. The answers count for nothing: no attempt,
    no session. Ends with exit code 1 if no answer comes.
    """
    from scopion.operations.radius.try_list import try_list

    try:
        address = ip_address(source) if source else None
    except ValueError:
        raise click.UsageError(f"{source!r} is not an address of this machine") from None
    tried = try_list(session.site, ssid, devices, access_point=access_point, source=address)
    show([_test_row(session, each) for each in tried], TEST_KEYS, TEST_COLUMNS, format_name)
    silent = [each for each in tried if each.answer.took_s is None]
    if silent:
        raise EnforcerUnreachable(_silence(session, ssid, len(silent) == len(tried)))
    session.note("")
    word = shell_word(ssid)
    session.note(f"The server answers. What access points ask, and what they are told: scopion wifi radius log {word}")


@radius.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkParam(), required=False)
@click.argument("devices", metavar="[DEVICE]...", type=options.DeviceParam(), nargs=-1)
@click.option("--faults", is_flag=True, help="Only what a person has to mend.")
@options.since
@click.option("--limit", type=click.IntRange(min=1), help="The latest N. [30 without --since, else all]")
@output_format
@pass_session
def log(
    session: Session,
    ssid: str | None,
    devices: tuple[str, ...],
    faults: bool,
    since: datetime | None,
    limit: int | None,
    format_name: str | None,
) -> None:
    """The last questions and answers, with the reason for each.

    The latest is at the end. What has to be mended is told with what to do.
    """
    from scopion.operations.radius.standby import standing_in
    from scopion.operations.radius.tell_answers import tell_answers

    most = limit or (None if since else 30)
    told, total = tell_answers(session.site, ssid, devices, since=since, faults=faults, most=most)
    rows = [_log_row(session, each) for each in told]
    show(rows if chosen_format(format_name) != "table" else _together(rows), LOG_KEYS, LOG_COLUMNS, format_name)
    if told:
        session.note("")
    hidden = total - len(told)
    more = f"; {hidden} earlier: --limit or --since shows them" if hidden else ""
    session.note(f"{capitalised(counted(total, 'question'))}{more}.")
    for name, sent in standing_in(session.site):
        when = f"of {spoken_ago(sent, session.site.clock.now())}" if sent is not None else "that never came"
        session.note(f"This machine stands in for a first server of {name!r}, by a list {when}.")
    advised = {each.answer.reason: each.advice for each in told if each.advice}
    for reason, advice in advised.items():
        session.note(f"{style('To mend:', fg='yellow')} {reason}: {advice}.")


@radius.command()
@options.ssid
@pass_session
def export(session: Session, ssid: str) -> None:
    """Print the signed list for the second server.

    For a standby that is not reached over SSH: scopion wifi radius take reads it there. Carry it after each push.
    """
    from scopion.operations.radius.standby import export_list

    echo(export_list(session.site, ssid), nl=False)


@radius.command()
@click.argument("file", metavar="FILE|-", type=click.File("r", encoding="utf-8", errors="surrogateescape"))
@pass_session
def take(session: Session, file: Any) -> None:
    """Take the first server's signed list, on the standby.

    Refused if it was signed with another key, or is older than the one that is here.
    """
    from scopion.operations.radius.standby import take_list

    taken = take_list(session.site, file.read())
    sent = session.site.clock.local(taken.sent)
    session.note(f"The list of {taken.network!r} of {sent:%A %Y-%m-%d, %H:%M:%S} is here; the server answers by it.")


def _test_row(session: Session, tried: Tried) -> dict[str, Any]:
    answer = tried.answer
    took = round(answer.took_s * 1000, 1) if answer.took_s is not None else None
    until = iso(answer.until) if answer.until is not None else None
    row = row_of(answer, TEST_KEYS, name=tried.name, until=until, took_ms=took, vlan=answer.vlan or None)
    return {**row, "at": on_clock(session.site.clock, until)}


def _log_row(session: Session, told: ToldAnswer) -> dict[str, Any]:
    answer = told.answer
    until = iso(told.until) if told.until is not None else None
    at = session.site.clock.local(answer.at)
    row = row_of(
        answer,
        LOG_KEYS,
        name=told.name,
        advice=told.advice or None,
        until=until,
        mac=str(answer.mac) if answer.mac is not None else None,
    )
    ends = f", until {on_clock(session.site.clock, until, '%a %H:%M:%S')}" if told.ends and until else ""
    return {**row, "when": f"{at:%Y-%m-%d %H:%M:%S}", "ends": ends, "times": 1}


def _together(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return rows for a person: the same question and answer several times in a row is one, with its count.

    A device that is refused at one access point after the other is a row for each.
    """
    found: dict[int, dict[str, Any]] = {}
    turns: dict[str | None, list[int]] = {}  # the latest rows of each device
    for number, row in enumerate(rows):
        latest = turns.setdefault(row["mac"], [])
        same = [each for each in latest if all(row[key] == found[each][key] for key in _SAME)]
        if same and (same[-1] == latest[-1] or row["outcome"] == "rejected"):
            latest.remove(same[-1])
            row = {**row, "times": found.pop(same[-1])["times"] + 1}
        found[number] = row
        latest.append(number)
        del latest[:-_TURNS]
    return list(found.values())


def _why(row: Row) -> str:
    test = "a test: " if row["test"] else ""
    said = f" ({row['said']})" if row["said"] else ""
    times = f"; {row['times']} times" if row["times"] > 1 else ""
    return f"{test}{row['reason']}{said}{row['ends']}{times}"


def _silence(session: Session, ssid: str, none_at_all: bool) -> str:
    from scopion.operations.folder.take_turns import serving_process

    if none_at_all and serving_process(session.site.folder) is None:
        return (
            "no answer: the server does not run, so access points get none either; systemctl start scopion-radius "
            "starts it, or scopion wifi radius serve"
        )
    log = f"scopion wifi radius log {shell_word(ssid)} --faults"
    return f"no answer: the server runs, but takes the question for none of its access points; {log} may say why"
