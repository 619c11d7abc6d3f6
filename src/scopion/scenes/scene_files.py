"""The files of a made-up access point: they lie in the site's folder, so that a file's enforcer can be tried out."""

from __future__ import annotations

import stat
from collections.abc import Callable, Sequence
from pathlib import Path

from scopion.attachment.connect.one_by_one import OneByOne
from scopion.attachment.ports import ControlLine, Ran
from scopion.model.errors import EnforcerUnreachable
from scopion.roster.store.write_files import write_atomically


class SceneShell(OneByOne):
    """Implements ``Shell``: paths lie within a folder, and no program runs."""

    def __init__(self, folder: Path | None, open_line: Callable[[str], ControlLine]) -> None:
        """Without a folder there are no files."""
        super().__init__(self, open_line)
        self._folder = folder

    def run(self, command: Sequence[str], stdin: str = "") -> Ran:
        """Raise EnforcerUnreachable: there are no programs."""
        raise EnforcerUnreachable(f"a made-up site runs no programs: {command[0]} was not started")

    def read(self, path: str) -> str | None:
        """Return a file's text, byte for byte."""
        try:
            return self._inside(path).read_bytes().decode("utf-8", "surrogateescape")
        except FileNotFoundError:
            return None
        except OSError as error:
            raise EnforcerUnreachable(f"{path}: {error.strerror}") from None

    def write(self, path: str, text: str) -> None:
        """Write a file whole, or not at all."""
        write_atomically(self._inside(path), text.encode("utf-8", "surrogateescape"))

    def log(self, words: Sequence[str]) -> str:
        """Return nothing: at its usual level an access point writes nothing of what this program asks for."""
        return ""

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """Return the mode; the group is made up."""
        try:
            return stat.S_IMODE(self._inside(path).stat().st_mode), "netdev"
        except OSError:
            return None

    def _inside(self, path: str) -> Path:
        if self._folder is None:
            raise EnforcerUnreachable("this made-up site keeps no files")
        found = (self._folder / path.lstrip("/")).resolve()
        if not found.is_relative_to(self._folder.resolve()):
            raise EnforcerUnreachable(f"{path} lies outside of the made-up site")
        return found
