"""The eighth step of the schema: by what kind of question the holder of an address was last found."""

from __future__ import annotations

from sqlite3 import Connection


def take(db: Connection) -> None:
    """Add what this step adds; NULL is not remembered: any question but the weakest may judge then."""
    db.execute("ALTER TABLE stay ADD COLUMN found TEXT")
