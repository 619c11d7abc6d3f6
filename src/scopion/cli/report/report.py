"""``scopion report``."""

from __future__ import annotations

import os
import sys
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from scopion.cli.parts import options
from scopion.cli.parts.flags import gathered
from scopion.cli.parts.output import output_format, separated, show, show_table
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, plain_column
from scopion.cli.parts.terminal import echo, style
from scopion.model.errors import UsageError
from scopion.model.text import counted, joined
from scopion.model.week import on_the_wall
from scopion.reports.content import Part
from scopion.roster.store.write_files import make_folder, write_atomically

if TYPE_CHECKING:
    from scopion.reports.content import Report

_STYLES = {"high": "red bold", "medium": "yellow", "low": ""}
_CONCERNS = (
    Column("", lambda each: str(each.weight), lambda each: _STYLES[each.weight]),
    Column("what needs attention", lambda each: each.says, wraps=True),
    Column("go on with", lambda each: each.command, lambda _: "bold"),
)
_SENTENCES = ("says", "sentence", "do", "pushed", "verified", "unusual_hours", "missed_hours", "usually")
_LONG = ("vendor", "vendor_place", "where", "devices", "command")
# What can be drawn, and in which form; the tests compare it with the code that draws, so that --help need not load
# that.
FIGURES = ("presence", "comings", "hours", "busy-hours", "new-devices", "vendors", "kinds", "addresses")
TABLE_NAMES = (
    "attention", "devices", "days", "events", "hours", "busy-hours", "new-devices", "vendors", "kinds", "places",
    "addresses", "wires", "usage", "wireless", "audit",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class ReportOutputs:
    """The outputs of a report; without any, the summary goes to standard output."""

    page: Path | None
    opens: bool
    sheets: Path | None  # a folder
    table: str | None
    figures: tuple[tuple[str, Path], ...]
    channel: str | None
    format_name: str | None

    @property
    def any(self) -> bool:
        """Tell whether any output is chosen."""
        return bool(self.page or self.sheets or self.table or self.figures or self.channel)

    def check(self) -> None:
        """Check the choice before anything is computed. Raises UsageError."""
        if self.opens and (self.page is None or str(self.page) == "-"):
            raise UsageError("--open shows a page: say where with --html FILE")
        for _, path in self.figures:
            if path.suffix.lower() not in (".png", ".svg"):
                raise UsageError(f"{str(path)!r} is neither .png nor .svg: its name says what the figure becomes")


@click.command()
@click.option(
    "--since", metavar="WHEN", type=options.MomentParam(), help="From this moment on [four weeks, including today]."
)
@options.until
@click.option(
    "--part",
    "parts",
    type=options.one_of(Part),
    metavar="PART",
    multiple=True,
    help=f"Only these: {', '.join(Part)}. May be repeated.",
)
@click.option(
    "--html",
    "page",
    metavar="FILE",
    type=click.Path(dir_okay=False, path_type=Path, allow_dash=True),
    help="Write one page that needs no other file; - is standard output.",
)
@click.option("--open", "opens", is_flag=True, help="With --html: show the page in your browser.")
@click.option(
    "--csv",
    "sheets",
    metavar="DIR",
    type=click.Path(file_okay=False, path_type=Path),
    help="Write every table as a CSV file into this folder.",
)
@click.option(
    "--table",
    type=click.Choice(TABLE_NAMES),
    metavar="NAME",
    help=f"One table on standard output: {', '.join(TABLE_NAMES)}.",
)
@click.option(
    "--figure",
    "figures",
    nargs=2,
    type=(click.Choice(FIGURES), click.Path(dir_okay=False, path_type=Path)),
    metavar="NAME FILE",
    multiple=True,
    help=f"One figure, by its file's name as .png or .svg: {', '.join(FIGURES)}. May be repeated.",
)
@click.option("--send", "channel", metavar="CHANNEL", help="Send it now by a channel of site.toml, with the page.")
@options.place
@output_format
@pass_session
@gathered("out", ReportOutputs)
def report(
    session: Session,
    since: datetime | None,
    until: datetime | None,
    parts: tuple[str, ...],
    place: str | None,
    out: ReportOutputs,
) -> None:
    """Look back on a period: summary, page, tables, figures.

    Without options it prints the summary and what needs attention. The page is one HTML file for any browser, for paper
    and for mail. Nothing is sent, except that the wifi audit reads access points.
    """
    from scopion.operations.report.make_report import ReportRequest
    from scopion.operations.report.make_report import report as look_back
    from scopion.reports.content import HAPPENINGS

    out.check()
    wanted = _wanted(parts, out)
    every = out.sheets is not None or out.table == "events"
    made = look_back(session.site, ReportRequest(since, until, wanted, None if every else HAPPENINGS, place))
    if not out.any:
        if out.format_name in (None, "table"):
            _tell(session, made)
        else:
            _document(made, out.format_name)
        return
    if out.table is not None:
        _table(made, out.table, out.format_name)
    if out.sheets is not None:
        _sheets(session, made, out.sheets)
    for name, path in out.figures:
        from scopion.reports.figures import draw

        draw(made, name, path)
        session.note(f"{path} shows {name}.")
    if out.page is not None:
        _page(session, made, out.page, out.opens)
    if out.channel is not None:
        from scopion.operations.report.send_weekly import send_report

        sent = send_report(session.site, out.channel, made, session.detail)
        session.note(f"Sent by {out.channel}: {sent.subject}. Its page is {session.site.folder / sent.page}.")


def _wanted(parts: tuple[str, ...], out: ReportOutputs) -> tuple[Part, ...]:
    """Return the parts that are needed: reading access points for a figure of something else would be a waste."""
    if not parts and (out.page or out.sheets or out.channel or (out.table is None and not out.figures)):
        return tuple(Part)
    from scopion.reports.tables import TABLES

    needed = {*parts, *([TABLES[out.table].part] if out.table is not None else ())}
    needed |= {Part.ADDRESSES} if "addresses" in dict(out.figures) else set()
    return tuple(each for each in Part if each in needed) or (Part.DEVICES,)


def _tell(session: Session, made: Report) -> None:
    """Print the summary and what needs attention."""
    from scopion.reports.sentences import said_period

    about = f"{made.site}, {made.place}" if made.place else made.site
    echo(style(f"{about}, {said_period(made.since, made.until)}", bold=True))
    for sentence in made.summary:
        echo(sentence)
    if made.attention:
        echo()
        show_table(made.attention, _CONCERNS)
    session.note("")
    session.note("The whole as a page: scopion report --html report.html; as tables: --csv DIR.")


def _document(made: Report, format_name: str | None) -> None:
    """Print the summary and what needs attention for machines: json has both, other formats the latter only."""
    from scopion.reports.tables import TABLES

    attention = TABLES["attention"]
    rows = list(attention.rows(made))
    document = {
        "site": made.site,
        "since": made.since.isoformat(timespec="minutes"),
        "until": made.until.isoformat(timespec="minutes"),
        "summary": list(made.summary),
        "attention": rows,
    }
    show(rows, attention.keys, (), format_name, document=document)


def _table(made: Report, name: str, format_name: str | None) -> None:
    from scopion.reports.tables import TABLES

    keys = TABLES[name].keys
    columns = [plain_column(key, wraps=key in _SENTENCES, shrinks=key in _LONG) for key in keys]
    show(list(TABLES[name].rows(made)), keys, columns, format_name)


def _sheets(session: Session, made: Report, folder: Path) -> None:
    from scopion.reports.tables import TABLES

    make_folder(folder)
    chosen = {name: each for name, each in TABLES.items() if made.has(each.part)}
    for name, each in chosen.items():
        lines = [each.keys, *([row[key] for key in each.keys] for row in each.rows(made))]
        write_atomically(folder / f"{name}.csv", separated(lines, ",").encode())
    session.note(f"{counted(len(chosen), 'table')} in {folder}: {joined(list(chosen))}.")


def _page(session: Session, made: Report, page: Path, opens: bool) -> None:
    from scopion.reports.page import page as drawn

    html = drawn(made, on_the_wall(session.site.clock.now(), session.site.clock.local))
    if str(page) == "-":
        echo(html, nl=False)
        return
    write_atomically(page, html.encode())
    session.note(f"The report is in {page}.")
    if opens:
        show_in_browser(session, page)


def has_screen() -> bool:
    """Tell whether a browser would have a window: a browser for terminals would take over that of the story."""
    return sys.platform in ("darwin", "win32") or any(os.environ.get(each) for each in ("DISPLAY", "WAYLAND_DISPLAY"))


def show_in_browser(session: Session, page: Path) -> None:
    """Show a file in this machine's browser, if it has one."""
    import webbrowser

    if not webbrowser.open(page.resolve().as_uri()):
        session.note("No browser was found to show it: open the file yourself.")
