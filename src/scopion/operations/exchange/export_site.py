"""A whole site in one file, to move or to keep: the roster, the settings, and the site's own rules and vendors.

Secrets are not part of it: ``site.toml`` only says where they are. ``import_site`` takes such a file in.
"""

from __future__ import annotations

import json
import zipfile
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from scopion import __version__
from scopion.discovery.kinds import SITE_FILE as KINDS_FILE
from scopion.model.errors import NotFound, Refused
from scopion.operations.site.load_settings import FILE as SETTINGS_FILE
from scopion.operations.site.open_site import Site
from scopion.operations.site.open_vendors import FILE as VENDORS_FILE
from scopion.operations.site.reach_machine import order_key
from scopion.roster.exchange.fields import iso
from scopion.roster.store.open_roster import FILE as ROSTER_FILE
from scopion.roster.store.roster_copies import copy_roster
from scopion.roster.store.write_files import replacing, storage_failed
from scopion.scenes import STORY_FILE

MANIFEST = "manifest.json"
FORMAT = "scopion-site"
# The files that may be in it, and their largest size: a year of a large site is 60 MB, so a file that claims more is
# none of ours.
LIMITS = {
    MANIFEST: 64 * 1024,
    ROSTER_FILE: 1024**3,
    SETTINGS_FILE: 4 * 1024**2,
    KINDS_FILE: 4 * 1024**2,
    VENDORS_FILE: 64 * 1024**2,
    STORY_FILE: 64 * 1024,
}


@dataclass(frozen=True, slots=True)
class Archived:
    """What went in or came out."""

    names: list[str]
    remarks: list[str]


def is_archive(data: bytes) -> bool:
    """Tell whether a file with this beginning is a zip file."""
    return data.startswith(b"PK\x03\x04")


def export_site(site: Site, path: str, *, force: bool = False) -> Archived:
    """Write everything into one file. Raises NotFound, Refused for an existing file, StorageFailed."""
    target = Path(path)
    if not site.has_roster:
        raise NotFound("nothing is remembered yet: there is no site to export")
    if target.exists() and not force:
        raise Refused(f"{path} is there already: --force writes over it")
    names = [name for name in LIMITS if name not in (MANIFEST, ROSTER_FILE) and (site.folder / name).exists()]
    secrets = any(b"file:" in line.partition(b"#")[0] for line in _settings(site).splitlines())
    remarks = ["Secrets are not in it: copy the files that site.toml names by hand."] if secrets else []
    if any(site.folder.glob(order_key("*"))):
        remarks.append("Nor are the keys for orders to sensors: copy orders-NAME.key, too.")
    try:
        with (
            TemporaryDirectory() as place,
            replacing(target, 0o600) as draft,
            zipfile.ZipFile(draft, "w", zipfile.ZIP_DEFLATED) as archive,
        ):
            copied = Path(place) / ROSTER_FILE
            copy_roster(site.folder / ROSTER_FILE, copied)
            manifest = {"format": FORMAT, "version": 1, "written": iso(site.clock.now()), "by": __version__}
            archive.writestr(MANIFEST, json.dumps(manifest) + "\n")
            archive.write(copied, ROSTER_FILE)
            for name in names:
                archive.write(site.folder / name, name)
    except OSError as error:
        raise storage_failed(target, error) from None
    return Archived([ROSTER_FILE, *names], remarks)


def _settings(site: Site) -> bytes:
    path = site.folder / SETTINGS_FILE
    return path.read_bytes() if path.exists() else b""
