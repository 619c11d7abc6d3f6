"""``scopion demo``."""

from __future__ import annotations

import shlex
import sys
import tempfile
from datetime import datetime
from pathlib import Path

import click

from scopion.cli.begin.demo_steps import run_quietly, run_shown, warm_up
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.terminal import echo, style
from scopion.operations.begin.play_demo import begin_story, chapters, next_moment, page_text, play_rounds
from scopion.scenes.scene import Chapter, SceneMoment, StoryStep

_FOLDER = click.Path(file_okay=False, path_type=Path)
_WIDTH = 100
_COLUMNS = 120  # of the tables, where there is no terminal
REPORT = "report.html"


@click.command()
@click.option("--list", "lists", is_flag=True, help="The chapters.")
@click.option("--chapter", metavar="NAME", help="Only this chapter; earlier ones are played without being shown.")
@click.option("--keep", metavar="DIR", type=_FOLDER, help="Tell the story in this new folder and leave it there.")
@click.option("--begin", metavar="DIR", type=_FOLDER, help="Put the made-up site there, at its story's beginning.")
@click.option(
    "--next", "onward", metavar="DIR", type=_FOLDER, help="Move the clock of a kept story to its next moment."
)
@click.option("--fortnight", metavar="DIR", type=_FOLDER, help="Play two weeks at once in this new folder: a history.")
@pass_session
def demo(
    session: Session,
    lists: bool,
    chapter: str | None,
    keep: Path | None,
    begin: Path | None,
    onward: Path | None,
    fortnight: Path | None,
) -> None:
    """A made-up site: told in a minute, or to try out.

    Kilnhaven Pottery has a workshop, a shop and a café. Its network is played through the same code as a real one;
    no packet leaves this machine. In a terminal it waits for a key between the chapters.
    """
    if sum(each is not None for each in (keep, begin, onward, fortnight)) > 1:
        raise click.UsageError("--keep, --begin, --next and --fortnight exclude each other")
    if chapter is not None and (begin or onward or fortnight):
        raise click.UsageError("--chapter tells a part of the story: it goes with --keep, or alone")
    if lists:
        _list()
    elif onward is not None:
        _narrate(next_moment(onward))
    elif begin is not None:
        _narrate(begin_story(begin).told)
        session.note(_invitation(begin))
    elif fortnight is not None:
        _play(session, fortnight)
        session.note(_invitation(fortnight))
    elif keep is not None:
        _Telling(session, keep, chapter).tell()
        session.note(_invitation(keep))
    else:
        with tempfile.TemporaryDirectory(prefix="scopion-demo-") as folder:
            _Telling(session, Path(folder) / "site", chapter, passing=True).tell()


def _list() -> None:
    for number, each in enumerate(chapters(), 1):
        echo(f"{number:>2}  {style(f'{each.name:<10}', bold=True)}  {each.title}")


class _Telling:
    """Plays the story chapter by chapter: each command is printed, then run as the real program."""

    def __init__(self, session: Session, folder: Path, only: str | None, *, passing: bool = False) -> None:
        self._session, self._folder = session, folder
        self._passing = passing  # the folder goes when the story has ended
        self._chapters = {each.name: each for each in chapters()}
        self._only = self._chosen(only) if only else None
        self._told: Chapter | None = None  # the chapter that runs now
        self._pauses = session.can_ask and sys.stdout.isatty()

    def tell(self) -> None:
        """Play all of it, or one chapter."""
        story = begin_story(self._folder)
        warm_up(step for each in story.scene.moments for step in each.steps)
        moment = story.told
        while True:
            said = False
            for step in moment.steps:
                if step.chapter and not self._turn(self._chapters[step.chapter]):
                    return
                if self._shown:
                    if not said:
                        _narrate(moment)
                        said = True
                    self._show(step)
                elif not step.shows:
                    _run_quietly(step, self._folder)
            if moment.last:
                break
            moment = next_moment(self._folder, looking=True)
        self._end()

    @property
    def _shown(self) -> bool:
        return self._only is None or self._told == self._only

    def _chosen(self, text: str) -> Chapter:
        """Return the chapter by its name, by the beginning of it, or by number."""
        names = list(self._chapters)
        if text.isdecimal() and 1 <= int(text) <= len(names):
            return self._chapters[names[int(text) - 1]]
        wanted = text.casefold()
        found = [wanted] if wanted in names else [name for name in names if name.startswith(wanted)]
        if len(found) != 1:
            raise click.UsageError(f"there is no chapter {text!r}: {', '.join(names)}")
        return self._chapters[found[0]]

    def _turn(self, chapter: Chapter) -> bool:
        """Begin a chapter. Returns whether to go on."""
        before, self._told = self._told, chapter
        if self._only is not None:
            if before == self._only:
                return False
            if chapter != self._only and before is None:
                self._session.note("What comes before is played without showing...")
        elif before is not None and self._pauses:
            echo()
            click.secho("Any key continues, q ends here. ", dim=True, nl=False)
            key = click.getchar()
            echo()
            if key in ("q", "Q", "\x03", "\x04"):
                return False
        if self._shown:
            number = list(self._chapters).index(chapter.name) + 1
            echo()
            click.secho(f" {number}  {chapter.title} ", reverse=True, bold=True)
        return True

    def _show(self, step: StoryStep) -> None:
        if step.says:
            echo()
            click.secho(click.wrap_text(step.says, _WIDTH), italic=True)
        line = style(shlex.join(["scopion", *step.command]), bold=True)
        echo(f"\n{style('$', fg='green', bold=True)} {line}")
        pasted = page_text(self._folder) if step.pastes else ""
        if pasted:
            click.secho(pasted.rstrip("\n"), dim=True)
            echo()
        code = run_shown(step, self._folder, _COLUMNS, pasted)
        if code != step.expects:
            raise click.ClickException(f"scopion {shlex.join(step.command)} ended with {code}")

    def _end(self) -> None:
        """Open the report where there is a screen, and wait before its folder is removed."""
        from scopion.cli.report.report import has_screen, show_in_browser

        page = self._folder / REPORT
        if not self._pauses or not page.exists():
            return
        if has_screen():
            show_in_browser(self._session, page)
        else:
            self._session.note(f"The report is in {page}, for a browser.")
        if self._passing:
            echo()
            click.secho("Any key ends the story; its folder goes with it. ", dim=True, nl=False)
            click.getchar()
            echo()


def _play(session: Session, folder: Path) -> None:
    """Play two weeks, quickly and quietly: the first days, then a scan each hour."""
    story = begin_story(folder)
    warm_up(step for each in story.scene.moments for step in each.steps)
    moment = story.told
    session.note("The first days of the story...")
    while moment.steps:
        for step in moment.steps:
            if not step.shows:
                _run_quietly(step, folder)
        moment = next_moment(folder)
    session.note("...and two weeks more, a scan each hour:")

    def on_day(at: datetime) -> None:
        session.note(f"  {at:%A, %d %B}")

    _narrate(play_rounds(folder, lambda step: None if step.shows else _run_quietly(step, folder), on_day))


def _run_quietly(step: StoryStep, folder: Path) -> None:
    code, said = run_quietly(step, folder, pasted=page_text(folder) if step.pastes else "")
    if code != step.expects:
        raise click.ClickException(f"scopion {shlex.join(step.command)} ended with {code}: {said}")


def _narrate(moment: SceneMoment) -> None:
    echo()
    click.secho(f"── {click.wrap_text(moment.tells, _WIDTH)}", fg="cyan", bold=True)


def _invitation(folder: Path) -> str:
    name = shlex.quote(str(folder))
    return (
        f"\nThe made-up site is in {folder}. Every command works in it:\n"
        f"  export SCOPION_SITE={name}\n"
        "  scopion scan\n"
        f"  scopion demo --next {name}     moves the story's clock"
    )
