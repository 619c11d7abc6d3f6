"""Writes what people say of devices: texts, standings, that two are one, that one is to be forgotten.

Called inside a change, so that all of it can be taken back.
"""

from __future__ import annotations

from datetime import date, datetime
from sqlite3 import IntegrityError

from scopion.model.device import Device, Standing
from scopion.model.errors import ChangedMeanwhile, UsageError
from scopion.model.observation import Source, Trait, TraitKind
from scopion.roster.folding.note_traits import note_traits
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import to_ms, unpaired_subject
from scopion.roster.usage.history import forget_usage

TEXTS = ("label", "owner", "place", "note")


def set_description(roster: Roster, device: Device, **texts: str | None) -> None:
    """Change a device's label, owner, place or note; None leaves one as it is. Raises UsageError for a label in use."""
    changes = {column: text for column, text in texts.items() if text is not None and getattr(device, column) != text}
    if not texts.keys() <= set(TEXTS):
        raise TypeError(f"not texts of a device: {sorted(texts)}")
    if not changes:
        return
    setting = ", ".join(f"{column} = ?" for column in changes)
    with roster.transaction() as db:
        try:
            db.execute(
                f"UPDATE device SET {setting}, revision = revision + 1 WHERE id = ?", (*changes.values(), device.id)
            )
        except IntegrityError:
            raise UsageError(
                f"{changes['label']!r} is the label of another device: choose another, or rename that one first"
            ) from None


def set_kind(roster: Roster, device: Device, kind: str, at: datetime) -> None:
    """Keep what people say that a device is, in place of what they said before; an empty text forgets that."""
    subjects = _subjects(device)
    with roster.transaction() as db:
        db.executemany(
            "DELETE FROM trait WHERE subject = ? AND kind = ?", [(subject, TraitKind.KIND) for subject in subjects]
        )
        if kind and subjects:
            note_traits(db, subjects[0], "", [Trait(TraitKind.KIND, kind, Source.LISTING)], at, at)


def set_essential(roster: Roster, device: Device, essential: bool) -> None:
    """Set whether a device must never be refused on the air."""
    if device.essential == essential:
        return
    with roster.transaction() as db:
        db.execute("UPDATE device SET essential = ?, revision = revision + 1 WHERE id = ?", (essential, device.id))


def set_standing(
    roster: Roster, device: Device, standing: Standing, at: datetime, *, until: date | None = None, because: str = ""
) -> None:
    """Change a device's standing, with when and why; an unchanged one keeps its date."""
    if device.standing_since and (device.standing, device.guest_until, device.because) == (standing, until, because):
        return
    since = device.standing_since if device.standing is standing else None
    with roster.transaction() as db:
        db.execute(
            "UPDATE device SET standing = ?, guest_until = ?, standing_since = ?, because = ?, "
            "revision = revision + 1 WHERE id = ?",
            (standing, until.isoformat() if until else None, to_ms(since or at), because, device.id),
        )


def join_devices(roster: Roster, kept: Device, other: Device) -> None:
    """Make two devices one: the first one keeps its number and what was said of it, the other fills its blanks."""
    with roster.transaction() as db:
        # Labels are unique: the other device gives its label up before it can be taken over.
        db.execute("UPDATE device SET label = '' WHERE id = ?", (other.id,))
        texts = {name: getattr(kept, name) or getattr(other, name) for name in ("label", "owner", "place")}
        texts["note"] = "; ".join(dict.fromkeys(filter(None, (kept.note, other.note))))
        set_description(roster, kept, **texts)
        if kept.standing is Standing.NEW and other.standing is not Standing.NEW:
            at = other.standing_since or other.first_seen
            set_standing(roster, kept, other.standing, at, until=other.guest_until, because=other.because)
        db.execute("UPDATE device SET first_seen = min(first_seen, ?) WHERE id = ?", (to_ms(other.first_seen), kept.id))
        set_essential(roster, kept, kept.essential or other.essential)
        for relation in ("adapter", "unpaired", "exclusive"):
            db.execute(f"UPDATE {relation} SET device = ? WHERE device = ?", (kept.id, other.id))
        db.execute("UPDATE event SET device = ? WHERE device = ?", (kept.id, other.id))
        # If both are listed on a network, the entries of the device that stays count.
        db.execute(
            "UPDATE entry SET device = ?1 WHERE device = ?2 AND ssid NOT IN (SELECT ssid FROM entry WHERE device = ?1)",
            (kept.id, other.id),
        )
        db.execute("UPDATE mute SET device = ? WHERE device = ?", (kept.id, other.id))
        db.execute("DELETE FROM device WHERE id = ?", (other.id,))


def forget_device(roster: Roster, device: Device) -> None:
    """Remove a device with its adapters, stays, events, entries, what was said of it, where it hung and what it used.

    The last two are not part of the change: it can be taken back without them.
    """
    subjects = _subjects(device)
    with roster.transaction() as db:
        db.executemany("DELETE FROM trait WHERE subject = ?", [(subject,) for subject in subjects])
        for mac in map(str, device.macs):
            for relation in ("wire_stay", "air_stay", "air_session"):
                db.execute(f"DELETE FROM {relation} WHERE mac = ?", (mac,))
            forget_usage(db, mac)
        db.execute("DELETE FROM device WHERE id = ?", (device.id,))


def require_unchanged(seen: Device, now: Device | None) -> None:
    """Raise ChangedMeanwhile if a device was changed since it was looked at."""
    if now is None:
        raise ChangedMeanwhile(f"{seen.called} is no longer there: it was joined or forgotten meanwhile")
    if now.revision != seen.revision:
        texts = [f"{name} {getattr(now, name)!r}" for name in TEXTS if getattr(now, name)]
        said = ", ".join([str(now.standing), *texts])
        raise ChangedMeanwhile(f"{seen.called} was changed by another command meanwhile, it is now: {said}")


def _subjects(device: Device) -> list[str]:
    """Return the subjects of what was said of a device."""
    return [*map(str, device.macs), *(unpaired_subject(each.place, str(each.address)) for each in device.unpaired)]
