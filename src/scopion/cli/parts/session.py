"""The state of one run of the program: the site at hand, how much to print, and whether there is a person to ask."""

from __future__ import annotations

import sys
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import click

from scopion.cli.parts.terminal import confirm, released
from scopion.model.errors import UsageError

if TYPE_CHECKING:
    from scopion.operations.site.open_site import Site
    from scopion.roster.store.open_roster import Roster


class Session:
    """Opened by the root command, closed when it ends."""

    def __init__(self, folder: str | None, *, quiet: bool = False, verbose: bool = False) -> None:
        self._asked = folder
        self.quiet = quiet
        self.verbose = verbose

    @property
    def named(self) -> bool:
        """Tell whether the user has chosen the folder."""
        import os

        from scopion.operations.folder.find_folder import VARIABLE

        return bool(self._asked or os.environ.get(VARIABLE))

    @cached_property
    def folder(self) -> Path:
        """Return the site's folder; it need not exist."""
        from scopion.operations.folder.find_folder import site_folder

        return site_folder(self._asked)

    @cached_property
    def site(self) -> Site:
        """Return the site, opened when a command needs it."""
        from scopion.operations.site.open_site import Site

        def before_changes(site: Site, roster: Roster) -> None:
            from scopion.operations.site.upkeep import daily  # it needs more than reading does

            daily(site, roster)

        return Site(self.folder, before_changes)

    def runs(self) -> None:
        """Make this the session of the command that runs now."""
        _running[:] = [self]
        # those of the command before, where one process plays several
        if "scopion.roster.store.write_files" in sys.modules:
            from scopion.roster.store.write_files import written

            written.clear()

    def close(self) -> None:
        """Close what was opened."""
        if "site" in self.__dict__:
            self.site.close()
            for remark in self.site.remarks:
                self.detail(f"{remark}.")

    @property
    def can_ask(self) -> bool:
        """Tell whether a person sits at the terminal."""
        return sys.stdin.isatty() and sys.stderr.isatty()

    def require_yes(self, question: str) -> None:
        """Go on only after a yes. Raises UsageError without a terminal to ask at, Abort for a no."""
        if not self.can_ask:
            raise UsageError("this needs an answer, and there is no terminal to ask at: add --yes to do it")
        confirm(question, abort=True)

    def note(self, text: str) -> None:
        """Print a sentence beside the data, on standard error."""
        if not self.quiet:
            click.echo(_fitted(released(text)), err=True)

    def detail(self, text: str) -> None:
        """Print a sentence that only --verbose asks for."""
        if self.verbose:
            click.echo(_fitted(released(text)), err=True)


_running: list[Session] = []  # the session of this command; a story plays several, one after the other


def what_stands() -> str:
    """Return what a stopped command has done for good, and how to go back; or that nothing was changed."""
    session = _running[-1] if _running else None
    site = session.__dict__.get("site") if session is not None else None
    said = list(site.stands) if site is not None else []
    if "scopion.roster.store.write_files" in sys.modules:
        from scopion.operations.folder.find_folder import SETTINGS
        from scopion.roster.store.write_files import written

        # The site's own bookkeeping was not asked for, so it is not named.
        asked = [
            path for path in written if path.exists() and not any((each / SETTINGS).exists() for each in path.parents)
        ]
        said += [f"{path} is written" for path in dict.fromkeys(asked)]
    if said:
        return "; ".join(said)
    if site is not None and site.has_written:
        return "what the roster had taken in by then stands"
    return "nothing was changed"


def what_is_damaged() -> str:
    """Return what is wrong with the roster that a command has used, and what to do; empty if it is sound or unused."""
    session = _running[-1] if _running else None
    site = session.__dict__.get("site") if session is not None else None
    if site is None or not site.has_roster:
        return ""
    from scopion.operations.site.upkeep import damage

    return damage(site)


def shell_word(text: str) -> str:
    """Return ``text`` quoted for a shell, for commands that a message proposes."""
    import shlex

    return shlex.quote(text)


def _fitted(text: str) -> str:
    """Return a long sentence broken between words, before the terminal breaks it anywhere."""
    if not sys.stderr.isatty() or "\n" in text:
        return text
    import shutil

    return click.wrap_text(text, shutil.get_terminal_size().columns)


pass_session = click.make_pass_decorator(Session)
