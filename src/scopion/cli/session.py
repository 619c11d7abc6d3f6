"""What one run of the program holds: the site at hand, how much to say, and whether somebody can be asked."""

from __future__ import annotations

import sys
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import click

from scopion.model.errors import UsageError

if TYPE_CHECKING:
    from scopion.operations.site import Site


class Session:
    """Opened by the root command, closed when it ends."""

    def __init__(self, folder: str | None, *, quiet: bool = False, verbose: bool = False) -> None:
        self._asked = folder
        self.quiet = quiet
        self.verbose = verbose

    @property
    def named(self) -> bool:
        """Whether somebody has said which folder it is."""
        import os

        from scopion.operations.folder import VARIABLE

        return bool(self._asked or os.environ.get(VARIABLE))

    @cached_property
    def folder(self) -> Path:
        """The site's folder; it need not exist."""
        from scopion.operations.folder import site_folder

        return site_folder(self._asked)

    @cached_property
    def site(self) -> Site:
        """The site, opened when a command needs it."""
        from scopion.operations.site import Site

        return Site(self.folder)

    def close(self) -> None:
        """Close what was opened."""
        if "site" in self.__dict__:
            self.site.close()

    @property
    def can_ask(self) -> bool:
        """Whether a person sits at the terminal."""
        return sys.stdin.isatty() and sys.stderr.isatty()

    def require_yes(self, question: str) -> None:
        """Go on only if the person says yes. Raises UsageError where nobody can be asked, Abort for a no."""
        if not self.can_ask:
            raise UsageError("this would be asked, and nobody is there to answer: add --yes to do it")
        click.confirm(question, abort=True, err=True)

    def note(self, text: str) -> None:
        """A sentence beside the data, on standard error."""
        if not self.quiet:
            click.echo(_fitted(text), err=True)

    def detail(self, text: str) -> None:
        """A sentence that only --verbose asks for."""
        if self.verbose:
            click.echo(_fitted(text), err=True)


def shell_word(text: str) -> str:
    """``text`` as a shell takes it, for commands that a message proposes."""
    import shlex

    return shlex.quote(text)


def _fitted(text: str) -> str:
    """A long sentence broken between words where a terminal would break it anywhere."""
    if not sys.stderr.isatty() or "\n" in text:
        return text
    import shutil

    return click.wrap_text(text, shutil.get_terminal_size().columns)


pass_session = click.make_pass_decorator(Session)
