"""The steps that bring a roster of an earlier version up to this program's, in their order."""

from __future__ import annotations

from collections.abc import Callable
from sqlite3 import Connection


def _from_before_0_1(db: Connection) -> None:
    """Bring up the last schema before 0.1.0, which has the same tables by other statements. Remove it with 0.2."""


def _entries_to_block(db: Connection) -> None:
    """Let a device be on both lists of a network, and an entry have its effect, or not, until a moment."""
    db.execute("ALTER TABLE entry RENAME TO entry_before")
    db.execute(
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
            override INTEGER, -- whether it has its effect until override_until, whatever its other terms say
            override_until INTEGER,
            CHECK ((device IS NULL) <> (mac IS NULL)),
            UNIQUE (ssid, list, device),
            UNIQUE (ssid, list, mac)
        )"""
    )
    kept = "id, ssid, list, device, mac, description, since, hours, until, paused, who"
    db.execute(f"INSERT INTO entry ({kept}) SELECT {kept} FROM entry_before")
    db.execute("DROP TABLE entry_before")


def _alerts_to_take_on(db: Connection) -> None:
    """Let an alert be told again until someone has seen it, and remember who has."""
    db.execute(
        """CREATE TABLE follow (
            alert INTEGER PRIMARY KEY REFERENCES alert (id) ON DELETE CASCADE,
            every INTEGER, -- milliseconds between repeats; NULL: it is not repeated
            times INTEGER NOT NULL, -- how often it may still be repeated
            told INTEGER, -- when it was repeated last
            second TEXT NOT NULL DEFAULT '', -- the channel that is still to get it; empty: none, or it has
            after INTEGER NOT NULL -- milliseconds until then
        )"""
    )
    db.execute(
        """CREATE TABLE seen (
            alert INTEGER PRIMARY KEY REFERENCES alert (id) ON DELETE CASCADE,
            at INTEGER NOT NULL,
            who TEXT NOT NULL,
            note TEXT NOT NULL
        )"""
    )


def _sessions_on_the_air(db: Connection) -> None:
    """Remember associations with access points, and the octets of each."""
    db.execute(
        """CREATE TABLE air_session (
            mac TEXT NOT NULL,
            ssid TEXT NOT NULL,
            access_point TEXT NOT NULL,
            since INTEGER NOT NULL,
            until INTEGER NOT NULL,
            present INTEGER NOT NULL,
            received INTEGER NOT NULL, -- octets from the device
            sent INTEGER NOT NULL, -- octets to it
            PRIMARY KEY (mac, access_point, since)
        ) WITHOUT ROWID"""
    )
    db.execute("CREATE INDEX air_session_until ON air_session (until)")


def _places(db: Connection) -> None:
    """Give each subnet, stay, scan and event its place, so that two places may use the same range."""
    db.execute(
        """CREATE TABLE subnet_placed (
            place TEXT NOT NULL DEFAULT '',
            range TEXT NOT NULL,
            gateway TEXT,
            gateway_mac TEXT,
            since INTEGER NOT NULL,
            baseline INTEGER REFERENCES scan (id),
            learning_until INTEGER, -- NULL: as long as the settings say, from the baseline on
            PRIMARY KEY (place, range)
        ) WITHOUT ROWID"""
    )
    db.execute(
        """CREATE TABLE unpaired_placed (
            place TEXT NOT NULL DEFAULT '',
            address TEXT NOT NULL,
            device INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
            since INTEGER NOT NULL,
            until INTEGER NOT NULL,
            present INTEGER NOT NULL,
            PRIMARY KEY (place, address)
        ) WITHOUT ROWID"""
    )
    # The subject of a host without a MAC address is its address, and behind an @ its place if that has a name.
    db.execute(
        """CREATE TABLE trait_placed (
            subject TEXT NOT NULL,
            place TEXT NOT NULL DEFAULT '',
            kind TEXT NOT NULL,
            value TEXT NOT NULL,
            source TEXT NOT NULL,
            first_seen INTEGER NOT NULL,
            last_seen INTEGER NOT NULL,
            PRIMARY KEY (subject, place, kind, value, source)
        ) WITHOUT ROWID"""
    )
    for table, kept in (
        ("subnet", "range, gateway, gateway_mac, since, baseline, learning_until"),
        ("unpaired", "address, device, since, until, present"),
        ("trait", "subject, kind, value, source, first_seen, last_seen"),
    ):
        db.execute(f"INSERT INTO {table}_placed ({kept}) SELECT {kept} FROM {table}")
        db.execute(f"DROP TABLE {table}")
        db.execute(f"ALTER TABLE {table}_placed RENAME TO {table}")
    for table in ("stay", "scan", "event"):
        db.execute(f"ALTER TABLE {table} ADD COLUMN place TEXT NOT NULL DEFAULT ''")
    db.execute("DROP INDEX stay_present")
    db.execute("CREATE UNIQUE INDEX stay_present ON stay (mac, address, place) WHERE present")
    # A place is folded by itself, however many others there are.
    db.execute("CREATE INDEX stay_place ON stay (place) WHERE present")


def _sensors(db: Connection) -> None:
    """Remember the sensors of other places, and what of theirs is folded."""
    db.execute(
        """CREATE TABLE sensor (
            name TEXT PRIMARY KEY,
            place TEXT NOT NULL,
            since INTEGER NOT NULL, -- when it was heard first
            heard INTEGER NOT NULL, -- and last
            online INTEGER NOT NULL DEFAULT 0,
            program TEXT NOT NULL DEFAULT '',
            address TEXT NOT NULL DEFAULT '',
            waiting INTEGER NOT NULL DEFAULT 0, -- batches that it still has to tell
            oldest INTEGER, -- since when; NULL: none waits
            offset INTEGER, -- milliseconds by which its clock is ahead; NULL: not compared yet
            told INTEGER, -- up to when it has told everything; NULL: nothing yet
            lost INTEGER, -- since when it is silent, as was told; NULL: it is not
            subnets TEXT NOT NULL DEFAULT '{}', -- which of its subnets answer, and since when
            troubles TEXT NOT NULL DEFAULT '[]' -- what does not work there
        ) WITHOUT ROWID"""
    )
    # A sensor that begins a new file counts its batches from one again.
    db.execute(
        """CREATE TABLE sensor_life (
            sensor TEXT NOT NULL,
            life TEXT NOT NULL,
            number INTEGER NOT NULL, -- the last one that is folded
            at INTEGER NOT NULL,
            PRIMARY KEY (sensor, life)
        ) WITHOUT ROWID"""
    )
    db.execute(
        """CREATE TABLE sensor_boot (
            sensor TEXT NOT NULL,
            boot TEXT NOT NULL,
            epoch INTEGER NOT NULL, -- when that start of the machine was, by the roster's clock
            at INTEGER NOT NULL,
            PRIMARY KEY (sensor, boot)
        ) WITHOUT ROWID"""
    )
    # What could not be understood, until a later version can.
    db.execute(
        """CREATE TABLE kept_document (
            id INTEGER PRIMARY KEY,
            sensor TEXT NOT NULL,
            place TEXT NOT NULL,
            at INTEGER NOT NULL,
            closed INTEGER NOT NULL, -- when its batch was closed, by the sensor's clock...
            ahead INTEGER NOT NULL, -- ...which was so many milliseconds ahead
            form TEXT NOT NULL,
            document TEXT NOT NULL
        )"""
    )


def _wires(db: Connection) -> None:
    """Remember switches, their ports, the sockets at these, and since when which adapter hangs where."""
    db.execute(
        """CREATE TABLE switch (
            name TEXT PRIMARY KEY,
            read INTEGER, -- when it was read last; NULL: never
            own_name TEXT NOT NULL DEFAULT '',
            problem TEXT NOT NULL DEFAULT '', -- why it cannot be read...
            since INTEGER, -- ...and since when
            remarks TEXT NOT NULL DEFAULT '' -- what is wrong with its tables, a line each
        ) WITHOUT ROWID"""
    )
    db.execute(
        """CREATE TABLE switch_port (
            id INTEGER PRIMARY KEY,
            switch TEXT NOT NULL,
            name TEXT NOT NULL,
            number INTEGER NOT NULL,
            alias TEXT NOT NULL DEFAULT '',
            speed INTEGER NOT NULL DEFAULT 0, -- Mbit/s; 0: not told
            up INTEGER, -- NULL: not told
            leads_to TEXT NOT NULL DEFAULT '', -- the switch of the site behind it
            behind TEXT NOT NULL DEFAULT '', -- another device there that passes on what it gets
            radio INTEGER NOT NULL DEFAULT 0, -- ...to the air
            adapters INTEGER NOT NULL DEFAULT 0,
            seen INTEGER NOT NULL,
            UNIQUE (switch, name)
        )"""
    )
    # Not of the port's row: a name stays while the switch is replaced, or is not in site.toml for a while.
    db.execute(
        """CREATE TABLE socket (
            switch TEXT NOT NULL,
            port TEXT NOT NULL,
            name TEXT NOT NULL,
            PRIMARY KEY (switch, port)
        ) WITHOUT ROWID"""
    )
    _wire_stays(db)
    _air_stays(db)


def _wire_stays(db: Connection) -> None:
    db.execute(
        """CREATE TABLE wire_stay (
            id INTEGER PRIMARY KEY,
            mac TEXT NOT NULL, -- also of adapters that are no device of the roster
            port INTEGER NOT NULL REFERENCES switch_port (id) ON DELETE CASCADE,
            vlan INTEGER NOT NULL DEFAULT 0,
            at_edge INTEGER NOT NULL, -- 0: it is somewhere behind that port
            since INTEGER NOT NULL,
            until INTEGER NOT NULL,
            present INTEGER NOT NULL
        )"""
    )
    db.execute("CREATE UNIQUE INDEX wire_stay_present ON wire_stay (mac) WHERE present")
    db.execute("CREATE INDEX wire_stay_mac ON wire_stay (mac, until)")
    db.execute("CREATE INDEX wire_stay_port ON wire_stay (port)")


def _air_stays(db: Connection) -> None:
    db.execute(
        """CREATE TABLE air_stay (
            id INTEGER PRIMARY KEY,
            mac TEXT NOT NULL,
            ssid TEXT NOT NULL,
            access_point TEXT NOT NULL,
            radio TEXT NOT NULL,
            since INTEGER NOT NULL,
            until INTEGER NOT NULL,
            present INTEGER NOT NULL,
            heard INTEGER NOT NULL, -- how many readings told a signal,
            strength INTEGER NOT NULL, -- the sum of these, in dBm,
            weak INTEGER NOT NULL -- and how many were weak
        )"""
    )
    db.execute("CREATE UNIQUE INDEX air_stay_present ON air_stay (mac) WHERE present")
    db.execute("CREATE INDEX air_stay_mac ON air_stay (mac, until)")


def _usage(db: Connection) -> None:
    """Remember counters of octets, and what passed in each minute, hour and day."""
    db.execute(
        """CREATE TABLE counter (
            source TEXT NOT NULL,
            key TEXT NOT NULL, -- by which it is known again
            subject TEXT NOT NULL, -- a MAC address, or the number of a port
            place TEXT NOT NULL, -- who counts, in words
            also TEXT NOT NULL DEFAULT '', -- of a port: the adapter that hangs there alone
            up INTEGER NOT NULL, -- octets from the device
            down INTEGER NOT NULL, -- octets to it
            errors INTEGER NOT NULL,
            own_s REAL, -- its own time in seconds; NULL: it has none
            mark TEXT NOT NULL, -- with another it is another counter
            bits INTEGER NOT NULL,
            at INTEGER NOT NULL,
            up_bps REAL NOT NULL, -- bits a second between the last two readings
            down_bps REAL NOT NULL,
            seconds REAL NOT NULL, -- between these; 0: that is not known
            PRIMARY KEY (source, key)
        ) WITHOUT ROWID"""
    )
    db.execute("CREATE INDEX counter_at ON counter (at)")
    db.execute(
        """CREATE TABLE meter (
            id INTEGER PRIMARY KEY,
            source TEXT NOT NULL,
            subject TEXT NOT NULL,
            place TEXT NOT NULL,
            UNIQUE (source, subject)
        )"""
    )
    # In this order all of a counter is in one place: one device is shown without reading the others.
    db.execute(
        """CREATE TABLE usage (
            step INTEGER NOT NULL, -- seconds: a minute, an hour, a day
            at INTEGER NOT NULL, -- seconds since 1970: a year has hundreds of thousands of rows
            meter INTEGER NOT NULL,
            up INTEGER NOT NULL,
            down INTEGER NOT NULL,
            errors INTEGER NOT NULL,
            PRIMARY KEY (meter, step, at)
        ) WITHOUT ROWID"""
    )


# Each leads from the version of its place to the next: the first from OLDEST.
STEPS: tuple[Callable[[Connection], None], ...] = (
    _from_before_0_1,
    _entries_to_block,
    _alerts_to_take_on,
    _sessions_on_the_air,
    _places,
    _sensors,
    _wires,
    _usage,
)
