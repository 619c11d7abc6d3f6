"""The fifth step of the schema: some of what was passed over in a flood, as examples in the alert that counts it."""

from __future__ import annotations

from sqlite3 import Connection


def take(db: Connection) -> None:
    """Add what this step adds."""
    db.execute("ALTER TABLE alert ADD COLUMN examples TEXT NOT NULL DEFAULT '[]'")
