"""Shows what a file would change, and takes it over: shared by ``scopion import`` and ``scopion review --csv``."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import zip_longest
from pathlib import Path
from typing import TYPE_CHECKING, Any

from scopion.cli.parts.output import show
from scopion.cli.parts.session import Session
from scopion.cli.parts.table import Column
from scopion.cli.parts.terminal import echo, prompt, style
from scopion.model.errors import Refused
from scopion.model.text import closed, counted

if TYPE_CHECKING:
    from scopion.operations.exchange.read_input import Input
    from scopion.operations.exchange.take_over import Intent, Plan

KEYS = ("line", "action", "name", "macs", "changes", "problem")
_STYLES = {"added": "yellow", "changed": "cyan", "same": "dim", "conflict": "red", "left out": "dim"}
_PROBLEMS_TOLD = 20


@dataclass(frozen=True, slots=True)
class TakeOver:
    """How a file is taken over."""

    preview: bool = False  # only show it
    yes: bool = False  # do not ask
    insist: bool = False
    format_name: str | None = None
    columns: tuple[str, ...] | None = None  # what the columns of a person's list are


def take_over_file(session: Session, given: Input, kind: str, how: TakeOver) -> None:
    """Show what a file would change, ask, and do it; with any problem in it, nothing is changed."""
    from scopion.operations.exchange.exchange_devices import NOTES, TakeOverRequest, plan_import, take_over

    path = given.path
    columns = _columns(session, given, how) if kind == NOTES else ()
    request = TakeOverRequest(kind, how.insist, columns)
    plan = plan_import(session.site, given, request)
    _show(session, plan, kind, how.format_name)
    _tell_problems(path, plan)
    _tell_counts(session, plan)
    if how.preview or (not plan.changes and not plan.problems):
        session.note("A preview: nothing was changed." if how.preview else "There is nothing to change.")
        return
    if plan.problems:
        raise Refused(f"{path}: {counted(len(plan.problems), 'line')} cannot be taken over; nothing was changed")
    if not how.yes:
        session.require_yes(f"Take over {counted(len(plan.changes), 'change')}?")
    done = take_over(session.site, given, request)
    session.note(f"{counted(len(done.changes), 'device')} taken over. To take it back: scopion undo")


def _columns(session: Session, given: Input, how: TakeOver) -> tuple[str, ...]:
    """Say what the columns of a person's list are taken for, with their first texts; ask in a terminal."""
    from scopion.operations.exchange.exchange_devices import proposed_columns

    proposed = proposed_columns(given)
    uses = how.columns or tuple(str(each.use) for each in proposed)
    session.note("This is read as your own list. Its columns:")
    for number, (column, use) in enumerate(zip_longest(proposed, uses), 1):
        if column is not None:
            heading = f" {column.heading!r}" if column.heading else ""
            samples = ", ".join(column.samples) or "MAC addresses" if column.use == "mac" else ", ".join(column.samples)
            session.note(f"  {number}{heading}: {style(use or '?', bold=True)} ({samples or 'empty'})")
    if how.columns or not session.can_ask or how.yes or how.preview:
        return uses
    said = prompt("They are (label, owner, place, note, kind, mac, - for none)", ",".join(uses))
    return tuple(each.strip() for each in said.split(","))


def _show(session: Session, plan: Plan, kind: str, format_name: str | None) -> None:
    rows = [_row(intent) for intent in plan.changes]
    columns = [
        Column("line", lambda row: str(row["line"]), lambda _: "dim", right=True),
        Column("", lambda row: row["action"], lambda row: _STYLES[row["action"]]),
        Column("name", lambda row: row["name"]),
        Column("MAC", lambda row: " ".join(row["macs"]), lambda _: "dim", shrinks=True, optional=1),
        Column("what changes", lambda row: "; ".join(row["changes"]), wraps=True),
    ]
    document = {
        "kind": kind,
        "changes": rows,
        "problems": [str(problem) for problem in plan.problems],
        "left_out": [str(problem) for problem in plan.left_out],
        "unchanged": len(plan.intents) - len(rows),
    }
    show(rows, KEYS, columns, format_name, document=document)


def _row(intent: Intent) -> dict[str, Any]:
    changes = [_said(*each) for each in intent.differing]
    if intent.device is None:
        record = intent.record
        texts = {what: getattr(record, what) for what in ("label", "owner", "place", "note", "kind")}
        changes = [f"{what} {text!r}" for what, text in texts.items() if text]
        changes += [f"standing {record.standing}"] if record.standing else []
    elif intent.joining:
        changes.append(f"gains {', '.join(map(str, intent.joining))}")
    return {
        "line": intent.record.line,
        "action": intent.action,
        "name": intent.called,
        "macs": [str(mac) for mac in intent.record.macs],
        "changes": changes,
        "problem": None,
    }


def _said(what: str, was: str, will: str) -> str:
    words = what.replace("_", " ")
    if not was:
        return f"{words} {will!r}"
    return f"{words} {will!r}, was {was!r}" if will else f"no {words}, was {was!r}"


def _tell_problems(path: str, plan: Plan) -> None:
    for problem in plan.problems[:_PROBLEMS_TOLD]:
        echo(f"{style('Conflict:', fg='red')} {Path(path).name}, {closed(str(problem))}", err=True)
    more = len(plan.problems) - _PROBLEMS_TOLD
    if more > 0:
        echo(f"{style('Conflict:', fg='red')} and {more} more.", err=True)


def _tell_counts(session: Session, plan: Plan) -> None:
    if plan.changes:
        session.note("")
    for left_out in plan.left_out[:_PROBLEMS_TOLD]:
        session.note(f"Left out: {left_out}.")
    actions = [intent.action for intent in plan.intents]
    words = (("added", "to be added"), ("changed", "changed"), ("same", "as they are"))
    counts = ", ".join(f"{actions.count(action) or 'none'} {word}" for action, word in words)
    session.note(f"{counted(len(actions), 'device')}: {counts}; {counted(len(plan.problems), 'conflict')}.")
