"""``scopion undo``."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts.output import on_clock, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column
from scopion.cli.parts.terminal import echo, style
from scopion.model.clock import spoken_span
from scopion.model.text import counted, joined

if TYPE_CHECKING:
    from scopion.roster.undo.read_changes import RowChange
    from scopion.roster.undo.record_changes import Change

KEYS = ("number", "at", "kind", "says", "who", "undoes", "undone")
# Relations in words for people, in the order of their weight.
_WORDS = {
    "device": "device", "adapter": "adapter", "unpaired": "host without a MAC", "entry": "entry",
    "network": "wireless network", "stay": "stay", "event": "event", "trait": "name or trait",
}  # fmt: skip
_PLURALS = {"entry": "entries", "unpaired": "hosts without a MAC", "trait": "names and traits"}


@click.command()
@click.argument("number", type=click.IntRange(min=1), required=False)
@click.option("--list", "listing", is_flag=True, help="The latest changes; nothing is taken back.")
@click.option("--limit", type=click.IntRange(1, 10_000), default=20, show_default=True, help="How many to list.")
@click.option("--keep-later", is_flag=True, help="Keep what was changed later, and take back the rest.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@output_format
@pass_session
def undo(
    session: Session,
    number: int | None,
    listing: bool,
    limit: int,
    keep_later: bool,
    yes: bool,
    format_name: str | None,
) -> None:
    """Take back a change: shows it, asks, does it.

    NUMBER is the number of a change in --list; without it, the latest change is taken back. An undo can be taken back
    by its number. What scans have seen is never taken back.
    """
    from scopion.operations.edit.undo_change import changes_made, would_undo
    from scopion.operations.edit.undo_change import undo as take_back

    if listing:
        _list(session, changes_made(session.site, limit), format_name)
        return
    change, rows = would_undo(session.site, number)
    if not yes:
        echo(_described(session, change, rows), err=True)
        session.require_yes("Take it back?")
    undone = take_back(session.site, change.id, keep_later=keep_later)
    session.note(f"Taken back: {undone.says}.")


def _described(session: Session, change: Change, rows: Sequence[RowChange]) -> str:
    by = f" by {change.who}" if change.who else ""
    ago = spoken_span(session.site.clock.now() - change.at)
    lines = [f"{style(f'Change {change.id}', bold=True)}, {ago} ago{by}: {change.says}."]
    parts = {"would be restored": rows_where(rows, "after"), "would be removed": rows_where(rows, "before")}
    lines += [f"  {_counted(counts)} {title}" for title, counts in parts.items() if counts]
    lines += [f"  {line}" for row in rows if (line := _turned_back(row))]
    return "\n".join(lines)


def rows_where(rows: Sequence[RowChange], missing: str) -> Counter[str]:
    """Count the rows of each relation that were not there before, or after."""
    return Counter(row.relation for row in rows if getattr(row, missing) is None)


def _counted(counts: Counter[str]) -> str:
    return joined([counted(counts[name], word, _PLURALS.get(name)) for name, word in _WORDS.items() if counts[name]])


def _turned_back(row: RowChange) -> str:
    """Return ``label 'till' would be 'old till' again`` for what people see of a row."""
    if row.before is None or row.after is None or row.relation not in ("device", "network", "entry"):
        return ""
    shown = ("label", "owner", "place", "note", "standing", "guest_until", "because", "mode", "list", "description")
    parts = [
        f"{name.replace('_', ' ')} {_quoted(row.after[name])} would be {_quoted(row.before[name])} again"
        for name in shown
        if name in row.after and row.after[name] != row.before[name]
    ]
    return "; ".join(parts)


def _quoted(value: object) -> str:
    return repr(value) if value else "(empty)"


def _list(session: Session, changes: Sequence[Change], format_name: str | None) -> None:
    rows = [row_of(change, KEYS, number=change.id) for change in changes]
    clock = session.site.clock

    def state(row: Any) -> str:
        return "taken back" if row["undone"] else ""

    def style(row: Any) -> str:
        return "dim" if row["undone"] else ""

    columns = [
        Column("change", lambda row: str(row["number"]), style, right=True),
        Column("when", lambda row: on_clock(clock, row["at"]), style),
        Column("what", lambda row: row["says"], style, shrinks=True),
        Column("", state, style),
        Column("by", lambda row: row["who"] or "", lambda _: "dim", optional=1),
    ]
    show(rows, KEYS, columns, format_name)
    if not rows:
        session.note("Nothing was changed yet.")
