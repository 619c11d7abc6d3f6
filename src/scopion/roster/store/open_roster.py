"""Opens the roster: one SQLite file in WAL mode, safe for several processes, never overwritten when damaged.

All reading and writing goes through a ``Roster``'s connection, in the other files of this room.
"""

from __future__ import annotations

import errno
import os
import sqlite3
import sys
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from scopion.model.errors import DamagedRoster, ScopionError, StorageFailed
from scopion.roster.store.schema import APPLICATION_ID, OLDEST, VERSION, bring_up
from scopion.roster.store.stored_values import ADVICE, UNREADABLE, NotOurs
from scopion.roster.store.write_files import make_folder, open_file, storage_failed

FILE = "roster.sqlite"
# Another process holds the roster for a fraction of a second when it folds a scan; ten seconds are a stuck disk.
BUSY_S = 10.0
HOME = "home"  # meta: the name of this machine's place
MEMORY_LOST = "memory_lost"  # meta: the name of the damaged file that this roster replaces, until a scan has told it


class Roster:
    """An open roster. Use ``transaction`` for everything that belongs together."""

    def __init__(self, path: Path, db: sqlite3.Connection) -> None:
        self.path = path
        self.db = db
        self.moved_aside: Path | None = None  # the new name of a damaged file, if this opening has moved one
        self.recording = False  # whether a change is being recorded
        self.has_written = False  # whether any transaction of this process has changed a row
        self._depth = 0
        self._inode = path.stat().st_ino if path.exists() else 0

    @classmethod
    def open(cls, folder: Path) -> Roster:
        """Open the roster of a site's folder for writing; make it if it does not exist.

        A damaged one is moved aside under the name in ``memory_lost``. Raises StorageFailed.
        """
        make_folder(folder)
        path = folder / FILE
        try:
            return cls._opened(path)
        except DamagedRoster:
            from scopion.roster.store.move_aside import move_aside  # rarely needed, and it needs a Unix

            lost = move_aside(path, cls._is_damaged)
        roster = cls._opened(path)
        if lost is not None:
            roster.moved_aside = lost
            with roster.transaction():
                roster.set_meta(MEMORY_LOST, lost.name)
        return roster

    @classmethod
    def open_for_reading(cls, folder: Path) -> Roster:
        """Open the roster for reading only; where none is yet, an empty one in memory. Nothing is made on the disk.

        Raises DamagedRoster, StorageFailed.
        """
        path = folder / FILE
        if not path.exists():
            return cls._in_memory(path)
        db = _connect(f"{path.absolute().as_uri()}?mode=ro")
        try:
            db.execute("SELECT count(*) FROM sqlite_schema").fetchone()
        except sqlite3.OperationalError:
            # No right to make the shared-memory file beside it: the file alone is whole if no log waits.
            db.close()
            db = _connect_without_writing(path)
        except UNREADABLE:
            db.close()
            raise _damaged(path) from None
        roster = cls(path, db)
        with roster.guarded():
            version = _check_version(path, db)
        if version == VERSION:
            return roster
        if not version:  # it is just being made
            db.close()
            return cls._in_memory(path)
        try:
            migrated = cls.open(folder)
        except StorageFailed:
            migrated = cls._in_memory(path, db)  # an old one on a disk that cannot be written is read all the same
        db.close()
        return migrated

    def close(self) -> None:
        """Close the file; a second call does nothing."""
        self.db.close()

    @property
    def is_in_place(self) -> bool:
        """Tell whether the open file still has its name: another process may have moved a damaged one aside."""
        try:
            return self.path.stat().st_ino == self._inode
        except OSError:
            return False

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """Run a transaction; inside another one it is part of that. Raises StorageFailed or DamagedRoster."""
        if self._depth:
            yield self.db
            return
        with self.guarded():
            self.db.execute("BEGIN IMMEDIATE")
            self._depth += 1
            before = self.db.total_changes
            try:
                yield self.db
                self.db.execute("COMMIT")
                self.has_written = self.has_written or self.db.total_changes != before
            finally:
                self._depth -= 1
                if self.db.in_transaction:  # a full disk has already rolled back
                    self.db.execute("ROLLBACK")

    @contextmanager
    def savepoint(self) -> Iterator[None]:
        """Run a part of a transaction that is rolled back alone if it fails."""
        self.db.execute("SAVEPOINT part")
        try:
            yield
        except BaseException:
            if self.db.in_transaction:  # a full disk has rolled back all of it
                self.db.execute("ROLLBACK TO part")
                self.db.execute("RELEASE part")
            raise
        self.db.execute("RELEASE part")

    @contextmanager
    def snapshot(self) -> Iterator[None]:
        """Read everything inside as it is at one moment, whatever other processes write meanwhile."""
        if self.db.in_transaction:
            yield
            return
        with self.guarded():
            self.db.execute("BEGIN")
            try:
                yield
            finally:
                if self.db.in_transaction:
                    self.db.execute("COMMIT")

    @contextmanager
    def guarded(self) -> Iterator[None]:
        """Turn the store's errors into ours, with the file and what to do."""
        try:
            yield
        except sqlite3.OperationalError as error:
            raise _storage_failed(self.path, error) from None
        except sqlite3.IntegrityError:
            raise
        except UNREADABLE:
            raise _damaged(self.path) from None
        except NotOurs as error:
            raise DamagedRoster(f"{self.path}: {error.what}; {ADVICE}") from None

    def rows(self, query: str) -> Iterator[tuple[Any, ...]]:
        """Yield the answer to a query as plain tuples, which are faster than rows with names: for
        lists of everything.
        """
        cursor = self.db.cursor()
        cursor.row_factory = None
        return cursor.execute(query)

    def shrink(self) -> None:
        """Give the room of removed rows back to the disk. Raises StorageFailed."""
        with self.guarded():
            self.db.execute("VACUUM")
            self.db.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def take_from(self, copy: Path) -> None:
        """Take over everything from a copy, in one step that other processes see whole; an old one is migrated."""
        with self.guarded(), closing(_connect(f"{copy.absolute().as_uri()}?mode=ro&immutable=1")) as source:
            source.backup(self.db)
        _use_write_ahead_log(self.db)
        self._migrate()

    @classmethod
    def _in_memory(cls, path: Path, source: sqlite3.Connection | None = None) -> Roster:
        """Return a roster that is only in memory, with the rows of another one, brought up to this version."""
        roster = cls(path, _connect("file::memory:?mode=memory"))
        with roster.guarded():
            if source is not None:
                source.backup(roster.db)
            else:
                roster._inode = 0  # it stands for no file
        roster._migrate(copy=False)
        roster.db.execute("PRAGMA query_only = ON")
        return roster

    def meta(self, key: str) -> str | None:
        """Return a remembered text, or None."""
        row = self.db.execute("SELECT value FROM meta WHERE key = ?", (key,)).fetchone()
        return str(row[0]) if row else None

    def set_meta(self, key: str, value: str | None) -> None:
        """Remember a text, or forget it with None."""
        if value is None:
            self.db.execute("DELETE FROM meta WHERE key = ?", (key,))
        else:
            self.db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (key, value))

    @property
    def home(self) -> str:
        """Return the name of the place of the machine that keeps this roster; empty while it is the only one.

        It is read each time: another process may have named it.
        """
        return self.meta(HOME) or ""

    def placed(self, place: str | None) -> str:
        """Return the name of a place; this machine's for None."""
        return self.home if place is None else place

    @property
    def memory_lost(self) -> str | None:
        """Return the name of the damaged file that this roster replaces, until a scan has been folded."""
        return self.meta(MEMORY_LOST)

    @classmethod
    def _opened(cls, path: Path) -> Roster:
        try:
            if path.is_symlink():
                raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))
            if not path.exists():
                os.close(open_file(path))  # with its mode and owner from the first moment, whatever the umask is
            fresh = path.stat().st_size == 0
            db = _connect(f"{path.absolute().as_uri()}?mode=rw")
        except OSError as error:
            raise storage_failed(path, error) from None
        except sqlite3.OperationalError as error:
            raise _storage_failed(path, error) from None
        roster = cls(path, db)
        try:
            with roster.guarded():
                if not fresh:
                    _check_version(path, db)
                    _require_sound(path, db)
                _use_write_ahead_log(db)
                db.execute("PRAGMA synchronous = NORMAL")
                db.execute("PRAGMA foreign_keys = ON")
            roster._migrate()
        except (ScopionError, OSError) as error:
            db.close()
            if isinstance(error, ScopionError):
                raise
            raise _storage_failed(path, error) from None
        return roster

    @classmethod
    def _is_damaged(cls, path: Path) -> bool:
        try:
            cls._opened(path).close()
        except DamagedRoster:
            return True
        return False

    def _migrate(self, *, copy: bool = True) -> None:
        with self.guarded():
            version = _check_version(self.path, self.db)
            if version == VERSION:
                return
        if version and copy:
            from scopion.roster.store.roster_copies import copy_before_migration

            copy_before_migration(self.path, version)
        with self.transaction() as db:
            # Once more under the lock: another process may have been faster.
            bring_up(db, _check_version(self.path, db))


def _connect(uri: str) -> sqlite3.Connection:
    db = sqlite3.connect(uri, uri=True, timeout=BUSY_S, isolation_level=None)
    db.row_factory = sqlite3.Row
    return db


def _connect_without_writing(path: Path) -> sqlite3.Connection:
    """Open a file where not even shared memory can be made. Raises StorageFailed if that might show half a change."""
    log = path.with_name(FILE + "-wal")
    if not log.exists() or not log.stat().st_size:
        return _connect(f"{path.absolute().as_uri()}?mode=ro&immutable=1")
    if not _is_on_a_read_only_disk(path):
        raise StorageFailed(f"{path} is in use and you may not write beside it: run as its owner")
    # No process writes there: file and log can be copied and read elsewhere, so that what the log holds is not lost.
    import shutil
    import tempfile

    memory = _connect("file::memory:?mode=memory")
    with tempfile.TemporaryDirectory(prefix="scopion-") as folder:
        for each in (path, log):
            shutil.copyfile(each, Path(folder) / each.name)
        with closing(_connect((Path(folder) / FILE).as_uri())) as copied:
            copied.backup(memory)
    return memory


def _is_on_a_read_only_disk(path: Path) -> bool:
    if sys.platform == "win32":
        return False
    return bool(os.statvfs(path).f_flag & os.ST_RDONLY)


def _use_write_ahead_log(db: sqlite3.Connection) -> None:
    """Switch a new file to WAL mode. SQLite does not wait for another process that does the same, so we do."""
    deadline = time.monotonic() + BUSY_S
    while True:
        try:
            db.execute("PRAGMA journal_mode = WAL").fetchone()
            return  # a file system without shared memory keeps its own journal, which is as safe and only slower
        except sqlite3.OperationalError as error:
            if "locked" not in str(error) or time.monotonic() > deadline:
                raise
        time.sleep(0.02)


def _require_sound(path: Path, db: sqlite3.Connection) -> None:
    """Raise DamagedRoster unless the whole file can be read; a roster of a large site takes a tenth of a second."""
    if db.execute("PRAGMA application_id").fetchone()[0] not in (0, APPLICATION_ID):
        raise StorageFailed(f"{path} is not a roster but another program's file: choose another folder with --site")
    if db.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
        raise _damaged(path)


def _check_version(path: Path, db: sqlite3.Connection) -> int:
    version = int(db.execute("PRAGMA user_version").fetchone()[0])
    if version > VERSION:
        raise StorageFailed(f"{path} has schema {version}, this program knows {VERSION}: upgrade scopion")
    if 0 < version < OLDEST and db.execute("PRAGMA application_id").fetchone()[0] == APPLICATION_ID:
        raise StorageFailed(
            f"{path} has schema {version}, which no release had, and this program reads {OLDEST} and later: "
            "move the file away, scopion scan begins a new one"
        )
    return version


def _damaged(path: Path) -> DamagedRoster:
    return DamagedRoster(f"{path} is damaged: scopion scan moves it aside, shows its new name, and starts a new one")


def _storage_failed(path: Path, error: Exception) -> StorageFailed:
    text = str(error)
    if "full" in text:
        advice = "the disk is full: make room and try again"
    elif "readonly" in text or "unable to open" in text or isinstance(error, PermissionError):
        advice = "it cannot be written: check who owns the folder, or choose another with --site"
    elif "locked" in text:
        advice = f"another process has held it for {BUSY_S:.0f} seconds: try again when that has ended"
    else:
        advice = text
    return StorageFailed(f"{path}: {advice}; nothing was changed")
