"""The tables of ``roster.sqlite``, as ordered steps: a new roster takes them all, an old one those that it lacks.

A step never changes once it has been released; a change is a new step. Times are milliseconds since 1970 in UTC,
addresses and MAC addresses their usual text.
"""

from __future__ import annotations

from collections.abc import Callable
from sqlite3 import Connection

from scopion.roster.store import schema_2, schema_3, schema_4, schema_5, schema_6, schema_7, schema_8

_FIRST = """
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;

CREATE TABLE device (
    id INTEGER PRIMARY KEY,
    standing TEXT NOT NULL DEFAULT 'new' CHECK (standing IN ('new', 'known', 'guest', 'unwanted')),
    label TEXT NOT NULL DEFAULT '',
    owner TEXT NOT NULL DEFAULT '',
    place TEXT NOT NULL DEFAULT '',
    note TEXT NOT NULL DEFAULT '',
    guest_until TEXT,
    first_seen INTEGER NOT NULL
);
CREATE UNIQUE INDEX device_label ON device (label COLLATE NOCASE) WHERE label <> '';

CREATE TABLE adapter (
    mac TEXT PRIMARY KEY,
    device INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    medium TEXT NOT NULL DEFAULT 'unknown',
    own INTEGER NOT NULL DEFAULT 0,
    first_seen INTEGER NOT NULL,
    last_seen INTEGER NOT NULL
) WITHOUT ROWID;
CREATE INDEX adapter_device ON adapter (device);

CREATE TABLE stay (
    id INTEGER PRIMARY KEY,
    mac TEXT NOT NULL REFERENCES adapter (mac) ON DELETE CASCADE,
    address TEXT NOT NULL,
    since INTEGER NOT NULL,
    until INTEGER NOT NULL,
    present INTEGER NOT NULL
);
CREATE UNIQUE INDEX stay_present ON stay (mac, address) WHERE present;
CREATE INDEX stay_mac ON stay (mac, until);
CREATE INDEX stay_address ON stay (address) WHERE present;

CREATE TABLE scan (
    id INTEGER PRIMARY KEY,
    targets TEXT NOT NULL,
    subnet TEXT NOT NULL,
    interface TEXT NOT NULL,
    method TEXT NOT NULL,
    started INTEGER NOT NULL,
    ended INTEGER,
    asked INTEGER NOT NULL DEFAULT 0,
    answered INTEGER NOT NULL DEFAULT 0,
    rounds INTEGER NOT NULL DEFAULT 0,
    outcome TEXT NOT NULL DEFAULT 'running' CHECK (outcome IN ('running', 'complete', 'partial'))
);

CREATE TABLE subnet (
    range TEXT PRIMARY KEY,
    gateway TEXT,
    gateway_mac TEXT,
    since INTEGER NOT NULL,
    baseline INTEGER REFERENCES scan (id)
) WITHOUT ROWID;

CREATE TABLE event (
    id INTEGER PRIMARY KEY,
    at INTEGER NOT NULL,
    kind TEXT NOT NULL,
    device INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    mac TEXT NOT NULL,
    address TEXT NOT NULL,
    was_address TEXT,
    away_since INTEGER,
    scan INTEGER REFERENCES scan (id)
);
CREATE INDEX event_at ON event (at);
CREATE INDEX event_device ON event (device);

CREATE TABLE network (
    ssid TEXT PRIMARY KEY,
    mode TEXT NOT NULL DEFAULT 'off' CHECK (mode IN ('off', 'allow', 'deny')),
    notation TEXT NOT NULL,
    capacity INTEGER,
    radios TEXT NOT NULL,
    router TEXT NOT NULL,
    since INTEGER NOT NULL
) WITHOUT ROWID;

CREATE TABLE entry (
    id INTEGER PRIMARY KEY,
    ssid TEXT NOT NULL REFERENCES network (ssid) ON DELETE CASCADE,
    list TEXT NOT NULL CHECK (list IN ('allow', 'deny')),
    device INTEGER REFERENCES device (id) ON DELETE CASCADE,
    mac TEXT,
    description TEXT NOT NULL DEFAULT '',
    since INTEGER NOT NULL,
    CHECK ((device IS NULL) <> (mac IS NULL)),
    UNIQUE (ssid, device),
    UNIQUE (ssid, mac)
);
"""

Step = Callable[[Connection], None]


def _first(db: Connection) -> None:
    for statement in _FIRST.split(";\n"):
        if statement.strip():
            db.execute(statement)


# In order; the number of steps taken is the schema's version, kept in the file's header (PRAGMA user_version).
STEPS: tuple[tuple[str, Step], ...] = (
    ("0001_first", _first),
    ("0002_traits", schema_2.take),
    ("0003_changes", schema_3.take),
    ("0004_alerts", schema_4.take),
    ("0005_examples", schema_5.take),
    ("0006_pushes", schema_6.take),
    ("0007_verifications", schema_7.take),
    ("0008_found", schema_8.take),
)
VERSION = len(STEPS)
APPLICATION_ID = 0x53434F50  # "SCOP": tells a roster from other SQLite files (PRAGMA application_id)
