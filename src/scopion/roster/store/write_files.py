"""Writes files so that no reader sees half a file, nothing is written through a link, and no other account reads it
early.

Several people may write in a site's folder, and root in theirs: a name in it may be a link that another account has
made. So files are opened through no link, and get their mode and owner by the open file, never by the name once more.
Under sudo they stay the invoking user's.
"""

from __future__ import annotations

import errno
import os
import stat
import sys
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from scopion.model.errors import StorageFailed
from scopion.model.text import whole_number

# Follow no link, and let no child inherit the file; not every system has these flags.
_NO_LINK = getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0)
# A pipe without a reader is refused at once and does not block us; a file is not affected.
_NO_WAITING = getattr(os, "O_NONBLOCK", 0)
# Whether a file can be named within an open folder: then the folder cannot be exchanged for another meanwhile.
_WITHIN_FOLDER = {os.open, os.rename, os.unlink} <= os.supports_dir_fd and hasattr(os, "O_DIRECTORY")
# What this process has written, for the message after an interrupt; the latest are enough.
written: deque[Path] = deque(maxlen=8)
DRAFT = ".draft"
_DRAFT_IS_OLD_S = 86_400  # no file takes a day to be written: its process was killed


def invoking_user() -> tuple[int, int] | None:
    """Return the user and group that called sudo; None if this is not root under sudo."""
    if sys.platform == "win32" or os.geteuid() != 0:
        return None
    # The largest number stands for "no account" (chown(2)).
    user, group = (whole_number(os.environ.get(name), 2**32 - 2) for name in ("SUDO_UID", "SUDO_GID"))
    return (user, group) if user and group is not None and min(user, group) >= 0 else None


def hand_over(path: Path) -> None:
    """Give what root has made under sudo to the invoking user, unless its folder is root's own."""
    owner = invoking_user()
    if owner is not None and path.parent.stat().st_uid == owner[0]:
        os.chown(path, *owner, follow_symlinks=False)


def make_folder(path: Path, like: Path | None = None) -> None:
    """Make a folder that only its owner can look into - or a group, as in ``like`` - with its parents.

    With ``like``, the site's folder around it, it may be no link to another. Raises StorageFailed.
    """
    missing = [each for each in (path, *path.parents) if not each.exists()]
    try:
        for each in reversed(missing):
            shared = like is not None and private_mode(like) != 0o600
            mode = stat.S_IMODE(like.stat().st_mode) if like is not None and shared else 0o700
            each.mkdir(mode=mode & 0o777)
            # A service in its sandbox may not set the bit of the group, and need not: the kernel passes it down.
            if shared and stat.S_IMODE(each.lstat().st_mode) != mode:
                with _opened_folder(each, _NO_LINK) as at:
                    os.chmod(each if at is None else at, mode)  # noqa: PTH101 - also an open folder
            hand_over(each)
        if like is not None and path.is_symlink():
            raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))
    except FileExistsError:
        if path.is_symlink() or not path.is_dir():
            what = "a link" if path.is_symlink() else "a file"
            raise StorageFailed(f"{path} is {what}, a folder is needed: choose another with --site") from None
    except OSError as error:
        raise storage_failed(path, error) from None


def private_mode(folder: Path | int) -> int:
    """Return the mode of a file in a site's folder: its owner's alone, unless the folder is set up for a group.

    A group that may write into the folder (2770) may change the site, one that may look into it (2750) may read it.
    """
    mode = os.stat(folder).st_mode  # noqa: PTH116 - also of an open folder
    if not mode & stat.S_ISGID or not mode & stat.S_IRGRP:
        return 0o600
    return 0o660 if mode & stat.S_IWGRP else 0o640


def others_may_write(folder: Path) -> bool:
    """Tell whether another account can put something into a folder."""
    there = folder.stat()
    if sys.platform == "win32":
        return False
    return there.st_uid != os.geteuid() or bool(there.st_mode & (stat.S_IWGRP | stat.S_IWOTH))


def open_file(path: Path, flags: int = os.O_RDWR, *, bound: int | None = None) -> int:
    """Open a file that is written in place; make it in ``private_mode`` if it does not exist. Returns its handle.

    ``bound``: an account that has to own both the file and its folder. Raises OSError, also for a link and for what is
    no ordinary file.
    """
    with _opened_folder(path.parent) as at:
        folder, name = (path.parent, path) if at is None else (at, Path(path.name))
        if bound is not None:
            _require_owner(os.stat(folder), bound, "its folder")  # noqa: PTH116 - also of an open folder
        try:
            handle = os.open(name, flags | os.O_CREAT | os.O_EXCL | _NO_LINK, 0o600, dir_fd=at)
        except FileExistsError:
            handle = os.open(name, flags | _NO_LINK | _NO_WAITING, dir_fd=at)
            try:
                there = os.fstat(handle)
                if not stat.S_ISREG(there.st_mode):
                    raise OSError(errno.EINVAL, "it is not an ordinary file") from None
                if bound is not None:
                    _require_owner(there, bound, "it")
            except OSError:
                os.close(handle)
                raise
            return handle
        _set_rights(handle, folder, None, None if bound is None else (bound, -1))
    return handle


def _require_owner(there: os.stat_result, account: int, what: str) -> None:
    if there.st_uid != account:
        raise PermissionError(errno.EACCES, f"{what} belongs to another account than site.toml")


@contextmanager
def _opened_folder(folder: Path, more: int = 0) -> Iterator[int | None]:
    """Open a folder while something in it is named; None if the system cannot name files within an open folder."""
    at = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | more) if _WITHIN_FOLDER else None
    try:
        yield at
    finally:
        if at is not None:
            os.close(at)


@contextmanager
def replacing(
    path: Path, mode: int | None = None, owner: tuple[int, int] | None = None, *, own_folder: bool = False
) -> Iterator[BinaryIO]:
    """Write a new file that replaces ``path`` when the block ends well; else the old one stays as it was.

    No other account can read it until it is whole; then it has ``mode``, or ``private_mode``, and ``owner`` (user,
    group), or under sudo the invoking user. ``own_folder``: Scopion makes its folder, which may be no link. Raises
    OSError.
    """
    draft = f".{path.name[:100]}.{os.urandom(6).hex()}{DRAFT}"
    with _opened_folder(path.parent, _NO_LINK if own_folder else 0) as at:
        name, target = (path.with_name(draft), path) if at is None else (Path(draft), Path(path.name))
        handle = os.open(name, os.O_RDWR | os.O_CREAT | os.O_EXCL | _NO_LINK, 0o600, dir_fd=at)
        try:
            with os.fdopen(handle, "w+b") as file:
                yield file
                file.flush()
                _set_rights(file.fileno(), path.parent if at is None else at, mode, owner)
                os.fsync(file.fileno())
            os.replace(name, target, src_dir_fd=at, dst_dir_fd=at)
            written.append(path)
        except BaseException:
            with suppress(OSError):
                os.unlink(name, dir_fd=at)
            raise


def _set_rights(handle: int, folder: Path | int, mode: int | None, owner: tuple[int, int] | None) -> None:
    if not hasattr(os, "fchmod"):
        return
    os.fchmod(handle, private_mode(folder) if mode is None else mode)
    invoking = invoking_user()
    if owner is None and invoking is not None and os.stat(folder).st_uid == invoking[0]:  # noqa: PTH116 - also open
        owner = invoking
    if owner is not None:
        os.fchown(handle, *owner)


def write_atomically(path: Path, data: bytes, mode: int | None = None, *, own_folder: bool = False) -> None:
    """Write a file whole or not at all, as ``replacing`` does; a reader sees the old or the new one.

    Raises StorageFailed.
    """
    try:
        with replacing(path, mode, own_folder=own_folder) as file:
            file.write(data)
    except OSError as error:
        raise storage_failed(path, error) from None


def remove_old_drafts(folder: Path) -> None:
    """Remove drafts of killed processes from a folder, a day later."""
    import shutil  # needed once a day, and this file at every start

    if folder.is_symlink():
        return  # what lies beyond belongs to another account
    with suppress(OSError):
        for each in folder.glob(f".*{DRAFT}"):
            if time.time() - each.lstat().st_mtime < _DRAFT_IS_OLD_S:
                continue
            if each.is_dir() and not each.is_symlink():
                shutil.rmtree(each, ignore_errors=True)
            else:
                each.unlink()


def free_name(path: Path) -> Path:
    """Return the path, or a free one beside it: ``roster-2.sqlite``, ``roster.sqlite.damaged-...-2``."""
    ending = ".sqlite" if path.suffix == ".sqlite" else ""
    number, candidate = 1, path
    while os.path.lexists(candidate):
        number += 1
        candidate = path.with_name(f"{path.name.removesuffix(ending)}-{number}{ending}")
    return candidate


def reason(error: OSError) -> str:
    """Return in plain words why a file could not be opened or written."""
    if error.errno == errno.ELOOP:
        return "it is a link, and nothing is written through one: remove it"
    return error.strerror or str(error)


def storage_failed(path: Path, error: OSError) -> StorageFailed:
    """Return the error to raise when a file or folder could not be written."""
    return StorageFailed(f"{path} cannot be written: {reason(error)}; nothing was changed")
