"""What the roster knows of its sensors: who they are, how far each is folded, and what was kept of them unread."""

from __future__ import annotations

import json
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from sqlite3 import Row

from scopion.model.batch import Batch, SensorState
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written, from_ms, to_ms

# A sensor begins a new file when its old one is lost; batches of the old one may still be on their way.
_LIVES, _BOOTS = 8, 16
# Of one sensor; a batch of a later version has a few parts of a new form.
_MOST_KEPT = 1_000
_MS = timedelta(milliseconds=1)


@dataclass(frozen=True, slots=True)
class KnownSensor:
    """A sensor, as it was heard last."""

    name: str
    place: str
    since: datetime
    heard: datetime
    online: bool
    program: str
    address: str
    waiting: int
    oldest: datetime | None
    offset: timedelta | None  # by which its clock is ahead; None: not compared yet
    told: datetime | None  # up to when it has told everything; None: nothing yet
    lost: datetime | None  # since when it is silent, as was told; None: it is not
    troubles: tuple[str, ...] = ()


@dataclass(slots=True)
class SubnetReach:
    """Whether the devices of a sensor's subnet answer, and since when they do again."""

    down: bool = False
    silent: int = 0  # scans in a row without any answer
    up_since: datetime | None = None  # None: always, as far as it is known


def known_sensors(roster: Roster) -> list[KnownSensor]:
    """Return all sensors that were ever heard, by name."""
    with roster.guarded(), as_written("a sensor"):
        return [_sensor(row) for row in roster.db.execute("SELECT * FROM sensor ORDER BY name")]


def find_sensor(roster: Roster, name: str) -> KnownSensor | None:
    """Return a sensor; None if it was never heard."""
    with roster.guarded(), as_written("a sensor"):
        row = roster.db.execute("SELECT * FROM sensor WHERE name = ?", (name,)).fetchone()
        return _sensor(row) if row is not None else None


def hear_sensor(roster: Roster, name: str, place: str, at: datetime) -> None:
    """Note that a sensor was heard; a new one becomes known."""
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO sensor (name, place, since, heard) VALUES (?1, ?2, ?3, ?3) "
            "ON CONFLICT (name) DO UPDATE SET heard = max(heard, ?3), place = ?2",
            (name, place, to_ms(at)),
        )


def note_state(roster: Roster, state: SensorState, offset: timedelta | None) -> None:
    """Note what a sensor that was heard says of itself; ``offset`` by which its clock is ahead, None: not compared."""
    with roster.transaction() as db:
        if not state.online:
            db.execute("UPDATE sensor SET online = 0 WHERE name = ?", (state.sensor,))
            return
        db.execute(
            "UPDATE sensor SET online = 1, program = ?, address = ?, waiting = ?, oldest = ?, troubles = ?, "
            "offset = coalesce(?, offset) WHERE name = ?",
            (
                state.program,
                state.address,
                state.waiting,
                to_ms(state.oldest) if state.oldest is not None else None,
                json.dumps(state.troubles, ensure_ascii=False),
                round(offset / _MS) if offset is not None else None,
                state.sensor,
            ),
        )


def note_lost(roster: Roster, name: str, since: datetime | None) -> None:
    """Note since when a sensor is silent, as is told now; None: it is back."""
    with roster.transaction() as db:
        lost = to_ms(since) if since is not None else None
        db.execute("UPDATE sensor SET lost = ?, online = online AND ?1 IS NULL WHERE name = ?", (lost, name))


def folded_number(roster: Roster, name: str, life: str) -> int:
    """Return the number of the last batch that is folded; 0 if none is."""
    with roster.guarded():
        query = "SELECT number FROM sensor_life WHERE sensor = ? AND life = ?"
        row = roster.db.execute(query, (name, life)).fetchone()
        return int(row[0]) if row is not None else 0


def latest_life(roster: Roster, name: str) -> tuple[str, int]:
    """Return the life of which a batch was folded last, and its number; nothing and 0 if none was."""
    with roster.guarded():
        query = "SELECT life, number FROM sensor_life WHERE sensor = ? ORDER BY at DESC, number DESC LIMIT 1"
        row = roster.db.execute(query, (name,)).fetchone()
        return (str(row[0]), int(row[1])) if row is not None else ("", 0)


def note_folded(roster: Roster, name: str, life: str, number: int, told: datetime, at: datetime) -> None:
    """Note that a batch is folded, and up to when the sensor has told everything with it."""
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO sensor_life VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO UPDATE SET number = ?3, at = ?4",
            (name, life, number, to_ms(at)),
        )
        db.execute("UPDATE sensor SET told = max(coalesce(told, 0), ?) WHERE name = ?", (to_ms(told), name))
        db.execute(
            "DELETE FROM sensor_life WHERE sensor = ?1 AND life NOT IN "
            "(SELECT life FROM sensor_life WHERE sensor = ?1 ORDER BY at DESC LIMIT ?2)",
            (name, _LIVES),
        )


def boot_epoch(roster: Roster, name: str, boot: str) -> datetime | None:
    """Return when a sensor's machine was started, by the roster's clock; None if their clocks were not compared."""
    with roster.guarded():
        query = "SELECT epoch FROM sensor_boot WHERE sensor = ? AND boot = ?"
        row = roster.db.execute(query, (name, boot)).fetchone()
        return from_ms(row[0]) if row is not None else None


def note_boot(roster: Roster, name: str, boot: str, epoch: datetime, at: datetime) -> None:
    """Note when a sensor's machine was started, by the roster's clock."""
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO sensor_boot VALUES (?1, ?2, ?3, ?4) ON CONFLICT DO UPDATE SET epoch = ?3, at = ?4",
            (name, boot, to_ms(epoch), to_ms(at)),
        )
        db.execute(
            "DELETE FROM sensor_boot WHERE sensor = ?1 AND boot NOT IN "
            "(SELECT boot FROM sensor_boot WHERE sensor = ?1 ORDER BY at DESC LIMIT ?2)",
            (name, _BOOTS),
        )


def forget_sensor(roster: Roster, name: str) -> bool:
    """Forget a sensor, and what was kept of it unread; what it told stays. Returns whether it was known."""
    with roster.transaction() as db:
        known = db.execute("DELETE FROM sensor WHERE name = ?", (name,)).rowcount > 0
        for table in ("sensor_life", "sensor_boot", "kept_document"):
            db.execute(f"DELETE FROM {table} WHERE sensor = ?", (name,))
        return known


def subnet_reaches(roster: Roster, name: str) -> dict[str, SubnetReach]:
    """Return by range whether the devices of a sensor's subnets answer."""
    with roster.guarded(), as_written("the subnets of a sensor"):
        row = roster.db.execute("SELECT subnets FROM sensor WHERE name = ?", (name,)).fetchone()
        read: Mapping[str, Sequence[int | None]] = json.loads(row[0]) if row is not None else {}
        return {
            each: SubnetReach(bool(down), int(silent or 0), from_ms(up) if up is not None else None)
            for each, (down, silent, up) in read.items()
        }


def note_reaches(roster: Roster, name: str, reaches: Mapping[str, SubnetReach]) -> None:
    """Keep them."""
    kept = {
        each: (reach.down, reach.silent, to_ms(reach.up_since) if reach.up_since is not None else None)
        for each, reach in reaches.items()
    }
    with roster.transaction() as db:
        db.execute("UPDATE sensor SET subnets = ? WHERE name = ?", (json.dumps(kept), name))


def keep_documents(roster: Roster, batch: Batch, by: timedelta, at: datetime) -> int:
    """Keep what of a batch cannot be understood yet, within a limit. Returns how many there was room for.

    ``by`` is how its moments have to be moved.
    """
    with roster.transaction() as db:
        there = db.execute("SELECT count(*) FROM kept_document WHERE sensor = ?", (batch.sensor,)).fetchone()[0]
        chosen = batch.unknown[: max(0, _MOST_KEPT - there)]
        whence = batch.sensor, batch.place, to_ms(at), to_ms(batch.clocks.at), round(-by / _MS)
        db.executemany(
            "INSERT INTO kept_document (sensor, place, at, closed, ahead, form, document) VALUES (?, ?, ?, ?, ?, ?, ?)",
            [(*whence, each.form, each.text) for each in chosen],
        )
        return len(chosen)


@dataclass(frozen=True, slots=True)
class KeptDocuments:
    """What was kept of one batch."""

    sensor: str
    place: str
    closed: datetime  # by the sensor's clock
    by: timedelta  # how its moments have to be moved
    texts: tuple[str, ...]


def take_kept(roster: Roster, forms: Collection[str]) -> list[KeptDocuments]:
    """Take out what was kept of these forms, in the order in which it came."""
    marks = ",".join("?" * len(forms))
    found: dict[tuple[str, str, int, int], list[str]] = {}
    with roster.transaction() as db:
        where = f"kept_document WHERE form IN ({marks})"
        for row in db.execute(f"SELECT * FROM {where} ORDER BY id", tuple(forms)).fetchall():
            key = row["sensor"], row["place"], row["closed"], row["ahead"]
            found.setdefault(key, []).append(row["document"])
        db.execute(f"DELETE FROM {where}", tuple(forms))
    return [
        KeptDocuments(sensor, place, from_ms(closed), -ahead * _MS, tuple(texts))
        for (sensor, place, closed, ahead), texts in found.items()
    ]


def kept_forms(roster: Roster) -> dict[str, dict[str, int]]:
    """Return by sensor how many documents of which form are kept."""
    found: dict[str, dict[str, int]] = {}
    with roster.guarded():
        for name, form, count in roster.rows("SELECT sensor, form, count(*) FROM kept_document GROUP BY sensor, form"):
            found.setdefault(name, {})[form] = count
    return found


def _sensor(row: Row) -> KnownSensor:
    return KnownSensor(
        name=row["name"],
        place=row["place"],
        since=from_ms(row["since"]),
        heard=from_ms(row["heard"]),
        online=bool(row["online"]),
        program=row["program"],
        address=row["address"],
        waiting=row["waiting"],
        oldest=from_ms(row["oldest"]) if row["oldest"] is not None else None,
        offset=row["offset"] * _MS if row["offset"] is not None else None,
        told=from_ms(row["told"]) if row["told"] is not None else None,
        lost=from_ms(row["lost"]) if row["lost"] is not None else None,
        troubles=tuple(map(str, json.loads(row["troubles"]))),
    )
