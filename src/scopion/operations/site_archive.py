"""A whole site in one file, and back on another machine: the roster, the settings, and the site's own rules and makers.

Secrets are not part of it: ``site.toml`` only says where they are. What is unpacked is held against a list of names and
sizes; nothing is ever written outside of the site's folder, and no site is written over.
"""

from __future__ import annotations

import json
import zipfile
from dataclasses import dataclass
from pathlib import Path

from scopion import __version__
from scopion.discovery.kinds import SITE_FILE as KINDS_FILE
from scopion.model.errors import DamagedRoster, NotFound, Refused, ScopionError, StorageFailed, UsageError
from scopion.operations.settings import FILE as SETTINGS_FILE
from scopion.operations.site import Site
from scopion.operations.vendors import FILE as VENDORS_FILE
from scopion.roster.copies import copy_roster
from scopion.roster.exchange.fields import iso
from scopion.roster.files import hand_over, make_folder, storage_failed, write_atomically
from scopion.roster.store import FILE as ROSTER_FILE
from scopion.roster.store import Roster
from scopion.scenes import STORY_FILE

MANIFEST = "manifest.json"
_FORMAT = "scopion-site"
# What may be in it, and how large: a year of a large site is 60 MB; a file that claims more is not one of ours.
_LIMITS = {
    MANIFEST: 64 * 1024,
    ROSTER_FILE: 2 * 1024**3,
    SETTINGS_FILE: 4 * 1024**2,
    KINDS_FILE: 4 * 1024**2,
    VENDORS_FILE: 256 * 1024**2,
    STORY_FILE: 64 * 1024,
}


@dataclass(frozen=True, slots=True)
class Archived:
    """What went in or came out."""

    names: list[str]
    remarks: list[str]


def is_archive(data: bytes) -> bool:
    """Whether a file that begins so is a zip file."""
    return data.startswith(b"PK\x03\x04")


def export_site(site: Site, path: str, *, force: bool = False) -> Archived:
    """Write everything into one file. Raises NotFound, Refused for a file that is there, StorageFailed."""
    target = Path(path)
    if not site.has_roster:
        raise NotFound("nothing is remembered yet: there is no site to export")
    if target.exists() and not force:
        raise Refused(f"{path} is there already: --force writes over it")
    names = [name for name in _LIMITS if name not in (MANIFEST, ROSTER_FILE) and (site.folder / name).exists()]
    secrets = any(b"file:" in line.partition(b"#")[0] for line in _settings(site).splitlines())
    remarks = ["Secrets are not in it: copy the files that site.toml names by hand."] if secrets else []
    draft = target.with_name(f".{target.name}.draft")
    copied = target.with_name(f".{target.name}.roster")
    try:
        copy_roster(site.folder / ROSTER_FILE, copied)
        with zipfile.ZipFile(draft, "w", zipfile.ZIP_DEFLATED) as archive:
            manifest = {"format": _FORMAT, "version": 1, "written": iso(site.clock.now()), "by": __version__}
            archive.writestr(MANIFEST, json.dumps(manifest) + "\n")
            archive.write(copied, ROSTER_FILE)
            for name in names:
                archive.write(site.folder / name, name)
        draft.chmod(0o600)
        hand_over(draft)
        draft.replace(target)
    except OSError as error:
        raise storage_failed(target, error) from None
    finally:
        copied.unlink(missing_ok=True)
        draft.unlink(missing_ok=True)
    return Archived([ROSTER_FILE, *names], remarks)


def import_site(folder: Path, path: str) -> Archived:
    """Unpack a site into a folder that has none yet. Raises Refused, UsageError, StorageFailed: then none is there."""
    for name in (ROSTER_FILE, STORY_FILE):
        if (folder / name).exists():
            raise Refused(f"{folder} has a site already: give a new folder, scopion --site DIR import --site FILE.zip")
    contents = _contents(path)
    make_folder(folder)
    written: list[Path] = []
    try:
        for name, data in contents.items():
            if name != MANIFEST:
                write_atomically(folder / name, data)
                written.append(folder / name)
        Roster.open(folder).close()  # migrates an older one
        if damaged := list(folder.glob(f"{ROSTER_FILE}.damaged-*")):
            written += [*damaged, folder / ROSTER_FILE]
            raise DamagedRoster(f"{path}: the roster in it is damaged; nothing was taken in")
    except ScopionError:
        for each in written:
            each.unlink(missing_ok=True)
        raise
    return Archived([name for name in contents if name != MANIFEST], [])


def _settings(site: Site) -> bytes:
    path = site.folder / SETTINGS_FILE
    return path.read_bytes() if path.exists() else b""


def _contents(path: str) -> dict[str, bytes]:
    try:
        with zipfile.ZipFile(path) as archive:
            unknown = [info.filename for info in archive.infolist() if info.filename not in _LIMITS]
            if unknown or MANIFEST not in archive.namelist() or ROSTER_FILE not in archive.namelist():
                raise UsageError(f"{path} is no site: scopion export --site FILE.zip writes one")
            return {info.filename: _content(archive, info, path) for info in archive.infolist()}
    except OSError as error:
        raise StorageFailed(f"{path} cannot be read: {error.strerror}") from None
    except (zipfile.BadZipFile, zipfile.LargeZipFile, NotImplementedError, EOFError, RuntimeError) as error:
        raise UsageError(f"{path} is damaged, or no site: {error}") from None


def _content(archive: zipfile.ZipFile, info: zipfile.ZipInfo, path: str) -> bytes:
    """One file, never more of it than it may have: what a zip file says of its sizes may be a lie."""
    limit = _LIMITS[info.filename]
    with archive.open(info) as stream:
        data = stream.read(limit + 1)
    if len(data) > limit:
        raise UsageError(f"{path}: {info.filename} in it is larger than a site's can be")
    if info.filename == MANIFEST:
        _check_manifest(data, path)
    return data


def _check_manifest(data: bytes, path: str) -> None:
    try:
        manifest = json.loads(data)
        known = manifest["format"] == _FORMAT and manifest["version"] == 1
    except (ValueError, KeyError, TypeError):
        known = False
    if not known:
        raise UsageError(f"{path} is no site that this version knows")
