"""The tables of ``roster.sqlite``, and the steps that bring a roster of an earlier version up to them.

The base is the schema of version 0.1.0. A step never changes once it has been released; a change is a new step. Times
are milliseconds since 1970 in UTC, addresses and MAC addresses their usual text.
"""

from __future__ import annotations

from sqlite3 import Connection

from scopion.roster.store.schema_steps import STEPS

_DEVICES = (
    "CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID",
    """CREATE TABLE device (
        id INTEGER PRIMARY KEY,
        standing TEXT NOT NULL DEFAULT 'new' CHECK (standing IN ('new', 'known', 'guest', 'unwanted')),
        label TEXT NOT NULL DEFAULT '',
        owner TEXT NOT NULL DEFAULT '',
        place TEXT NOT NULL DEFAULT '',
        note TEXT NOT NULL DEFAULT '',
        guest_until TEXT,
        first_seen INTEGER NOT NULL,
        standing_since INTEGER, -- NULL: no person has said anything yet
        because TEXT NOT NULL DEFAULT '',
        revision INTEGER NOT NULL DEFAULT 0, -- grows with each change of people, so that none is overwritten unseen
        essential INTEGER NOT NULL DEFAULT 0 -- it must never be refused on the air
    )""",
    "CREATE UNIQUE INDEX device_label ON device (label COLLATE NOCASE) WHERE label <> ''",
    """CREATE TABLE adapter (
        mac TEXT PRIMARY KEY,
        device INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
        medium TEXT NOT NULL DEFAULT 'unknown',
        own INTEGER NOT NULL DEFAULT 0,
        first_seen INTEGER NOT NULL,
        last_seen INTEGER NOT NULL,
        medium_evidence TEXT NOT NULL DEFAULT '', -- empty: the interface itself says it
        sighted INTEGER NOT NULL DEFAULT 1 -- 0: only records, or frames without an address; its first stay joins
    ) WITHOUT ROWID""",
    "CREATE INDEX adapter_device ON adapter (device)",
    """CREATE TABLE stay (
        id INTEGER PRIMARY KEY,
        mac TEXT NOT NULL REFERENCES adapter (mac) ON DELETE CASCADE,
        address TEXT NOT NULL,
        since INTEGER NOT NULL,
        until INTEGER NOT NULL,
        present INTEGER NOT NULL,
        source TEXT, -- which source told it first; NULL: not remembered
        found TEXT -- the kind of question that found it last; NULL: not remembered, all but the weakest may judge
    )""",
    "CREATE UNIQUE INDEX stay_present ON stay (mac, address) WHERE present",
    "CREATE INDEX stay_mac ON stay (mac, until)",
    "CREATE INDEX stay_address ON stay (address) WHERE present",
    "CREATE INDEX stay_since ON stay (since)",
    # Where an absent adapter was last, by version of IP.
    "CREATE INDEX stay_latest ON stay (mac, instr(address, ':') > 0, until) WHERE NOT present",
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
    # A device's number is never used twice, because changes refer to it.
    """CREATE TRIGGER device_number_kept AFTER DELETE ON device BEGIN
        INSERT INTO meta VALUES ('highest_device', old.id)
        ON CONFLICT (key) DO UPDATE SET value = max(CAST(value AS INTEGER), old.id);
    END""",
)

_SCANS_AND_EVENTS = (
    """CREATE TABLE scan (
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
    )""",
    """CREATE TABLE subnet (
        range TEXT PRIMARY KEY,
        gateway TEXT,
        gateway_mac TEXT,
        since INTEGER NOT NULL,
        baseline INTEGER REFERENCES scan (id),
        learning_until INTEGER -- NULL: as long as the settings say, from the baseline on
    ) WITHOUT ROWID""",
    """CREATE TABLE event (
        id INTEGER PRIMARY KEY,
        at INTEGER NOT NULL,
        kind TEXT NOT NULL,
        device INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
        mac TEXT NOT NULL,
        address TEXT NOT NULL,
        was_address TEXT,
        away_since INTEGER,
        scan INTEGER REFERENCES scan (id),
        other_mac TEXT,
        name TEXT,
        was_name TEXT
    )""",
    "CREATE INDEX event_at ON event (at)",
    "CREATE INDEX event_device ON event (device)",
    "CREATE INDEX event_mac ON event (mac)",
    "CREATE INDEX event_kind ON event (kind, at)",
    # Removing old scans asks each time which events refer to them.
    "CREATE INDEX event_scan ON event (scan) WHERE scan IS NOT NULL",
    # An adapter's events go with it to the device that it is found to belong to, and back when that is undone.
    """CREATE TRIGGER adapter_moves AFTER UPDATE OF device ON adapter WHEN old.device <> new.device BEGIN
        UPDATE event SET device = new.device WHERE mac = new.mac;
    END""",
)

_CHANGES = (
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
)

_ALERTS = (
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
        message TEXT,
        examples TEXT NOT NULL DEFAULT '[]' -- of what was passed over in a flood, in the alert that counts it
    )""",
    # The outbox is asked every second: what is sent, which is nearly all, is not in this index.
    "CREATE INDEX alert_waiting ON alert (channel, id) WHERE state = 'waiting'",
    "CREATE UNIQUE INDEX alert_gathering ON alert (channel, gathers) WHERE gathering",
    "CREATE INDEX alert_made ON alert (made)",
    # The events of an alert, in the form event/1: whole, because the device may be forgotten before the delivery.
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
)

_LISTS = (
    """CREATE TABLE network (
        ssid TEXT PRIMARY KEY,
        mode TEXT NOT NULL DEFAULT 'off' CHECK (mode IN ('off', 'allow', 'deny')),
        notation TEXT NOT NULL,
        capacity INTEGER,
        radios TEXT NOT NULL,
        router TEXT NOT NULL,
        since INTEGER NOT NULL,
        others_hours TEXT NOT NULL DEFAULT '', -- when devices on no list may associate; empty: as the mode says
        lists_of TEXT REFERENCES network (ssid) ON DELETE SET NULL, -- the network whose lists it uses
        only_until INTEGER
    ) WITHOUT ROWID""",
    """CREATE TABLE entry (
        id INTEGER PRIMARY KEY,
        ssid TEXT NOT NULL REFERENCES network (ssid) ON DELETE CASCADE,
        list TEXT NOT NULL CHECK (list IN ('allow', 'deny')),
        device INTEGER REFERENCES device (id) ON DELETE CASCADE,
        mac TEXT,
        description TEXT NOT NULL DEFAULT '',
        since INTEGER NOT NULL,
        hours TEXT NOT NULL DEFAULT '', -- windows of a week, or @NAME of a timetable; empty: always
        until INTEGER,
        paused INTEGER NOT NULL DEFAULT 0,
        who TEXT NOT NULL DEFAULT '',
        CHECK ((device IS NULL) <> (mac IS NULL)),
        UNIQUE (ssid, device),
        UNIQUE (ssid, mac)
    )""",
    # The only devices that may associate until network.only_until.
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
    # One push of lists to an enforcer. AUTOINCREMENT: people refer to it by its number.
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
    # The result of a verification. NULL: nothing contradicted the list, and nothing of it could be read.
    """CREATE TABLE verification (
        id INTEGER PRIMARY KEY,
        ssid TEXT NOT NULL,
        at INTEGER NOT NULL,
        met INTEGER,
        unmet TEXT NOT NULL
    )""",
    "CREATE INDEX verification_ssid ON verification (ssid, at)",
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
    # What no file tells about a network's router, and when a person said it.
    """CREATE TABLE posture (
        ssid TEXT NOT NULL,
        question TEXT NOT NULL,
        answer TEXT NOT NULL,
        at INTEGER NOT NULL,
        PRIMARY KEY (ssid, question)
    ) WITHOUT ROWID""",
)


def make_base(db: Connection) -> None:
    """Make all tables of the base in an empty file."""
    for statement in (*_DEVICES, *_SCANS_AND_EVENTS, *_CHANGES, *_ALERTS, *_LISTS):
        db.execute(statement)


APPLICATION_ID = 0x53434F50  # "SCOP": tells a roster from other SQLite files (PRAGMA application_id)
# A roster's version stands in its header (PRAGMA user_version). Versions below 8 were in no release.
BASE = 9
OLDEST = 8
VERSION = OLDEST + len(STEPS)


def bring_up(db: Connection, version: int) -> None:
    """Bring a roster of a version up to this program's; 0 is an empty file. Called in a transaction."""
    if not version:
        make_base(db)
        version = BASE
    for step in STEPS[version - OLDEST :]:
        step(db)
    db.execute(f"PRAGMA user_version = {VERSION}")
    db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
