"""The fourth step of the schema: the outbox of alerts, what is muted, and how long a subnet is being learnt."""

from __future__ import annotations

from sqlite3 import Connection

_STATEMENTS = (
    # One message to one channel, written together with the event that it tells and delivered later. AUTOINCREMENT:
    # people and other programs refer to an alert by its number.
    """CREATE TABLE alert (
        id INTEGER PRIMARY KEY AUTOINCREMENT,
        identity TEXT NOT NULL UNIQUE,
        channel TEXT NOT NULL,
        severity TEXT NOT NULL,
        gathers TEXT NOT NULL DEFAULT '',
        gathering INTEGER NOT NULL DEFAULT 0,
        made INTEGER NOT NULL,
        due INTEGER NOT NULL,
        state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'sent', 'failed')),
        attempts INTEGER NOT NULL DEFAULT 0,
        again INTEGER NOT NULL DEFAULT 0,
        ended INTEGER,
        problem TEXT NOT NULL DEFAULT '',
        more TEXT NOT NULL DEFAULT '{}',
        message TEXT
    )""",
    # The outbox is asked every second: what is sent, which is nearly all, is not in this index.
    "CREATE INDEX alert_waiting ON alert (channel, id) WHERE state = 'waiting'",
    "CREATE UNIQUE INDEX alert_gathering ON alert (channel, gathers) WHERE gathering",
    "CREATE INDEX alert_made ON alert (made)",
    # What an alert tells, in the form event/1: whole, for the device may be forgotten before it is delivered.
    """CREATE TABLE alert_event (
        alert INTEGER NOT NULL REFERENCES alert (id) ON DELETE CASCADE,
        position INTEGER NOT NULL,
        at INTEGER NOT NULL,
        kind TEXT NOT NULL,
        device INTEGER NOT NULL,
        event TEXT NOT NULL,
        PRIMARY KEY (alert, position)
    ) WITHOUT ROWID""",
    "CREATE INDEX alert_event_device ON alert_event (device, kind, at)",
    # NULL: any device, any kind of event.
    """CREATE TABLE mute (
        id INTEGER PRIMARY KEY,
        device INTEGER REFERENCES device (id) ON DELETE CASCADE,
        kind TEXT,
        since INTEGER NOT NULL,
        until INTEGER NOT NULL
    )""",
    # NULL: as long as the settings say, from the baseline on.
    "ALTER TABLE subnet ADD COLUMN learning_until INTEGER",
)


def take(db: Connection) -> None:
    """Add what this step adds."""
    for statement in _STATEMENTS:
        db.execute(statement)
