"""A sheet of steps that a person takes by hand, in the terminal or as a page to print."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from scopion.cli.parts.session import Session
from scopion.cli.parts.terminal import echo
from scopion.roster.store.write_files import write_atomically

if TYPE_CHECKING:
    from scopion.wireless.router_sheet import Sheet


html_option = click.option(
    "--html",
    "file",
    metavar="FILE",
    type=click.Path(dir_okay=False, path_type=Path, allow_dash=True),
    help="As a page to print; - is standard output.",
)


def write_sheets(session: Session, subject: str, made: Sequence[Sheet], file: Path | None) -> None:
    """Print sheets about a subject, or write the only one as a page to print. Raises UsageError."""
    from scopion.wireless.write_sheet import html, text

    if file is None:
        echo("\n".join(map(text, made)), nl=False)
    elif len(made) > 1:
        raise click.UsageError(f"there are {len(made)} sheets, and a file is for one: say which is meant")
    elif str(file) == "-":
        echo(html(made[0]), nl=False)
    else:
        write_atomically(file, html(made[0]).encode())
        session.note(f"The sheet of {subject!r} is in {file}.")
