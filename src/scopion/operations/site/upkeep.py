"""Upkeep of the roster: the daily copy, removal of old records, check, compact, restore."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from scopion.model.errors import DamagedRoster, InvalidSettings, NotFound, Refused, ScopionError, StorageFailed
from scopion.roster.outbox import remove_over
from scopion.roster.store.open_roster import FILE, Roster
from scopion.roster.store.roster_copies import FOLDER as COPIES
from scopion.roster.store.roster_copies import (
    Copy,
    copies,
    copy_before_mending,
    copy_before_restore,
    drop_replaced,
    keep_daily_copy,
    schema_of,
)
from scopion.roster.store.stored_values import ADVICE
from scopion.roster.store.write_files import remove_old_drafts
from scopion.roster.upkeep.check_roster import unsound
from scopion.roster.upkeep.mend_clock import dated_ahead, mend_times
from scopion.roster.upkeep.remove_old import Keep, record_counts, remove_old, remove_stray

if TYPE_CHECKING:
    from scopion.operations.site.open_site import Site

# A copy is due every day; an older one means that copies fail, or that nothing was changed for days.
_COPY_OLD = timedelta(days=2)


@dataclass(frozen=True, slots=True)
class Health:
    """The result of a check."""

    path: Path
    size: int  # octets, the log included
    schema: int
    counts: Mapping[str, int]
    problems: tuple[str, ...]
    copies: tuple[Copy, ...]  # the latest first
    remarks: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Compacted:
    """The result of compacting."""

    removed: Mapping[str, int]
    before: int  # octets
    after: int
    mended: int  # rows that a wrong clock had dated into the future


def daily(site: Site, roster: Roster) -> None:
    """Do what is due once a day, before the first change: make a copy, then remove what is old.

    A copy that fails (a full disk) must not stop the work: ``check`` tells that there is none. A roster without devices
    needs no copy: on the first day it is made once a device was found.
    """
    now = site.clock.now()
    if not roster.db.execute("SELECT EXISTS (SELECT 1 FROM device)").fetchone()[0]:
        return
    with suppress(StorageFailed, InvalidSettings):  # a mistake in site.toml is told by the code that needs it
        if keep_daily_copy(roster.path, site.clock.local(now).date()) is not None:
            remove_old(roster, kept(site), now)
            remove_over(roster, now - timedelta(days=site.settings.alerts.keep_days))
            for folder in (site.folder, site.folder / COPIES):
                remove_old_drafts(folder)


def kept(site: Site) -> Keep:
    """Return how long records are kept at this site."""
    days = site.settings.keep
    return Keep(
        scans=days.scans_days,
        events=days.events_days,
        stays=days.stays_days,
        traits=days.traits_days,
        changes=days.changes_days,
        wires=days.wires_days,
    )


def check(site: Site) -> Health:
    """Read everything. Raises NotFound if there is no roster, DamagedRoster if it cannot be read at all."""
    site.require_roster()
    roster = site.roster_for_reading()
    path = site.folder / FILE
    found = copies(path)
    remarks = []
    if not found:
        remarks.append("there is no copy yet: the next change makes one")
    elif datetime.now(UTC) - found[0].made > _COPY_OLD and site.story is None:
        remarks.append("the latest copy is older than two days: nothing was changed since, or there is no room for it")
    return Health(
        path=path,
        size=_size(path),
        schema=roster.db.execute("PRAGMA user_version").fetchone()[0],
        counts=record_counts(roster),
        problems=tuple(unsound(roster, site.clock.now())),
        copies=tuple(found),
        remarks=tuple(remarks),
    )


def damage(site: Site) -> str:
    """Return what is wrong with the roster of a site, which may be closed, and what to do; empty if nothing is."""
    try:
        with closing(Roster.open_for_reading(site.folder)) as roster:
            problems = unsound(roster, site.clock.now())
    except ScopionError as error:
        return str(error)
    return f"{site.folder / FILE} is damaged: {problems[0]}; {ADVICE}" if problems else ""


def compact(site: Site) -> Compacted:
    """Remove old records and stray rows, and give the room back."""
    site.require_roster()
    roster, path = site.roster, site.folder / FILE
    before = _size(path)
    now = site.clock.now()
    removed = {
        **remove_old(roster, kept(site), now),
        "alerts": remove_over(roster, now - timedelta(days=site.settings.alerts.keep_days)),
        "stray rows": remove_stray(roster),
    }
    mended = 0
    if dated_ahead(roster, now):
        copy_before_mending(path)
        mended = mend_times(roster, now)
    roster.shrink()
    return Compacted(removed, before, _size(path), mended)


def known_devices(site: Site) -> int:
    """Return how many devices the roster knows now; 0 if there is none, or it cannot be read."""
    try:
        return record_counts(site.roster_for_reading())["device"]
    except ScopionError:
        return 0


def restorable(site: Site) -> list[Copy]:
    """Return the copies, the latest first."""
    return copies(site.folder / FILE)


def chosen_copy(site: Site, name: str) -> Copy:
    """Return a copy by its file name, its day, or ``latest``. Raises NotFound, or Refused for one
    that cannot be read.
    """
    known = restorable(site)
    fitting = [
        copy for copy in known if name in (copy.path.name, copy.path.stem, copy.path.stem.removeprefix("roster-"))
    ]
    if name == "latest":
        fitting = known[:1]
    if not fitting:
        raise NotFound(f"there is no copy {name!r}: scopion roster restore lists them")
    if schema_of(fitting[0].path) is None:
        raise Refused(f"{fitting[0].path} is damaged, or of a later version: choose another copy")
    return fitting[0]


def restore(site: Site, copy: Copy) -> Path | None:
    """Put a copy in place of the roster. Returns where the replaced one is kept; None if there was none to keep."""
    replaced = None
    if site.has_roster:
        try:
            replaced = copy_before_restore(site.folder / FILE, site.clock.now())
        except StorageFailed:
            with suppress(DamagedRoster):  # that one is moved aside and so kept; one that can be read must be copied
                site.roster_for_reading()
                raise
    site.roster_in_place().take_from(copy.path)
    drop_replaced(site.folder / FILE)
    return replaced


def _size(path: Path) -> int:
    files = (path, path.with_name(path.name + "-wal"))
    return sum(each.stat().st_size for each in files if each.exists())
