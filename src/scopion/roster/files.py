"""Writing files so that nothing is ever half-written, and so that under sudo they stay the invoking user's."""

from __future__ import annotations

import os
import stat
import sys
from contextlib import suppress
from pathlib import Path

from scopion.model.errors import StorageFailed

# No link is followed that somebody else has put there, and no child inherits the file; not every system has these.
NO_LINK = getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0)


def invoking_user() -> tuple[int, int] | None:
    """The user and group who called sudo, or None if this is not root under sudo."""
    if sys.platform == "win32" or os.geteuid() != 0:
        return None
    user, group = os.environ.get("SUDO_UID", ""), os.environ.get("SUDO_GID", "")
    return (int(user), int(group)) if user.isdecimal() and group.isdecimal() and user != "0" else None


def hand_over(path: Path) -> None:
    """Give a file that root has made under sudo to the user who asked, unless its folder is root's own."""
    owner = invoking_user()
    if owner is not None and path.parent.stat().st_uid == owner[0]:
        os.chown(path, *owner)


def make_folder(path: Path, like: Path | None = None) -> None:
    """Make a folder that only its owner can look into - for a group if ``like`` is - with its parents.

    Raises StorageFailed.
    """
    missing = [each for each in (path, *path.parents) if not each.exists()]
    try:
        for each in reversed(missing):
            shared = like is not None and private_mode(like) != 0o600
            mode = stat.S_IMODE(like.stat().st_mode) if like is not None and shared else 0o700
            each.mkdir(mode=mode & 0o777)
            # A service in its sandbox may not set the bit of the group; it has no need to: the kernel hands it down.
            if shared and stat.S_IMODE(each.stat().st_mode) != mode:
                each.chmod(mode)
            hand_over(each)
    except FileExistsError:
        if not path.is_dir():
            raise StorageFailed(f"{path} is a file, a folder is needed: choose another with --site") from None
    except OSError as error:
        raise storage_failed(path, error) from None


def private_mode(folder: Path) -> int:
    """The mode of a file in a site's folder: its owner's alone, unless the folder is set up for a group.

    A group that may write into the folder (2770) may change the site, one that may look into it (2750) may read it.
    """
    mode = folder.stat().st_mode
    if not mode & stat.S_ISGID or not mode & stat.S_IRGRP:
        return 0o600
    return 0o660 if mode & stat.S_IWGRP else 0o640


def write_atomically(path: Path, data: bytes, mode: int | None = None) -> None:
    """Write a file whole or not at all, in ``private_mode`` unless told otherwise; a reader sees the old or the new.

    Raises StorageFailed.
    """
    import tempfile  # needed rarely, and folders are looked for at every start

    draft: Path | None = None
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        draft = Path(name)
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        draft.chmod(private_mode(path.parent) if mode is None else mode)
        hand_over(draft)
        draft.replace(path)
    except OSError as error:
        if draft is not None:
            with suppress(OSError):
                draft.unlink()
        raise storage_failed(path, error) from None


def free_name(path: Path) -> Path:
    """The path, or one beside it that nobody has: ``roster-2.sqlite``, ``roster.sqlite.damaged-...-2``."""
    ending = ".sqlite" if path.suffix == ".sqlite" else ""
    number, candidate = 1, path
    while candidate.exists():
        number += 1
        candidate = path.with_name(f"{path.name.removesuffix(ending)}-{number}{ending}")
    return candidate


def storage_failed(path: Path, error: OSError) -> StorageFailed:
    """The error to raise when a file or folder could not be written."""
    return StorageFailed(f"{path} cannot be written: {error.strerror}; nothing was changed")
