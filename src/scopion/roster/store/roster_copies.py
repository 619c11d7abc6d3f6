"""Copies of the roster beside it: one a day for a week, one before every migration, one of what a restore replaces.

SQLite's own backup makes them, so that a copy is whole even while another process writes.
"""

from __future__ import annotations

import sqlite3
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path

from scopion.model.errors import StorageFailed
from scopion.roster.store.schema import APPLICATION_ID, OLDEST, VERSION
from scopion.roster.store.stored_values import UNREADABLE
from scopion.roster.store.write_files import DRAFT, free_name, make_folder, others_may_write, replacing, storage_failed

FOLDER = "copies"
_DAILY = "roster-????-??-??.sqlite"
_REPLACED = "roster-replaced-*.sqlite"
_UNMENDED = "unmended"
DAYS_KEPT = 7
_REPLACED_KEPT = 3


@dataclass(frozen=True, slots=True)
class Copy:
    """One copy."""

    path: Path
    made: datetime
    size: int  # octets
    schema: int | None  # None: it cannot be read
    devices: int | None  # how many devices it knows; None: it cannot be read

    @property
    def because(self) -> str:
        """Return what it was made for."""
        name = self.path.stem.removeprefix("roster-")
        if name.startswith("schema-"):
            return "before its form changed"
        if name == _UNMENDED:
            return "with its old times"
        return "replaced by a restore" if name.startswith("replaced-") else "the day's copy"


def copy_roster(source: Path, target: Path, *, own_folder: bool = False) -> None:
    """Copy a roster into a new file, whole or not at all. Raises StorageFailed.

    ``own_folder``: Scopion makes the file's folder, which may be no link.
    """
    import shutil
    import tempfile  # needed once a day, and this file at every start

    # SQLite opens files by their names: the copy is made where no other account can exchange a file for a link.
    beside = None if others_may_write(target.parent) else target.parent
    try:
        with tempfile.TemporaryDirectory(prefix=".copy-", suffix=DRAFT, dir=beside) as place:
            made = Path(place) / target.name
            with (
                closing(sqlite3.connect(f"{source.absolute().as_uri()}?mode=ro", uri=True)) as db,
                closing(sqlite3.connect(made)) as copy,
            ):
                db.backup(copy)
            with made.open("rb") as copied, replacing(target, own_folder=own_folder) as file:
                shutil.copyfileobj(copied, file, 1024 * 1024)
    except OSError as error:
        raise storage_failed(target, error) from None
    except UNREADABLE as error:
        raise StorageFailed(f"{target} cannot be written: {error}") from None


def keep_daily_copy(roster: Path, today: date) -> Path | None:
    """Make today's copy unless it is there, and drop copies older than a week. Raises StorageFailed.

    Returns the copy if it was made now.
    """
    folder = roster.parent / FOLDER
    copy = folder / f"roster-{today.isoformat()}.sqlite"
    if copy.exists():
        return None
    make_folder(folder, like=folder.parent)
    copy_roster(roster, copy, own_folder=True)
    _drop_but_latest(folder, _DAILY, DAYS_KEPT)
    return copy


def copy_before_migration(roster: Path, schema: int) -> None:
    """Keep a roster as it is before its schema changes. Raises StorageFailed: then it must not be changed."""
    _keep_as(roster, f"roster-schema-{schema}.sqlite")


def copy_before_mending(roster: Path) -> None:
    """Keep a roster with its times as they are: the clock of now may be the wrong one. Raises StorageFailed."""
    _keep_as(roster, f"roster-{_UNMENDED}.sqlite")


def copy_before_restore(roster: Path, at: datetime) -> Path:
    """Keep what a restore is about to replace. Raises StorageFailed."""
    folder = roster.parent / FOLDER
    make_folder(folder, like=folder.parent)
    copy = free_name(folder / f"roster-replaced-{at:%Y%m%d-%H%M%S}.sqlite")
    copy_roster(roster, copy, own_folder=True)
    return copy


def _keep_as(roster: Path, name: str) -> None:
    folder = roster.parent / FOLDER
    make_folder(folder, like=folder.parent)
    copy_roster(roster, folder / name, own_folder=True)


def drop_replaced(roster: Path) -> None:
    """Keep only the latest few copies of what restores replaced."""
    _drop_but_latest(roster.parent / FOLDER, _REPLACED, _REPLACED_KEPT)


def copies(roster: Path) -> list[Copy]:
    """Return the copies of a roster, the latest first."""
    found = [_copy(path) for path in (roster.parent / FOLDER).glob("roster-*.sqlite")]
    return sorted(found, key=lambda copy: (copy.made, copy.path.name), reverse=True)


def latest_copy(roster: Path) -> tuple[datetime, int] | None:
    """Return when the latest copy was made, and its octets, without reading it; None if there is none."""
    found = [path.stat() for path in (roster.parent / FOLDER).glob("roster-*.sqlite")]
    latest = max(found, key=lambda each: each.st_mtime, default=None)
    return (datetime.fromtimestamp(latest.st_mtime, UTC), latest.st_size) if latest is not None else None


def _copy(path: Path) -> Copy:
    status = path.stat()
    made = datetime.fromtimestamp(status.st_mtime, UTC)
    return Copy(path, made, status.st_size, schema_of(path), _devices_in(path))


def _devices_in(path: Path) -> int | None:
    try:
        with closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro&immutable=1", uri=True)) as db:
            return int(db.execute("SELECT count(*) FROM device").fetchone()[0])
    except UNREADABLE:
        return None


def schema_of(path: Path) -> int | None:
    """Return the schema of a file if it is a sound roster that this program can read, else None."""
    try:
        with closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro&immutable=1", uri=True)) as db:
            version = int(db.execute("PRAGMA user_version").fetchone()[0])
            ours = db.execute("PRAGMA application_id").fetchone()[0] == APPLICATION_ID
            sound = db.execute("PRAGMA quick_check(1)").fetchone()[0] == "ok"
    except UNREADABLE:
        return None
    return version if ours and sound and OLDEST <= version <= VERSION else None


def _drop_but_latest(folder: Path, pattern: str, keep: int) -> None:
    for old in sorted(folder.glob(pattern))[:-keep]:
        with suppress(OSError):
            old.unlink()
