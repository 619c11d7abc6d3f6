"""The tables of a sensor's file. A file of another version is begun again: what it holds is a matter of days."""

from __future__ import annotations

VERSION = 2
SCHEMA = (
    "CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID",
    # Pending: where an adapter was, from when to when, and by which source it was found first and last.
    """CREATE TABLE seen (
        id INTEGER PRIMARY KEY,
        step INTEGER NOT NULL,
        mac TEXT NOT NULL,
        address TEXT NOT NULL,
        source TEXT NOT NULL,
        found TEXT NOT NULL,
        subnet TEXT NOT NULL,
        since INTEGER NOT NULL,
        until INTEGER NOT NULL,
        late INTEGER NOT NULL -- taken in after a scan in which it had been silent, and seen before that ended
    )""",
    "CREATE INDEX seen_pair ON seen (mac, address)",
    # Pending: what was said of an adapter or an address, and all that is no pair of both.
    """CREATE TABLE said (
        id INTEGER PRIMARY KEY,
        step INTEGER NOT NULL,
        mac TEXT NOT NULL,
        address TEXT NOT NULL,
        source TEXT NOT NULL,
        medium TEXT NOT NULL,
        subnet TEXT NOT NULL,
        traits TEXT NOT NULL,
        since INTEGER NOT NULL,
        until INTEGER NOT NULL,
        late INTEGER NOT NULL
    )""",
    "CREATE INDEX said_pair ON said (mac, address)",
    "CREATE TABLE scan (step INTEGER PRIMARY KEY, facts TEXT NOT NULL)",
    # Closed: numbered, and kept until it is folded.
    "CREATE TABLE batch (number INTEGER PRIMARY KEY, at TEXT NOT NULL, document TEXT NOT NULL)",
    # What a batch has to tell as dropped.
    """CREATE TABLE dropped (
        number INTEGER NOT NULL,
        what TEXT NOT NULL,
        count INTEGER NOT NULL,
        PRIMARY KEY (number, what)
    )""",
)
