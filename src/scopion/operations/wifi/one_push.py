"""Sees to it that one push at a time changes what a site's enforcers hold: the second waits for the first."""

from __future__ import annotations

import os
import time
from pathlib import Path
from types import TracebackType

from scopion.model.errors import Refused
from scopion.roster.store.file_lock import lock
from scopion.roster.store.write_files import make_folder, open_file, storage_failed

FILE = "push.lock"
# A push over SSH to a slow router with a full list takes half a minute; three of them in a row are a mistake.
_PATIENCE_S = 120.0
_BETWEEN_S = 0.1


class OnePush:
    """Holds the lock of a site's folder while it is entered. Raises Refused if another push goes on for too long."""

    def __init__(self, folder: Path, patience_s: float = _PATIENCE_S) -> None:
        self._path = folder / FILE
        self._patience_s = patience_s
        self._handle = -1

    def __enter__(self) -> OnePush:
        make_folder(self._path.parent)
        try:
            self._handle = open_file(self._path)
        except OSError as error:
            raise storage_failed(self._path, error) from None
        deadline = time.monotonic() + self._patience_s
        try:
            while not lock(self._handle):
                if time.monotonic() > deadline:
                    raise Refused("another push to this site's enforcers goes on: try again when it has ended")
                time.sleep(_BETWEEN_S)
        except OSError as error:
            os.close(self._handle)
            raise storage_failed(self._path, error) from None
        except (Refused, KeyboardInterrupt):
            os.close(self._handle)
            raise
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        os.close(self._handle)  # the file stays: removing it would let two hold two files of one name
