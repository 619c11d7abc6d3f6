"""Makes devices. Their numbers are never used twice, because the record of changes refers to them."""

from __future__ import annotations

from sqlite3 import Connection

_INSERT = """
INSERT INTO device (id, first_seen) VALUES (1 + max(
    coalesce((SELECT max(id) FROM device), 0),
    coalesce((SELECT CAST(value AS INTEGER) FROM meta WHERE key = 'highest_device'), 0)
), ?)
"""


def make_device(db: Connection, first_seen: int) -> int:
    """A new device of which nothing is known but when it was first seen (milliseconds). Returns its number."""
    return db.execute(_INSERT, (first_seen,)).lastrowid or 0
