"""Locks on files, by which processes that share a folder take turns.

On a system without such locks (Windows) every lock succeeds: one person uses such a machine, and SQLite protects its
own file.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path

from scopion.model.errors import Refused
from scopion.roster.store.write_files import make_folder, open_file, storage_failed

# A process that only asks for the holder of a lock has the lock for a moment itself.
_BETWEEN_S = 0.05


class FileLock:
    """Holds a file of a site's folder locked while it is entered, with the number of this process in it.

    Raises Refused with ``refusal`` if another process, whose number it is given, keeps it for longer than
    ``patience_s`` seconds; StorageFailed if the file cannot be written.
    """

    def __init__(self, path: Path, patience_s: float, refusal: Callable[[int | None], str]) -> None:
        self._path, self._patience_s, self._refusal = path, patience_s, refusal
        self._handle = -1

    def __enter__(self) -> FileLock:
        make_folder(self._path.parent)
        try:
            self._handle = open_file(self._path)
        except OSError as error:
            raise storage_failed(self._path, error) from None
        with ExitStack() as unless_held:
            unless_held.callback(os.close, self._handle)
            try:
                self._wait()
                os.ftruncate(self._handle, 0)
                os.write(self._handle, f"{os.getpid()}\n".encode())
            except OSError as error:
                raise storage_failed(self._path, error) from None
            unless_held.pop_all()
        return self

    def _wait(self) -> None:
        deadline = time.monotonic() + self._patience_s
        while not lock(self._handle):
            if time.monotonic() > deadline:
                raise Refused(self._refusal(holder_of(self._path)))
            time.sleep(_BETWEEN_S)

    def __exit__(self, *_: object) -> None:
        # The file stays: if it were removed, two processes could lock two files of one name.
        os.ftruncate(self._handle, 0)
        os.close(self._handle)


def holder_of(path: Path) -> int | None:
    """The number of the process that holds a ``FileLock``; None if none does."""
    try:
        with path.open("r") as file:
            if not lock(file.fileno(), shared=True):
                text = file.read(20).strip()
                return int(text) if text.isdecimal() else None
    except OSError:
        return None
    return None


def lock(handle: int, *, shared: bool = False, wait: bool = False) -> bool:
    """Lock an open file until it is closed. Returns False if another process has locked it.

    ``wait``: wait until it is free. Raises OSError if the file system has no locks.
    """
    try:
        import fcntl
    except ImportError:
        return True
    flags = fcntl.LOCK_SH if shared else fcntl.LOCK_EX
    try:
        fcntl.flock(handle, flags if wait else flags | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True
