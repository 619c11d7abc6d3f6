"""Moves a damaged roster aside, once, even if two processes find it at the same time. It is never overwritten."""

from __future__ import annotations

import os
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from scopion.roster.store.file_lock import lock
from scopion.roster.store.write_files import free_name, open_file, storage_failed


def move_aside(path: Path, is_damaged: Callable[[Path], bool]) -> Path | None:
    """Rename the file and its log. Returns the new name, or None if another process was faster.

    Raises StorageFailed if the folder cannot be written.
    """
    stamp = datetime.now(UTC).strftime("%Y%m%d-%H%M%S")
    try:
        with os.fdopen(open_file(path.with_name(path.name + ".lock")), "r+b") as held:
            lock(held.fileno(), wait=True)
            if not is_damaged(path):
                return None
            aside = free_name(path.with_name(f"{path.name}.damaged-{stamp}"))
            # The log first: if it stayed beside the new roster, it would be taken for that one's.
            for tail in ("-wal", "-shm"):
                beside = path.with_name(path.name + tail)
                if os.path.lexists(beside):
                    beside.rename(aside.with_name(aside.name + tail))
            path.rename(aside)
            return aside
    except OSError as error:
        raise storage_failed(path, error) from None
