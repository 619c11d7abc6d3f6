"""The third step of the schema: changes that can be taken back, standings with when and why, new names."""

from __future__ import annotations

from sqlite3 import Connection

_STATEMENTS = (
    "ALTER TABLE device ADD COLUMN standing_since INTEGER",  # NULL: nobody has said anything yet
    "ALTER TABLE device ADD COLUMN because TEXT NOT NULL DEFAULT ''",
    # Grows with each change of people: who has looked at an older state is told, instead of overwriting.
    "ALTER TABLE device ADD COLUMN revision INTEGER NOT NULL DEFAULT 0",
    "ALTER TABLE event ADD COLUMN name TEXT",
    "ALTER TABLE event ADD COLUMN was_name TEXT",
    "ALTER TABLE stay ADD COLUMN source TEXT",  # who told first that it was there; NULL: not remembered
    "CREATE INDEX event_mac ON event (mac)",
    "CREATE INDEX event_kind ON event (kind, at)",
    "CREATE INDEX stay_since ON stay (since)",
    # Where an absent adapter was last, by version of IP.
    "CREATE INDEX stay_latest ON stay (mac, instr(address, ':') > 0, until) WHERE NOT present",
    # Removing old scans asks each time which events refer to them.
    "CREATE INDEX event_scan ON event (scan) WHERE scan IS NOT NULL",
    # What people did, in a sentence, and the rows as they were before and after (JSON), in the order of the writing.
    """CREATE TABLE change (
        id INTEGER PRIMARY KEY AUTOINCREMENT,
        at INTEGER NOT NULL,
        kind TEXT NOT NULL,
        says TEXT NOT NULL,
        who TEXT NOT NULL,
        undoes INTEGER REFERENCES change (id) ON DELETE SET NULL,
        undone INTEGER
    )""",
    """CREATE TABLE change_row (
        change INTEGER NOT NULL REFERENCES change (id) ON DELETE CASCADE,
        step INTEGER NOT NULL,
        relation TEXT NOT NULL,
        before TEXT,
        after TEXT,
        PRIMARY KEY (change, step)
    ) WITHOUT ROWID""",
    "CREATE TABLE change_device (device INTEGER, change INTEGER REFERENCES change (id) ON DELETE CASCADE, "
    "PRIMARY KEY (device, change)) WITHOUT ROWID",
    "CREATE INDEX change_device_change ON change_device (change)",
    # An adapter's events go with it to the device that it is found to belong to, and back when that is taken back.
    """CREATE TRIGGER adapter_moves AFTER UPDATE OF device ON adapter WHEN old.device <> new.device BEGIN
        UPDATE event SET device = new.device WHERE mac = new.mac;
    END""",
    # A device's number is never used twice, for changes refer to it.
    """CREATE TRIGGER device_number_kept AFTER DELETE ON device BEGIN
        INSERT INTO meta VALUES ('highest_device', old.id)
        ON CONFLICT (key) DO UPDATE SET value = max(CAST(value AS INTEGER), old.id);
    END""",
)


def take(db: Connection) -> None:
    """Add what this step adds."""
    for statement in _STATEMENTS:
        db.execute(statement)
