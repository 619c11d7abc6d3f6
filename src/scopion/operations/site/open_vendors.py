"""Opens the vendor listing of a site's folder. It is small, because ``scopion vendor`` waits for it."""

from __future__ import annotations

from pathlib import Path

from scopion.scenes import STORY_FILE
from scopion.vendors.registry import Vendors
from scopion.vendors.snapshot import PACKAGED, Snapshot

FILE = "vendors.bin"


def listing_path(folder: Path) -> Path:
    """Return the snapshot in use: the site's own if it was refreshed, else the packaged one."""
    return folder / FILE if (folder / FILE).exists() else PACKAGED


def open_vendors(folder: Path) -> Vendors:
    """Return the registry for a site's folder; a made-up site's vendors come first. Raises DamagedListing."""
    snapshots = [Snapshot.open(listing_path(folder))]
    if (folder / STORY_FILE).exists():
        snapshots[:0] = _scene_makers(folder)
    return Vendors(*snapshots)


def _scene_makers(folder: Path) -> list[Snapshot]:
    from scopion.scenes.story import Story
    from scopion.vendors.listing import read_listing
    from scopion.vendors.snapshot import build_snapshot

    story = Story.of(folder)
    path = story.scene.registry if story else None
    if story is None or path is None:
        return []
    listing = read_listing(path.read_bytes(), path.name, least_rows=1)
    return [Snapshot(build_snapshot([(listing, story.at.date().isoformat())]), path.name)]
