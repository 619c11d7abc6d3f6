"""``scopion wifi audit`` and ``passphrase``: what protects a network, whatever its lists say."""

from __future__ import annotations

from datetime import date, datetime
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.output import output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column
from scopion.cli.parts.terminal import echo, prompt, style
from scopion.model.errors import CheckNotMet
from scopion.model.text import counted, joined

if TYPE_CHECKING:
    from scopion.operations.wifi.audit_networks import Audited

_COLOURS = {"high": "red bold", "medium": "yellow", "low": "cyan", "fine": "green", "unknown": "dim"}
_GRADES = ("high", "medium", "low")
KEYS = ("ssid", "grade", "where", "about", "says", "do")
COLUMNS = (
    Column("grade", lambda row: row["grade"], lambda row: _COLOURS[row["grade"]]),
    Column("where", lambda row: row["where"]),
    Column("about", lambda row: row["about"]),
    Column("finding", lambda row: row["says"] + (f"\n→ {row['do']}" if row["do"] else ""), wraps=True),
)
DEVICE_KEYS = ("name", "kind", "place", "macs", "present", "essential")
DEVICE_COLUMNS = (
    Column("", lambda row: "[ ]"),
    Column("name", lambda row: row["name"], lambda row: "bold" if row["essential"] else ""),
    Column("what it may be", lambda row: row["kind"] or "", shrinks=True),
    Column("place", lambda row: row["place"] or "", optional=1),
    Column("here", lambda row: "here" if row["present"] else "not now", lambda row: "" if row["present"] else "dim"),
)


@click.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkParam(), required=False)
@click.option(
    "--admin-password",
    type=click.Choice(["changed", "default"]),
    metavar="WHICH",
    help="Whether the router's own password was changed: changed or default.",
)
@click.option(
    "--passphrase-changed",
    metavar="DATE",
    type=click.DateTime(["%Y-%m-%d"]),
    help="When the passphrase was changed last, as 2026-01-31.",
)
@click.option(
    "--fail-on",
    type=click.Choice(_GRADES),
    metavar="GRADE",
    help="End with exit code 3 for a finding of this grade or worse: high, medium, low.",
)
@output_format
@pass_session
def audit(
    session: Session,
    ssid: str | None,
    admin_password: str | None,
    passphrase_changed: datetime | None,
    fail_on: str | None,
    format_name: str | None,
) -> None:
    """What protects the network: encryption, passphrase, and more.

    Reads access points and configuration files, and asks for what they do not tell. A passphrase is judged where it is
    read; it is neither shown nor kept.
    """
    from scopion.operations.wifi.audit_networks import audit as look

    if (admin_password or passphrase_changed) and ssid is None:
        raise click.UsageError("say of which network: scopion wifi audit SSID")
    if ssid is not None:
        _note(session, ssid, admin_password, passphrase_changed)
    found = look(session.site, ssid)
    if session.can_ask and ssid is not None and found[0].unanswered:
        _ask(session, found[0])
        found = look(session.site, ssid)
    rows = [row_of(one, KEYS, ssid=each.ssid) for each in found for one in each.findings]
    show(rows, KEYS, COLUMNS, format_name)
    session.note("")
    session.note(_sentence(rows))
    if fail_on is not None:
        bad = [row for row in rows if row["grade"] in _GRADES[: _GRADES.index(fail_on) + 1]]
        if bad:
            raise CheckNotMet(f"{counted(len(bad), 'finding')} of grade {fail_on} or worse")


@click.command()
@options.ssid
@output_format
@pass_session
def passphrase(session: Session, ssid: str, format_name: str | None) -> None:
    """Propose a passphrase, and list the devices that need it.

    It is not stored: write it down. Afterwards: scopion wifi audit SSID --passphrase-changed DATE.
    """
    from scopion.operations.devices.list_devices import described_devices
    from scopion.operations.wifi.audit_networks import need_passphrase_again
    from scopion.wireless.judge_posture import propose_passphrase

    needing = need_passphrase_again(session.site, ssid)
    kinds = {each.device.id: each.guess.kind for each in described_devices(session.site)}
    rows = [row_of(each, DEVICE_KEYS, name=each.called, kind=kinds.get(each.id)) for each in needing.devices]
    new = propose_passphrase()
    left = [{"name": device.called, "because": why} for device, why in needing.left_out]
    document = {"ssid": ssid, "passphrase": new, "devices": rows, "left_out": left}
    session.note(f"A passphrase for {ssid!r}. It is not stored, so write it down:")
    if format_name in (None, "table"):
        echo(f"\n    {style(new, bold=True)}\n")
    show(rows, DEVICE_KEYS, DEVICE_COLUMNS, format_name, document=document)
    session.note("")
    session.note(f"{counted(len(rows), 'device')} will need it after the change. Change it on the access point first.")
    if left:
        session.note(f"Not among them: {joined([f'{device.called} ({why})' for device, why in needing.left_out])}.")


def _note(session: Session, ssid: str, admin_password: str | None, changed: datetime | None) -> None:
    from scopion.operations.wifi.audit_networks import answer

    if admin_password:
        answer(session.site, ssid, "admin-password", admin_password)
    if changed is not None:
        if changed.date() > session.site.clock.local(session.site.clock.now()).date():
            raise click.UsageError(f"{changed.date().isoformat()} lies in the future")
        answer(session.site, ssid, "passphrase-changed", changed.date().isoformat())


def _ask(session: Session, found: Audited) -> None:
    """Ask for what no file tells; a blank line leaves it open."""
    from scopion.operations.wifi.audit_networks import answer

    if "admin-password" in found.unanswered:
        said = prompt(
            f"Has the router's own password been changed from the one it came with? (yes, no, ?) [{found.ssid}]",
            "?", type=click.Choice(["yes", "no", "?"]), show_choices=False, show_default=False,
        )  # fmt: skip
        if said != "?":
            answer(session.site, found.ssid, "admin-password", "changed" if said == "yes" else "default")
    if "passphrase-changed" in found.unanswered:
        said = prompt("When was the passphrase changed last? (2026-01-31, ?)", "?", show_default=False, value_proc=_day)
        if said != "?":
            answer(session.site, found.ssid, "passphrase-changed", said)


def _day(text: str) -> str:
    if text.strip() == "?":
        return "?"
    try:
        return date.fromisoformat(text.strip()).isoformat()
    except ValueError:
        raise click.UsageError("write a day as 2026-01-31") from None


def _sentence(rows: list[dict[str, Any]]) -> str:
    counts = {grade: sum(row["grade"] == grade for row in rows) for grade in (*_GRADES, "unknown", "fine")}
    said = [f"{count} {grade}" for grade, count in counts.items() if count]
    worst = next((row for row in rows if row["grade"] == "high"), None)
    first = f" First of all, the {worst['about']}: {worst['do']}." if worst and worst["do"] else ""
    return f"{', '.join(said)}.{first}"
