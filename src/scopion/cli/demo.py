"""``scopion demo``."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING

import click

from scopion.cli.session import Session, pass_session

if TYPE_CHECKING:
    from scopion.scenes.scene import Moment, Step

_FOLDER = click.Path(file_okay=False, path_type=Path)
_WIDTH = 100


@click.command()
@click.option("--keep", metavar="DIR", type=_FOLDER, help="Tell the story in this new folder and leave it there.")
@click.option("--begin", metavar="DIR", type=_FOLDER, help="Put the made-up site there, at its story's beginning.")
@click.option(
    "--next", "onward", metavar="DIR", type=_FOLDER, help="Move the clock of a kept story to its next moment."
)
@pass_session
def demo(session: Session, keep: Path | None, begin: Path | None, onward: Path | None) -> None:
    """A made-up site, told in a minute, or kept to try out.

    Kilnhaven Pottery has a workshop, a shop and a café. Its network is played through the same code as a real one;
    no packet leaves this machine.
    """
    from scopion.operations.demo import begin_story, next_moment

    if sum(each is not None for each in (keep, begin, onward)) > 1:
        raise click.UsageError("--keep, --begin and --next exclude each other")
    if onward is not None:
        _narrate(next_moment(onward))
    elif begin is not None:
        _narrate(begin_story(begin).told)
        session.note(_invitation(begin))
    elif keep is not None:
        _tell(keep)
        session.note(_invitation(keep))
    else:
        with tempfile.TemporaryDirectory(prefix="scopion-demo-") as folder:
            _tell(Path(folder) / "site")


def _tell(folder: Path) -> None:
    """The first chapter: each command is printed, then run as the real program."""
    from scopion.operations.demo import begin_story, next_moment

    moment = begin_story(folder).told
    while moment.steps:
        _narrate(moment)
        for step in moment.steps:
            _run(step, folder)
        moment = next_moment(folder)


def _run(step: Step, folder: Path) -> None:
    if step.says:
        click.echo()
        click.secho(click.wrap_text(step.says, _WIDTH), italic=True)
    line = click.style(shlex.join(["scopion", *step.command]), bold=True)
    click.echo(f"\n{click.style('$', fg='green', bold=True)} {line}")
    sys.stdout.flush()
    environment = {**os.environ, "SCOPION_SITE": str(folder), "SCOPION_FORMAT": "table"}
    if not sys.stdout.isatty():
        environment.setdefault("COLUMNS", str(_WIDTH + 20))
    # One stream, so that the story is whole and in order in a pipe, too.
    command = [sys.executable, "-m", "scopion", *step.command]
    ended = subprocess.run(command, env=environment, stderr=subprocess.STDOUT, check=False)
    if ended.returncode != 0:
        raise click.ClickException(f"scopion {shlex.join(step.command)} ended with {ended.returncode}")


def _narrate(moment: Moment) -> None:
    click.echo()
    click.secho(f"── {click.wrap_text(moment.tells, _WIDTH)}", fg="cyan", bold=True)


def _invitation(folder: Path) -> str:
    name = shlex.quote(str(folder))
    return (
        f"\nThe made-up site is in {folder}. Every command works in it:\n"
        f"  export SCOPION_SITE={name}\n"
        "  scopion scan\n"
        f"  scopion demo --next {name}     moves the story's clock"
    )
