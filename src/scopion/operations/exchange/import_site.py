"""Takes in a whole site from one file as if it came from a stranger: everything is checked before it is used.

Sizes are limited before and while it is unpacked, names come from a list, nothing is ever written outside of the site's
folder, and no site is overwritten. The roster is read row by row before it is ours. What acts - programs, channels,
enforcers, addresses - is told, and stays switched off unless a person agrees to it.
"""

from __future__ import annotations

import json
import shutil
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory

from scopion.discovery.kinds import load_kinds
from scopion.model.errors import (
    DamagedListing,
    DamagedRoster,
    InvalidSettings,
    Refused,
    ScopionError,
    StorageFailed,
    UsageError,
)
from scopion.model.text import counted
from scopion.operations.exchange.disable_actions import switched_off, what_acts
from scopion.operations.exchange.export_site import FORMAT, LIMITS, MANIFEST, Archived
from scopion.operations.site.load_settings import FILE as SETTINGS_FILE
from scopion.operations.site.open_vendors import FILE as VENDORS_FILE
from scopion.roster.store.open_roster import FILE as ROSTER_FILE
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.write_files import make_folder, replacing, storage_failed
from scopion.roster.upkeep.check_roster import foreign_schema, unsound
from scopion.scenes import STORY_FILE
from scopion.vendors.snapshot import Snapshot

# Rosters shrink to a tenth, and zeros to a thousandth: a file that grows so much is a bomb, not a site.
_MOST_GROWTH, _SMALL = 200, 1024**2
_PART = 1024**2
_SHOWN = 3


@dataclass(frozen=True, slots=True)
class SiteImport:
    """A site that is unpacked and checked, and not yet in its folder."""

    place: Path  # where it is meanwhile
    names: tuple[str, ...]
    acts: tuple[str, ...]  # what of its settings acts, a line each

    def settle(self, folder: Path, *, agreed: bool) -> Archived:
        """Put it into its folder. ``agreed``: what acts stays as it is, else as comments. Raises StorageFailed."""
        remarks = []
        if self.acts and not agreed:
            path = self.place / SETTINGS_FILE
            path.write_text(switched_off(path.read_bytes().decode()), encoding="utf-8", newline="")
            what = counted(len(self.acts), "setting that acts is a comment", "settings that act are comments")
            remarks.append(f"{what} in {folder / SETTINGS_FILE} now")
        _place(self.place, folder, self.names)
        return Archived([*self.names], remarks)


@contextmanager
def site_import(folder: Path, path: str) -> Iterator[SiteImport]:
    """Unpack a site for a folder that has none yet, and check it; it is removed at the end unless it was settled.

    Raises Refused, UsageError, DamagedRoster, StorageFailed: then there is no site.
    """
    _require_room(folder)
    with TemporaryDirectory(prefix="scopion-") as holder:
        place = Path(holder)
        with _opened(path) as archive:
            names = tuple(name for name in archive.namelist() if name != MANIFEST)
            for name in names:
                _unpack(archive, name, place / name, path)
        _check_roster(place, path)
        _check_others(place, path, names)
        acts = what_acts(_settings(place, path)) if SETTINGS_FILE in names else []
        yield SiteImport(place, names, tuple(acts))


def _require_room(folder: Path) -> None:
    for name in (ROSTER_FILE, STORY_FILE):
        if (folder / name).exists():
            raise Refused(f"{folder} has a site already: give a new folder, scopion --site DIR import --site FILE.zip")


@contextmanager
def _opened(path: str) -> Iterator[zipfile.ZipFile]:
    """Open a site's file if all names and sizes in it are allowed."""
    try:
        with zipfile.ZipFile(path) as archive:
            _check_sizes(archive, path)
            yield archive
    except ScopionError:
        raise
    except OSError as error:
        raise StorageFailed(f"{path} cannot be read: {error.strerror or error}") from None
    except (zipfile.BadZipFile, zlib.error, EOFError, RuntimeError, ValueError) as error:
        raise UsageError(f"{path} is damaged, or no site: {error}") from None


def _check_sizes(archive: zipfile.ZipFile, path: str) -> None:
    names = archive.namelist()
    if not {MANIFEST, ROSTER_FILE} <= set(names) <= set(LIMITS) or len(names) != len(set(names)):
        raise UsageError(f"{path} is not a site: scopion export --site FILE.zip writes one")
    for info in archive.infolist():
        grows = info.file_size > max(_SMALL, _MOST_GROWTH * info.compress_size)
        if grows or info.file_size > LIMITS[info.filename]:
            raise _too_large(path, info.filename)
        if info.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
            raise UsageError(f"{path} is packed in another way than scopion export packs a site")
    with archive.open(MANIFEST) as stream:
        _check_manifest(stream.read(LIMITS[MANIFEST] + 1), path)


def _check_manifest(data: bytes, path: str) -> None:
    try:
        manifest = json.loads(data)
        known = manifest["format"] == FORMAT and manifest["version"] == 1
    except (ValueError, KeyError, TypeError, RecursionError):
        known = False
    if not known:
        raise UsageError(f"{path} is not a site that this version knows")


def _settings(place: Path, path: str) -> str:
    try:
        return (place / SETTINGS_FILE).read_bytes().decode("utf-8")
    except UnicodeDecodeError:
        raise UsageError(f"{path}: {SETTINGS_FILE} in it is not UTF-8 text; nothing was taken in") from None


def _unpack(archive: zipfile.ZipFile, name: str, target: Path, path: str) -> None:
    """Unpack one file, never more of it than announced and allowed: a zip file may lie about its sizes."""
    left = min(LIMITS[name], archive.getinfo(name).file_size)
    with archive.open(name) as stream, target.open("xb") as file:
        while part := stream.read(_PART):
            left -= len(part)
            if left < 0:
                raise _too_large(path, name)
            file.write(part)


def _too_large(path: str, name: str) -> UsageError:
    return UsageError(f"{path}: {name} in it is larger than a site's can be; nothing was taken in")


def _check_roster(place: Path, path: str) -> None:
    """See that Scopion could have written every row, and that nothing in the file acts."""
    try:
        with (place / ROSTER_FILE).open("rb") as file:
            if file.read(16) != b"SQLite format 3\0":
                raise DamagedRoster("it is not a roster")
        # An older one is migrated here.
        with closing(Roster.open(place)) as roster:
            if roster.moved_aside is not None:
                raise DamagedRoster("its file is damaged")
            problems = [*foreign_schema(roster), *unsound(roster, _time_in(place))]
            if problems:
                raise DamagedRoster("; ".join(problems[:_SHOWN]))
            roster.shrink()
    except (DamagedRoster, StorageFailed) as error:
        raise DamagedRoster(f"{path}: the roster in it cannot be used: {error}; nothing was taken in") from None


def _time_in(place: Path) -> datetime:
    """Return the time now; in a made-up site, whose story may be in the future, that of the story."""
    now = datetime.now(UTC)
    try:
        return max(now, datetime.fromisoformat(json.loads((place / STORY_FILE).read_bytes())["at"]).astimezone(UTC))
    except (OSError, ValueError, KeyError, TypeError, OverflowError, RecursionError):
        return now


def _check_others(place: Path, path: str, names: Sequence[str]) -> None:
    try:
        load_kinds(place)
        if VENDORS_FILE in names:
            snapshot = Snapshot.open(place / VENDORS_FILE)
            for registry in snapshot.dates:
                snapshot.listing(registry)
        if STORY_FILE in names and not str(json.loads((place / STORY_FILE).read_bytes())["scene"]).isidentifier():
            raise ValueError("a scene of elsewhere")
    except (InvalidSettings, DamagedListing) as error:
        raise UsageError(f"{path}: {str(error).replace(f'{place}/', '')}; nothing was taken in") from None
    except (ValueError, KeyError, TypeError, IndexError, RecursionError):
        raise UsageError(f"{path}: a file in it is damaged; nothing was taken in") from None


def _place(place: Path, folder: Path, names: Sequence[str]) -> None:
    """Put what was checked into the site's folder; the roster last, so that a site is there whole or not at all."""
    make_folder(folder)
    written: list[Path] = []
    try:
        for name in sorted(names, key=lambda name: name == ROSTER_FILE):
            written.append(folder / name)
            with (place / name).open("rb") as source, replacing(folder / name) as target:
                shutil.copyfileobj(source, target, _PART)
    except OSError as error:
        for each in written:
            with suppress(OSError):
                each.unlink(missing_ok=True)
        raise storage_failed(folder, error) from None
