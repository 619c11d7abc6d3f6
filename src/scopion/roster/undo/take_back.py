"""Takes a change back: row by row, the last one first, and never over a later change.

What scans have seen meanwhile stays: a device that was forgotten and has returned gets its past back.
"""

from __future__ import annotations

from collections.abc import Callable
from sqlite3 import Connection, IntegrityError, Row
from typing import Any

from scopion.model.errors import Refused
from scopion.roster.folding.fold_unpaired import drop_if_undescribed
from scopion.roster.store.open_roster import Roster
from scopion.roster.undo.read_changes import KEYS, RowChange, rows_of
from scopion.roster.undo.record_changes import Change
from scopion.roster.wifi.associations import ASSOCIATED

Image = dict[str, Any]
# Tables that only people change.
_OF_PEOPLE = ("network", "entry", "exclusive", "timetable", "mute", "socket")
# Rows of these tables may have given their numbers to others since.
_NUMBERED = ("stay", "event", "entry", "exclusive", "mute")
# Columns that grow by themselves and are never turned back.
_ONWARD = {"revision", "last_seen", "until", "sighted"}
# Columns that access points tell again and again: what they have told since stays.
_TOLD = {
    "association": {"ssid", "access_point", "radio", "since", "seen", "signal"},
    "adapter": {"medium", "medium_evidence"},
}


def take_back(roster: Roster, change: Change, *, keep_later: bool = False) -> None:
    """Bring every row of a change back to what it was. Called inside a change of its own.

    With ``keep_later`` rows that were changed since stay as they are; without, it is Refused.
    """
    with roster.transaction() as db:
        db.execute("PRAGMA defer_foreign_keys = ON")
        try:
            for row in reversed(rows_of(roster, change)):
                _take_back(db, row, change, keep_later)
        except IntegrityError:  # the row that it would restore belongs to another by now
            raise _changed_since(change) from None


def _take_back(db: Connection, row: RowChange, change: Change, keep_later: bool) -> None:
    _free_label(db, row, change, keep_later)
    if row.before is None:
        _remove(db, row, change, keep_later)
    elif row.after is None:
        _bring_back(db, row)
    else:
        _turn_back(db, row, change, keep_later)


def _free_label(db: Connection, row: RowChange, change: Change, keep_later: bool) -> None:
    """Give up a label for its earlier device: labels are unique, and one that another device has
    got since stays there.
    """
    before = row.before or {}
    label = before.get("label") if row.relation == "device" else None
    if not label or (row.after and row.after.get("label") == label):
        return
    holder = db.execute(
        "SELECT 1 FROM device WHERE label = ? COLLATE NOCASE AND id <> ?", (label, before["id"])
    ).fetchone()
    if holder is None:
        return
    if not keep_later:
        raise Refused(
            f"change {change.id} ({change.says}) cannot be taken back: another device now has the label {label!r}: "
            "rename that one first, or add --keep-later"
        )
    before["label"] = ""


def _remove(db: Connection, row: RowChange, change: Change, keep_later: bool) -> None:
    """Remove what the change had added."""
    assert row.after is not None
    if row.relation == "device":
        number = row.after["id"]
        if db.execute(
            "SELECT 1 FROM adapter WHERE device = ? UNION SELECT 1 FROM unpaired WHERE device = ?", (number,) * 2
        ).fetchone():
            return  # a scan has found it meanwhile: it is there
    current = _current(db, row.relation, row.after)
    if current is None or (row.relation == "adapter" and current["last_seen"] > row.after["last_seen"]):
        return  # the change said nothing about an adapter that was seen since
    if row.relation == "association" and current["seen"] > row.after["seen"]:
        return  # an access point or a later list has told another
    if row.relation in _OF_PEOPLE and not keep_later and _differs(current, row.after, row.after):
        raise _changed_since(change)
    where, values = _where(row.relation, row.after)
    db.execute(f"DELETE FROM {row.relation} WHERE {where}", values)


def _turn_back(db: Connection, row: RowChange, change: Change, keep_later: bool) -> None:
    """Give the columns that the change wrote their old values."""
    assert row.before is not None and row.after is not None
    after, before = row.after, row.before
    written = [name for name in after if after[name] != before.get(name) and name not in _ONWARD]
    current = _current(db, row.relation, after)
    if current is None:
        if keep_later or not written:
            return
        raise _changed_since(change)
    if _told_since(row.relation, current, after):
        written = [name for name in written if name not in _TOLD[row.relation]]
    if _differs(current, after, written):
        if not keep_later:
            raise _changed_since(change)
        written = [name for name in written if current[name] == after[name]]
    if not written:
        return
    where, values = _where(row.relation, after)
    revision = ", revision = revision + 1" if row.relation == "device" else ""
    setting = ", ".join(f"{name} = ?" for name in written)
    db.execute(
        f"UPDATE {row.relation} SET {setting}{revision} WHERE {where}", (*(before[name] for name in written), *values)
    )


def _told_since(relation: str, current: Row, after: Image) -> bool:
    """Tell whether an access point, or a later list, has told since where an adapter is on the air."""
    if relation == "association":
        return bool(current["seen"] > after["seen"])
    if relation != "adapter" or current["medium_evidence"] == after["medium_evidence"]:
        return False
    return str(current["medium_evidence"]).startswith(ASSOCIATED)


def _bring_back(db: Connection, row: RowChange) -> None:
    """Restore what the change had deleted; what took its place meanwhile is joined with it."""
    assert row.before is not None
    special: dict[str, Callable[[Connection, Image], bool]] = {
        "adapter": _join_adapter,
        "stay": _join_stay,
        "trait": _join_trait,
    }
    image: Image = dict(row.before)
    if row.relation in special and special[row.relation](db, image):
        return
    if (
        row.relation in ("stay", "event", "entry", "exclusive", "mute")
        and _current(db, row.relation, image) is not None
    ):
        image["id"] = None  # its number was given to another row
    if row.relation == "event" and image.get("scan") is not None:
        known = db.execute("SELECT 1 FROM scan WHERE id = ?", (image["scan"],)).fetchone()
        image["scan"] = image["scan"] if known else None
    names = ", ".join(image)
    marks = ", ".join("?" * len(image))
    db.execute(f"INSERT OR IGNORE INTO {row.relation} ({names}) VALUES ({marks})", tuple(image.values()))


def _join_adapter(db: Connection, image: Image) -> bool:
    """Return an adapter that was seen again after it was forgotten to its old device."""
    current = db.execute("SELECT * FROM adapter WHERE mac = ?", (image["mac"],)).fetchone()
    if current is None:
        return False
    db.execute(
        "UPDATE adapter SET device = ?1, first_seen = min(first_seen, ?2), last_seen = max(last_seen, ?3) "
        "WHERE mac = ?4",
        (image["device"], image["first_seen"], image["last_seen"], image["mac"]),
    )
    if current["device"] != image["device"]:
        drop_if_undescribed(db, current["device"])
    return True


def _join_stay(db: Connection, image: Image) -> bool:
    """Let a stay that was open continue in the one that has begun since."""
    if not image["present"]:
        return False
    continued = db.execute(
        "UPDATE stay SET since = min(since, ?) WHERE mac = ? AND address = ? AND place = ? AND present",
        (image["since"], image["mac"], image["address"], image.get("place", "")),
    )
    return bool(continued.rowcount)


def _join_trait(db: Connection, image: Image) -> bool:
    joined = db.execute(
        "UPDATE trait SET first_seen = min(first_seen, ?), last_seen = max(last_seen, ?) "
        "WHERE subject = ? AND place = ? AND kind = ? AND value = ? AND source = ?",
        tuple(image[name] for name in ("first_seen", "last_seen", "subject", "place", "kind", "value", "source")),
    )
    return bool(joined.rowcount)


def _current(db: Connection, relation: str, image: Image) -> Row | None:
    where, values = _where(relation, image)
    row: Row | None = db.execute(f"SELECT * FROM {relation} WHERE {where}", values).fetchone()
    return row


def _where(relation: str, image: Image) -> tuple[str, tuple[Any, ...]]:
    keys = KEYS[relation]
    return " AND ".join(f"{key} = ?" for key in keys), tuple(image[key] for key in keys)


def _differs(current: Row, image: Image, names: Any) -> bool:
    return any(current[name] != image[name] for name in names if name not in _ONWARD)


def _changed_since(change: Change) -> Refused:
    return Refused(
        f"change {change.id} ({change.says}) cannot be taken back: what it changed has been changed again since; "
        "take back the later change first, see scopion undo --list"
    )
