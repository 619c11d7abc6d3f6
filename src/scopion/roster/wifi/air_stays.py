"""Stays on the air: on which access point and band an adapter was, since when, and how strong its signal was there.

They are made of readings: each tells which stations are associated now. What accounting tells is in ``air_sessions``.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from sqlite3 import Connection, Row

from scopion.model.mac import MacAddress
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_mac, to_ms

# An access point tells for how many seconds a station is connected: the beginning that follows differs a little.
_SAME_BEGINNING = timedelta(seconds=30)
# Where it is not told, two readings with less between them are of one stay.
_UNBROKEN = timedelta(hours=1)
# A busy place meets thousands of made-up addresses in a day; the latest stays are kept.
_MOST = 50_000
WEAK_DBM = -80  # a signal below this loses frames all the time


@dataclass(frozen=True, slots=True)
class AirReading:
    """A station, as an access point told it at one moment."""

    mac: MacAddress
    ssid: str
    access_point: str
    radio: str  # GHz; empty: not known
    since: datetime | None = None  # when it associated; None: not told
    signal: int | None = None  # dBm


@dataclass(frozen=True, slots=True)
class AirStay:
    """An unbroken association, as far as readings tell."""

    mac: MacAddress
    ssid: str
    access_point: str
    radio: str
    since: datetime
    until: datetime  # when it was read last
    present: bool
    heard: int = 0  # how many readings told a signal
    weak: int = 0  # and how many of them a weak one
    signal: int | None = None  # dBm, the mean of these readings


@dataclass(frozen=True, slots=True)
class Roamed:
    """An adapter that is on another access point than before."""

    mac: MacAddress
    was: str
    now: str


def note_air(roster: Roster, found: Iterable[AirReading], at: datetime, read: Collection[str] = ()) -> list[Roamed]:
    """Extend, begin and end stays by the readings of one moment. Returns which adapters are on another access point.

    ``read`` are the access points of which all radios were read: what they do not tell any more has ended.
    """
    roamed: list[Roamed] = []
    now = to_ms(at)
    told: set[str] = set()
    with roster.transaction() as db:
        for each in found:
            mac = str(each.mac)
            told.add(mac)
            row = db.execute("SELECT * FROM air_stay WHERE mac = ? AND present", (mac,)).fetchone()
            heard, weak = each.signal is not None, each.signal is not None and each.signal < WEAK_DBM
            if row is not None and _is_same(row, each, at):
                db.execute(
                    "UPDATE air_stay SET until = max(until, ?), heard = heard + ?, strength = strength + ?, "
                    "weak = weak + ? WHERE id = ?",
                    (now, heard, each.signal or 0, weak, row["id"]),
                )
                continue
            if row is not None and row["until"] > now:
                continue  # a list that was pasted late says nothing of what is now
            last = _last(db, mac)
            db.execute("UPDATE air_stay SET present = 0 WHERE mac = ? AND present", (mac,))
            since = min(now, to_ms(each.since)) if each.since is not None else now
            db.execute(
                "INSERT INTO air_stay (mac, ssid, access_point, radio, since, until, present, heard, strength, weak) "
                "VALUES (?, ?, ?, ?, ?, ?, 1, ?, ?, ?)",
                (mac, each.ssid, each.access_point, each.radio, since, now, heard, each.signal or 0, weak),
            )
            if last is not None and last != each.access_point:
                roamed.append(Roamed(each.mac, last, each.access_point))
        for point in read:
            for row in db.execute(
                "SELECT id, mac FROM air_stay WHERE present AND access_point = ?", (point,)
            ).fetchall():
                if row["mac"] not in told:
                    db.execute("UPDATE air_stay SET present = 0 WHERE id = ?", (row["id"],))
        db.execute("DELETE FROM air_stay WHERE id <= (SELECT max(id) - ? FROM air_stay)", (_MOST,))
    return roamed


def _is_same(row: Row, each: AirReading, at: datetime) -> bool:
    if (row["access_point"], row["ssid"]) != (each.access_point, each.ssid) or each.radio not in ("", row["radio"]):
        return False
    if each.since is not None:
        return abs(from_ms(row["since"]) - each.since) <= _SAME_BEGINNING
    return abs(at - from_ms(row["until"])) <= _UNBROKEN


def _last(db: Connection, mac: str) -> str | None:
    row = db.execute(
        "SELECT access_point FROM air_stay WHERE mac = ? ORDER BY until DESC, id DESC LIMIT 1", (mac,)
    ).fetchone()
    return row["access_point"] if row is not None else None


def air_stays_of(roster: Roster, macs: Iterable[MacAddress], since: datetime) -> list[AirStay]:
    """Return the stays of some adapters that were not over by a moment, the latest first."""
    with roster.guarded():
        found = [
            _stay(row)
            for mac in macs
            for row in roster.db.execute(
                "SELECT * FROM air_stay WHERE mac = ? AND (present OR until >= ?)", (str(mac), to_ms(since))
            )
        ]
    return sorted(found, key=lambda stay: (stay.present, stay.until), reverse=True)


def air_stays_since(roster: Roster, since: datetime) -> list[AirStay]:
    """Return the stays of all adapters that were not over by a moment, in the order of time."""
    with roster.guarded():
        rows = roster.db.execute("SELECT * FROM air_stay WHERE present OR until >= ? ORDER BY since", (to_ms(since),))
        return list(map(_stay, rows))


def remove_old_air_stays(db: Connection, before: int) -> int:
    """Remove stays that were over by a moment (milliseconds). Returns how many."""
    return db.execute("DELETE FROM air_stay WHERE NOT present AND until < ?", (before,)).rowcount


def _stay(row: Row) -> AirStay:
    return AirStay(
        stored_mac(row["mac"]), row["ssid"], row["access_point"], row["radio"], from_ms(row["since"]),
        from_ms(row["until"]), bool(row["present"]), row["heard"], row["weak"],
        round(row["strength"] / row["heard"]) if row["heard"] else None,
    )  # fmt: skip
