"""The sixth step of the schema: lists with hours, ends and owners; what was pushed to enforcers; who is associated."""

from __future__ import annotations

from sqlite3 import Connection

_STATEMENTS = (
    # Essential: at no time may it be refused on the air.
    "ALTER TABLE device ADD COLUMN essential INTEGER NOT NULL DEFAULT 0",
    # Windows of a week, or @NAME of a timetable; empty: always.
    "ALTER TABLE entry ADD COLUMN hours TEXT NOT NULL DEFAULT ''",
    "ALTER TABLE entry ADD COLUMN until INTEGER",
    "ALTER TABLE entry ADD COLUMN paused INTEGER NOT NULL DEFAULT 0",
    "ALTER TABLE entry ADD COLUMN who TEXT NOT NULL DEFAULT ''",
    # When those may associate who are on no list; empty: as the mode says.
    "ALTER TABLE network ADD COLUMN others_hours TEXT NOT NULL DEFAULT ''",
    # Whose lists it uses in place of its own.
    "ALTER TABLE network ADD COLUMN lists_of TEXT REFERENCES network (ssid) ON DELETE SET NULL",
    "ALTER TABLE network ADD COLUMN only_until INTEGER",
    # Who alone may associate until then.
    """CREATE TABLE exclusive (
        id INTEGER PRIMARY KEY,
        ssid TEXT NOT NULL REFERENCES network (ssid) ON DELETE CASCADE,
        device INTEGER REFERENCES device (id) ON DELETE CASCADE,
        mac TEXT,
        CHECK ((device IS NULL) <> (mac IS NULL))
    )""",
    """CREATE TABLE timetable (
        name TEXT PRIMARY KEY COLLATE NOCASE,
        windows TEXT NOT NULL,
        since INTEGER NOT NULL
    ) WITHOUT ROWID""",
    # One sending of lists to an enforcer. AUTOINCREMENT: people refer to it by its number.
    """CREATE TABLE push (
        id INTEGER PRIMARY KEY AUTOINCREMENT,
        ssid TEXT NOT NULL,
        enforcer TEXT NOT NULL,
        at INTEGER NOT NULL,
        ended INTEGER,
        who TEXT NOT NULL DEFAULT '',
        because TEXT NOT NULL DEFAULT '',
        state TEXT NOT NULL DEFAULT 'running',
        problem TEXT NOT NULL DEFAULT '',
        radios TEXT NOT NULL,
        policy TEXT NOT NULL,
        revert_at INTEGER,
        reverted_by INTEGER
    )""",
    "CREATE INDEX push_enforcer ON push (enforcer, ssid, id)",
    # Where an adapter is, or was last, on the air.
    """CREATE TABLE association (
        mac TEXT PRIMARY KEY,
        ssid TEXT NOT NULL,
        access_point TEXT NOT NULL,
        radio TEXT NOT NULL,
        since INTEGER,
        seen INTEGER NOT NULL,
        signal INTEGER
    ) WITHOUT ROWID""",
    # What no file tells about a network's router, and when somebody said it.
    """CREATE TABLE posture (
        ssid TEXT NOT NULL,
        question TEXT NOT NULL,
        answer TEXT NOT NULL,
        at INTEGER NOT NULL,
        PRIMARY KEY (ssid, question)
    ) WITHOUT ROWID""",
)


def take(db: Connection) -> None:
    """Add what this step adds."""
    for statement in _STATEMENTS:
        db.execute(statement)
