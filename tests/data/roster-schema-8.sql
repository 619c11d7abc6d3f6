CREATE TABLE adapter (
    mac TEXT PRIMARY KEY,
    device INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    medium TEXT NOT NULL DEFAULT 'unknown',
    own INTEGER NOT NULL DEFAULT 0,
    first_seen INTEGER NOT NULL,
    last_seen INTEGER NOT NULL
, medium_evidence TEXT NOT NULL DEFAULT '', sighted INTEGER NOT NULL DEFAULT 1) WITHOUT ROWID;
INSERT INTO "adapter" VALUES('60:f2:a7:10:00:05',1,'unknown',0,1789387200000,1789387200000,'',1);
INSERT INTO "adapter" VALUES('60:f2:a7:10:00:06',2,'unknown',0,1789387200000,1789387200000,'',1);
INSERT INTO "adapter" VALUES('60:f2:a7:10:00:07',3,'unknown',0,1789387200000,1789387200000,'',1);
CREATE TABLE alert (
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
    , examples TEXT NOT NULL DEFAULT '[]');
CREATE TABLE alert_event (
        alert INTEGER NOT NULL REFERENCES alert (id) ON DELETE CASCADE,
        position INTEGER NOT NULL,
        at INTEGER NOT NULL,
        kind TEXT NOT NULL,
        device INTEGER NOT NULL,
        event TEXT NOT NULL,
        PRIMARY KEY (alert, position)
    ) WITHOUT ROWID;
CREATE TABLE association (
        mac TEXT PRIMARY KEY,
        ssid TEXT NOT NULL,
        access_point TEXT NOT NULL,
        radio TEXT NOT NULL,
        since INTEGER,
        seen INTEGER NOT NULL,
        signal INTEGER
    ) WITHOUT ROWID;
CREATE TABLE change (
        id INTEGER PRIMARY KEY AUTOINCREMENT,
        at INTEGER NOT NULL,
        kind TEXT NOT NULL,
        says TEXT NOT NULL,
        who TEXT NOT NULL,
        undoes INTEGER REFERENCES change (id) ON DELETE SET NULL,
        undone INTEGER
    );
INSERT INTO "change" VALUES(1,1789387200000,'label','labelled ''till''','the apprentice',NULL,NULL);
CREATE TABLE change_device (device INTEGER, change INTEGER REFERENCES change (id) ON DELETE CASCADE, PRIMARY KEY (device, change)) WITHOUT ROWID;
INSERT INTO "change_device" VALUES(1,1);
INSERT INTO "change_device" VALUES(2,1);
CREATE TABLE change_row (
        change INTEGER NOT NULL REFERENCES change (id) ON DELETE CASCADE,
        step INTEGER NOT NULL,
        relation TEXT NOT NULL,
        before TEXT,
        after TEXT,
        PRIMARY KEY (change, step)
    ) WITHOUT ROWID;
INSERT INTO "change_row" VALUES(1,1,'device','{"id":1,"standing":"new","label":"","owner":"","place":"","note":"","guest_until":null,"first_seen":1789387200000,"standing_since":null,"because":"","revision":0,"essential":0}','{"id":1,"standing":"known","label":"till","owner":"","place":"","note":"","guest_until":null,"first_seen":1789387200000,"standing_since":1789387200000,"because":"","revision":1,"essential":0}');
INSERT INTO "change_row" VALUES(1,2,'network',NULL,'{"ssid":"Kilnhaven","mode":"deny","notation":"colon","capacity":null,"radios":"2.4 5","router":"","since":0,"others_hours":"","lists_of":null,"only_until":null}');
INSERT INTO "change_row" VALUES(1,3,'entry',NULL,'{"id":1,"ssid":"Kilnhaven","list":"deny","device":2,"mac":null,"description":"","since":0,"hours":"","until":null,"paused":0,"who":""}');
CREATE TABLE device (
    id INTEGER PRIMARY KEY,
    standing TEXT NOT NULL DEFAULT 'new' CHECK (standing IN ('new', 'known', 'guest', 'unwanted')),
    label TEXT NOT NULL DEFAULT '',
    owner TEXT NOT NULL DEFAULT '',
    place TEXT NOT NULL DEFAULT '',
    note TEXT NOT NULL DEFAULT '',
    guest_until TEXT,
    first_seen INTEGER NOT NULL
, standing_since INTEGER, because TEXT NOT NULL DEFAULT '', revision INTEGER NOT NULL DEFAULT 0, essential INTEGER NOT NULL DEFAULT 0);
INSERT INTO "device" VALUES(1,'known','till','','','',NULL,1789387200000,1789387200000,'',1,0);
INSERT INTO "device" VALUES(2,'new','','','','',NULL,1789387200000,NULL,'',0,0);
INSERT INTO "device" VALUES(3,'new','','','','',NULL,1789387200000,NULL,'',0,0);
CREATE TABLE entry (
    id INTEGER PRIMARY KEY,
    ssid TEXT NOT NULL REFERENCES network (ssid) ON DELETE CASCADE,
    list TEXT NOT NULL CHECK (list IN ('allow', 'deny')),
    device INTEGER REFERENCES device (id) ON DELETE CASCADE,
    mac TEXT,
    description TEXT NOT NULL DEFAULT '',
    since INTEGER NOT NULL, hours TEXT NOT NULL DEFAULT '', until INTEGER, paused INTEGER NOT NULL DEFAULT 0, who TEXT NOT NULL DEFAULT '',
    CHECK ((device IS NULL) <> (mac IS NULL)),
    UNIQUE (ssid, device),
    UNIQUE (ssid, mac)
);
INSERT INTO "entry" VALUES(1,'Kilnhaven','deny',2,NULL,'',0,'',NULL,0,'');
CREATE TABLE event (
    id INTEGER PRIMARY KEY,
    at INTEGER NOT NULL,
    kind TEXT NOT NULL,
    device INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    mac TEXT NOT NULL,
    address TEXT NOT NULL,
    was_address TEXT,
    away_since INTEGER,
    scan INTEGER REFERENCES scan (id)
, other_mac TEXT, name TEXT, was_name TEXT);
INSERT INTO "event" VALUES(1,1789387200000,'joined',1,'60:f2:a7:10:00:05','192.0.2.5',NULL,NULL,NULL,NULL,NULL,NULL);
INSERT INTO "event" VALUES(2,1789387200000,'joined',2,'60:f2:a7:10:00:06','192.0.2.6',NULL,NULL,NULL,NULL,NULL,NULL);
INSERT INTO "event" VALUES(3,1789387200000,'joined',3,'60:f2:a7:10:00:07','192.0.2.7',NULL,NULL,NULL,NULL,NULL,NULL);
CREATE TABLE exclusive (
        id INTEGER PRIMARY KEY,
        ssid TEXT NOT NULL REFERENCES network (ssid) ON DELETE CASCADE,
        device INTEGER REFERENCES device (id) ON DELETE CASCADE,
        mac TEXT,
        CHECK ((device IS NULL) <> (mac IS NULL))
    );
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE mute (
        id INTEGER PRIMARY KEY,
        device INTEGER REFERENCES device (id) ON DELETE CASCADE,
        kind TEXT,
        since INTEGER NOT NULL,
        until INTEGER NOT NULL
    );
CREATE TABLE network (
    ssid TEXT PRIMARY KEY,
    mode TEXT NOT NULL DEFAULT 'off' CHECK (mode IN ('off', 'allow', 'deny')),
    notation TEXT NOT NULL,
    capacity INTEGER,
    radios TEXT NOT NULL,
    router TEXT NOT NULL,
    since INTEGER NOT NULL
, others_hours TEXT NOT NULL DEFAULT '', lists_of TEXT REFERENCES network (ssid) ON DELETE SET NULL, only_until INTEGER) WITHOUT ROWID;
INSERT INTO "network" VALUES('Kilnhaven','deny','colon',NULL,'2.4 5','',0,'',NULL,NULL);
CREATE TABLE posture (
        ssid TEXT NOT NULL,
        question TEXT NOT NULL,
        answer TEXT NOT NULL,
        at INTEGER NOT NULL,
        PRIMARY KEY (ssid, question)
    ) WITHOUT ROWID;
CREATE TABLE push (
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
    );
CREATE TABLE scan (
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
);
CREATE TABLE stay (
    id INTEGER PRIMARY KEY,
    mac TEXT NOT NULL REFERENCES adapter (mac) ON DELETE CASCADE,
    address TEXT NOT NULL,
    since INTEGER NOT NULL,
    until INTEGER NOT NULL,
    present INTEGER NOT NULL
, source TEXT, found TEXT);
INSERT INTO "stay" VALUES(1,'60:f2:a7:10:00:05','192.0.2.5',1789387200000,1789387200000,1,'arp','arp');
INSERT INTO "stay" VALUES(2,'60:f2:a7:10:00:06','192.0.2.6',1789387200000,1789387200000,1,'arp','arp');
INSERT INTO "stay" VALUES(3,'60:f2:a7:10:00:07','192.0.2.7',1789387200000,1789387200000,1,'arp','arp');
CREATE TABLE subnet (
    range TEXT PRIMARY KEY,
    gateway TEXT,
    gateway_mac TEXT,
    since INTEGER NOT NULL,
    baseline INTEGER REFERENCES scan (id)
, learning_until INTEGER) WITHOUT ROWID;
CREATE TABLE timetable (
        name TEXT PRIMARY KEY COLLATE NOCASE,
        windows TEXT NOT NULL,
        since INTEGER NOT NULL
    ) WITHOUT ROWID;
CREATE TABLE trait (
        subject TEXT NOT NULL,
        kind TEXT NOT NULL,
        value TEXT NOT NULL,
        source TEXT NOT NULL,
        first_seen INTEGER NOT NULL,
        last_seen INTEGER NOT NULL,
        PRIMARY KEY (subject, kind, value, source)
    ) WITHOUT ROWID;
INSERT INTO "trait" VALUES('60:f2:a7:10:00:05','name','till','mdns',1789387200000,1789387200000);
CREATE TABLE unpaired (
        address TEXT PRIMARY KEY,
        device INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
        since INTEGER NOT NULL,
        until INTEGER NOT NULL,
        present INTEGER NOT NULL
    ) WITHOUT ROWID;
CREATE TABLE verification (
        id INTEGER PRIMARY KEY,
        ssid TEXT NOT NULL,
        at INTEGER NOT NULL,
        met INTEGER,
        unmet TEXT NOT NULL
    );
CREATE UNIQUE INDEX device_label ON device (label COLLATE NOCASE) WHERE label <> '';
CREATE INDEX adapter_device ON adapter (device);
CREATE UNIQUE INDEX stay_present ON stay (mac, address) WHERE present;
CREATE INDEX stay_mac ON stay (mac, until);
CREATE INDEX stay_address ON stay (address) WHERE present;
CREATE INDEX event_at ON event (at);
CREATE INDEX event_device ON event (device);
CREATE INDEX event_mac ON event (mac);
CREATE INDEX event_kind ON event (kind, at);
CREATE INDEX stay_since ON stay (since);
CREATE INDEX stay_latest ON stay (mac, instr(address, ':') > 0, until) WHERE NOT present;
CREATE INDEX event_scan ON event (scan) WHERE scan IS NOT NULL;
CREATE INDEX change_device_change ON change_device (change);
CREATE TRIGGER adapter_moves AFTER UPDATE OF device ON adapter WHEN old.device <> new.device BEGIN
        UPDATE event SET device = new.device WHERE mac = new.mac;
    END;
CREATE TRIGGER device_number_kept AFTER DELETE ON device BEGIN
        INSERT INTO meta VALUES ('highest_device', old.id)
        ON CONFLICT (key) DO UPDATE SET value = max(CAST(value AS INTEGER), old.id);
    END;
CREATE INDEX alert_waiting ON alert (channel, id) WHERE state = 'waiting';
CREATE UNIQUE INDEX alert_gathering ON alert (channel, gathers) WHERE gathering;
CREATE INDEX alert_made ON alert (made);
CREATE INDEX alert_event_device ON alert_event (device, kind, at);
CREATE INDEX push_enforcer ON push (enforcer, ssid, id);
CREATE INDEX verification_ssid ON verification (ssid, at);
DELETE FROM "sqlite_sequence";
INSERT INTO "sqlite_sequence" VALUES('change',1);
PRAGMA user_version = 8;
PRAGMA application_id = 1396920144;
