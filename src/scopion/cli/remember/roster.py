"""``scopion roster``: check, compact and restore the file that remembers."""

from __future__ import annotations

from typing import Any

import click

from scopion.cli.parts.families import Family
from scopion.cli.parts.output import on_clock, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, Row
from scopion.cli.parts.terminal import style
from scopion.model.clock import Clock
from scopion.model.errors import CheckNotMet
from scopion.model.text import closed, counted, joined, spoken_size
from scopion.operations.site.upkeep import check as examine
from scopion.operations.site.upkeep import chosen_copy, known_devices, restorable
from scopion.operations.site.upkeep import compact as shrink
from scopion.operations.site.upkeep import restore as put_back
from scopion.roster.store.roster_copies import Copy

KEYS = ("name", "made", "devices", "because", "size", "schema")
_HEALTH_KEYS = ("path", "size", "schema", "counts", "problems", "remarks")
_WORDS = {
    "device": "device", "adapter": "adapter", "stay": "stay", "event": "event", "scan": "scan", "change": "change",
}  # fmt: skip


@click.group(cls=Family)
def roster() -> None:
    """The file that remembers: check, compact, restore."""


@roster.command()
@output_format
@pass_session
def check(session: Session, format_name: str | None) -> None:
    """Read everything and show what is wrong; exit code 3 if anything is.

    A copy is made at the first change of each day and kept for a week, and one before each migration.
    """
    health = examine(session.site)
    rows = [_row(copy) for copy in health.copies]
    document = {**row_of(health, _HEALTH_KEYS), "copies": rows}
    show(rows, KEYS, _columns(session.site.clock), format_name, document=document)
    if rows:
        session.note("")
    counts = joined([counted(health.counts[name], word) for name, word in _WORDS.items()])
    session.note(f"{health.path}: {spoken_size(health.size)}, schema {health.schema}; {counts}.")
    for remark in health.remarks:
        session.note(f"{style('Note:', fg='yellow')} {remark}.")
    for problem in health.problems:
        session.note(f"{style('Wrong:', fg='red')} {closed(problem)}")
    if health.problems:
        raise CheckNotMet(
            f"{counted(len(health.problems), 'mistake')} in the roster: scopion roster compact removes stray rows, "
            "scopion roster restore goes back to a copy"
        )
    session.note("Nothing is wrong with it.")


@roster.command()
@pass_session
def compact(session: Session) -> None:
    """Remove what is kept long enough, and free its disk space.

    site.toml says under [keep] how long scans, events, stays, names and changes are kept.
    """
    done = shrink(session.site)
    removed = [f"{count} {name}" for name, count in done.removed.items() if count]
    session.note(f"Removed: {joined(removed) if removed else 'nothing, all is within the time that it is kept'}.")
    if done.mended:
        session.note(
            f"{counted(done.mended, 'row')} had a time in the future, by a wrong clock: it is the present time now."
        )
        session.note("If it is the present clock that is wrong, set it: scopion roster restore has a copy from before.")
    session.note(f"{spoken_size(done.before)} before, {spoken_size(done.after)} now.")


@roster.command()
@click.argument("copy", metavar="[COPY]", required=False)
@click.option("--yes", is_flag=True, help="Do not ask.")
@output_format
@pass_session
def restore(session: Session, copy: str | None, yes: bool, format_name: str | None) -> None:
    """Go back to a copy; without COPY, list them.

    COPY is a name or day from the list, or latest. The replaced roster is kept as a copy.
    """
    if copy is None:
        rows = [_row(each) for each in restorable(session.site)]
        show(rows, KEYS, _columns(session.site.clock), format_name)
        if not rows:
            session.note("There is no copy yet: one is made at the first change of each day.")
        return
    chosen = chosen_copy(session.site, copy)
    if not yes:
        session.require_yes(_question(session, chosen))
    replaced = put_back(session.site, chosen)
    kept = f" What it replaced is kept as {replaced.name}." if replaced else ""
    session.note(f"{chosen.path.name} is in place.{kept}")


def _question(session: Session, copy: Copy) -> str:
    """Return the question: what would replace what, by their numbers; a copy that knows fewer
    devices is named first.
    """
    made = f"{session.site.clock.local(copy.made):%a %Y-%m-%d %H:%M}"
    now, then = known_devices(session.site), copy.devices or 0
    fewer = f"It knows {counted(then, 'device')}, the roster {counted(now, 'device')} now. " if then < now else ""
    return f"{fewer}Put {copy.path.name} ({copy.because}, {made}) in place of the roster?"


def _row(copy: Copy) -> dict[str, Any]:
    return row_of(copy, KEYS, name=copy.path.name)


def _columns(clock: Clock) -> list[Column]:
    def schema(row: Row) -> str:
        return "cannot be read" if row["schema"] is None else f"schema {row['schema']}"

    return [
        Column("copy", lambda row: row["name"]),
        Column("made", lambda row: on_clock(clock, row["made"])),
        Column("devices", lambda row: "?" if row["devices"] is None else str(row["devices"]), right=True),
        Column("what for", lambda row: row["because"]),
        Column("size", lambda row: spoken_size(row["size"]), right=True, optional=1),
        Column("", schema, lambda row: "red" if row["schema"] is None else "dim", optional=2),
    ]
