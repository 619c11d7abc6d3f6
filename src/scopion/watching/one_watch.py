"""Sees to it that a site is watched once: two would tell everything twice."""

from __future__ import annotations

import os
import time
from pathlib import Path
from types import TracebackType

from scopion.model.errors import Refused
from scopion.roster.store.file_lock import lock
from scopion.roster.store.write_files import make_folder, open_file, storage_failed

FILE = "watch.lock"
_TRIES, _BETWEEN_TRIES_S = 5, 0.05


class OnlyOne:
    """Holds the lock of a site's folder while it is entered. Raises Refused if somebody else has it."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / FILE
        self._handle = -1

    def __enter__(self) -> OnlyOne:
        make_folder(self._path.parent)
        try:
            self._handle = open_file(self._path)
            locked = self._locked()
        except OSError as error:
            raise storage_failed(self._path, error) from None
        if not locked:
            whose = watching_process(self._path.parent)
            os.close(self._handle)
            by = f" by process {whose}" if whose else ""
            raise Refused(
                f"{self._path.parent} is watched already{by}: end that one first, or look at what it does with "
                "scopion events and scopion alerts"
            )
        os.ftruncate(self._handle, 0)
        os.write(self._handle, f"{os.getpid()}\n".encode())
        return self

    def _locked(self) -> bool:
        """Tried a few times: who only asks whether a site is watched holds the lock for a moment."""
        for _ in range(_TRIES):
            if lock(self._handle):
                return True
            time.sleep(_BETWEEN_TRIES_S)
        return False

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        # The file stays: removing it would let two hold two files of one name.
        os.ftruncate(self._handle, 0)
        os.close(self._handle)


def watching_process(folder: Path) -> int | None:
    """The number of the process that watches a site, if one does."""
    try:
        with (folder / FILE).open("r") as file:
            if not lock(file.fileno(), shared=True):
                text = file.read(20).strip()
                return int(text) if text.isdecimal() else None
    except OSError:
        return None
    return None
