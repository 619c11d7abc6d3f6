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
    from datetime import datetime

    from scopion.scenes.scene import Moment, Step

_FOLDER = click.Path(file_okay=False, path_type=Path)
_WIDTH = 100


@click.command()
@click.option("--keep", metavar="DIR", type=_FOLDER, help="Tell the story in this new folder and leave it there.")
@click.option("--begin", metavar="DIR", type=_FOLDER, help="Put the made-up site there, at its story's beginning.")
@click.option(
    "--next", "onward", metavar="DIR", type=_FOLDER, help="Move the clock of a kept story to its next moment."
)
@click.option("--fortnight", metavar="DIR", type=_FOLDER, help="Play two weeks at once in this new folder: a history.")
@pass_session
def demo(session: Session, keep: Path | None, begin: Path | None, onward: Path | None, fortnight: Path | None) -> None:
    """A made-up site, told in a minute, or kept to try out.

    Kilnhaven Pottery has a workshop, a shop and a café. Its network is played through the same code as a real one;
    no packet leaves this machine.
    """
    from scopion.operations.demo import begin_story, next_moment

    if sum(each is not None for each in (keep, begin, onward, fortnight)) > 1:
        raise click.UsageError("--keep, --begin, --next and --fortnight exclude each other")
    if onward is not None:
        _narrate(next_moment(onward))
    elif begin is not None:
        _narrate(begin_story(begin).told)
        session.note(_invitation(begin))
    elif fortnight is not None:
        _play(session, fortnight)
        session.note(_invitation(fortnight))
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


def _play(session: Session, folder: Path) -> None:
    """Two weeks, quickly and quietly: the first chapter, then a scan each hour."""
    from scopion.operations.demo import begin_story, next_moment, play_rounds

    moment = begin_story(folder).told
    session.note("The first chapter of the story...")
    while moment.steps:
        for step in moment.steps:
            if not step.shows:
                _run_quietly(step, folder)
        moment = next_moment(folder)
    session.note("...and two weeks more, a scan each hour:")

    def on_day(at: datetime) -> None:
        session.note(f"  {at:%A, %d %B}")

    _narrate(play_rounds(folder, lambda step: _run_quietly(step, folder), on_day))


def _run_quietly(step: Step, folder: Path) -> None:
    command = [sys.executable, "-m", "scopion", *step.command]
    environment = {**os.environ, "SCOPION_SITE": str(folder)}
    ended = subprocess.run(command, env=environment, capture_output=True, text=True, check=False)
    if ended.returncode != step.expects:
        raise click.ClickException(f"scopion {shlex.join(step.command)} ended with {ended.returncode}: {ended.stderr}")


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
    if ended.returncode != step.expects:
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
