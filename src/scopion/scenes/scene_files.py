"""The files of a made-up access point: those in the site's folder, so that a file's enforcer can be tried out."""

from __future__ import annotations

import stat
from collections.abc import Sequence
from pathlib import Path

from scopion.attachment.ports import Ran
from scopion.model.errors import EnforcerUnreachable
from scopion.roster.store.write_files import write_atomically


class SceneShell:
    """Implements ``Shell``: paths lie within a folder, and no program runs."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def run(self, command: Sequence[str], stdin: str = "") -> Ran:
        """Raises EnforcerUnreachable."""
        raise EnforcerUnreachable(f"a made-up site runs no programs: {command[0]} was not started")

    def read(self, path: str) -> str | None:
        """Byte for byte."""
        try:
            return self._inside(path).read_bytes().decode("utf-8", "surrogateescape")
        except FileNotFoundError:
            return None
        except OSError as error:
            raise EnforcerUnreachable(f"{path}: {error.strerror}") from None

    def write(self, path: str, text: str) -> None:
        """Whole, or not at all."""
        write_atomically(self._inside(path), text.encode("utf-8", "surrogateescape"))

    def settle(self, path: str) -> None:
        """Nothing was kept: a file is exchanged whole here."""

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """The mode; its group is made up."""
        try:
            return stat.S_IMODE(self._inside(path).stat().st_mode), "netdev"
        except OSError:
            return None

    def close(self) -> None:
        """Nothing is open."""

    def _inside(self, path: str) -> Path:
        found = (self._folder / path.lstrip("/")).resolve()
        if not found.is_relative_to(self._folder.resolve()):
            raise EnforcerUnreachable(f"{path} lies outside of the made-up site")
        return found
