"""The second step of the schema: names and traits, hosts without a MAC, what only records tell of, contests."""

from __future__ import annotations

from sqlite3 import Connection

_STATEMENTS = (
    # Why an adapter's medium is taken for what it is; empty for what the interface itself said.
    "ALTER TABLE adapter ADD COLUMN medium_evidence TEXT NOT NULL DEFAULT ''",
    # 0 while only records or frames without an address tell of an adapter: its first stay makes it join.
    "ALTER TABLE adapter ADD COLUMN sighted INTEGER NOT NULL DEFAULT 1",
    "ALTER TABLE event ADD COLUMN other_mac TEXT",
    # A host beyond a router, until a source tells its MAC.
    """CREATE TABLE unpaired (
        address TEXT PRIMARY KEY,
        device INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
        since INTEGER NOT NULL,
        until INTEGER NOT NULL,
        present INTEGER NOT NULL
    ) WITHOUT ROWID""",
    # The subject is an adapter's MAC, or the address of an unpaired host.
    """CREATE TABLE trait (
        subject TEXT NOT NULL,
        kind TEXT NOT NULL,
        value TEXT NOT NULL,
        source TEXT NOT NULL,
        first_seen INTEGER NOT NULL,
        last_seen INTEGER NOT NULL,
        PRIMARY KEY (subject, kind, value, source)
    ) WITHOUT ROWID""",
)


def take(db: Connection) -> None:
    """Add what this step adds."""
    for statement in _STATEMENTS:
        db.execute(statement)
