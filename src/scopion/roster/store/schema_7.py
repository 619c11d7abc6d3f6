"""The seventh step of the schema: what came of looking whether a network's list works."""

from __future__ import annotations

from sqlite3 import Connection

_STATEMENTS = (
    # NULL: nothing contradicted the list, and nothing of it could be read.
    """CREATE TABLE verification (
        id INTEGER PRIMARY KEY,
        ssid TEXT NOT NULL,
        at INTEGER NOT NULL,
        met INTEGER,
        unmet TEXT NOT NULL
    )""",
    "CREATE INDEX verification_ssid ON verification (ssid, at)",
)


def take(db: Connection) -> None:
    """Add what this step adds."""
    for statement in _STATEMENTS:
        db.execute(statement)
