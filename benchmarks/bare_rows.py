"""The floor of what works with the roster: the same file, read and written by ``sqlite3`` alone, and printed."""

from __future__ import annotations

import sqlite3
import sys
from collections import defaultdict
from collections.abc import Iterable
from typing import Any

Row = tuple[str, str, int]  # MAC, address, moment
HOUR_MS = 3_600_000
_PRESENT = "SELECT mac, address, since, until FROM stay INDEXED BY stay_present WHERE present"
_LATEST = """
SELECT mac, address, since, max(until) FROM stay
WHERE mac IN (SELECT mac FROM adapter WHERE mac NOT IN (SELECT mac FROM stay INDEXED BY stay_present WHERE present))
GROUP BY mac"""
_TIME = "strftime('%Y-%m-%dT%H:%M:%SZ', {} / 1000, 'unixepoch')"
_ADAPTERS = (
    f"SELECT adapter.*, device.*, {_TIME.format('device.first_seen')}, {_TIME.format('last_seen')} "
    "FROM adapter JOIN device ON device.id = device"
)
_TRAITS = "SELECT subject, kind, value, source FROM trait"


def opened(path: str) -> sqlite3.Connection:
    """Return a connection, opened as a roster opens it."""
    db = sqlite3.connect(path, isolation_level=None)
    db.execute("PRAGMA synchronous = NORMAL")
    db.execute("PRAGMA foreign_keys = ON")
    return db


def fold(db: sqlite3.Connection, rows: Iterable[Row]) -> None:
    """Write sightings into the roster's own tables, as if each said nothing but that somebody is there."""
    db.execute("BEGIN IMMEDIATE")
    for mac, address, at in rows:
        known = db.execute("SELECT device, last_seen FROM adapter WHERE mac = ?", (mac,)).fetchone()
        if known is None:
            device = db.execute("INSERT INTO device (first_seen) VALUES (?)", (at,)).lastrowid
            db.execute(
                "INSERT INTO adapter (mac, device, first_seen, last_seen) VALUES (?, ?, ?, ?)", (mac, device, at, at)
            )
        else:
            db.execute("UPDATE adapter SET last_seen = ? WHERE mac = ?", (at, mac))
        place = (at, mac, address)
        if not db.execute("UPDATE stay SET until = ? WHERE mac = ? AND address = ? AND present", place).rowcount:
            db.execute("UPDATE stay SET present = 0 WHERE mac = ? AND present", (mac,))
            db.execute(
                "INSERT INTO stay (mac, address, since, until, present) VALUES (?, ?, ?, ?, 1)", (mac, address, at, at)
            )
    db.execute("COMMIT")


def devices(db: sqlite3.Connection) -> None:
    """Print what is known of each device, a line each, its moments in UTC: its present stays, or else the latest."""
    more: dict[str, list[Any]] = defaultdict(list)
    for query in (_PRESENT, _LATEST, _TRAITS):
        for mac, *rest in db.execute(query):
            more[mac] += rest
    rows = db.execute(_ADAPTERS)
    sys.stdout.write("".join("\t".join(map(str, (*row, *more[row[0]]))) + "\n" for row in rows))


def events(db: sqlite3.Connection, since: int) -> None:
    """Print the events since a moment, a line each."""
    for row in db.execute("SELECT * FROM event WHERE at >= ? ORDER BY at DESC, id DESC", (since,)):
        print(*row, sep="\t")


def hours(db: sqlite3.Connection) -> None:
    """Read the whole past, and gather the hours in which each adapter was here; print how many."""
    here: dict[str, set[int]] = defaultdict(set)
    for mac, since, until in db.execute("SELECT mac, since, until FROM stay ORDER BY since"):
        here[mac].update(range(since // HOUR_MS, until // HOUR_MS + 1))
    told = sum(1 for _ in db.execute("SELECT * FROM event ORDER BY at"))
    for mac, found in here.items():
        print(mac, len(found), told, sep="\t")


def status(db: sqlite3.Connection) -> None:
    """Print what is known of each device, the last scans, what waits, and who changed what last."""
    devices(db)
    for query in (
        "SELECT subnet, max(ended) FROM scan GROUP BY subnet",
        "SELECT * FROM subnet",
        "SELECT channel, state, count(*), max(ended) FROM alert GROUP BY channel, state",
        "SELECT * FROM network",
        "SELECT * FROM change ORDER BY id DESC LIMIT 1",
    ):
        for row in db.execute(query):
            print(*row, sep="\t")


def copied(db: sqlite3.Connection, path: str) -> None:
    """Stays and events as plain rows in a file of their own, without any index."""
    db.execute("ATTACH ? AS bare", (path,))
    for table in ("stay", "event"):
        db.execute(f"CREATE TABLE bare.{table} AS SELECT * FROM main.{table}")


if __name__ == "__main__":
    what, file, *since = sys.argv[1:]
    if what == "events":
        events(opened(file), int(since[0]))
    else:
        {"devices": devices, "hours": hours}[what](opened(file))
