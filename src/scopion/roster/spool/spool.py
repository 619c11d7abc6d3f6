"""The file of a sensor: what it has seen and asked, until the roster's side says that it is folded.

Steps go into what is pending, where a device that is still there only makes its row last longer. Closing makes a
numbered batch of it, which is never changed again, except that a part of it is dropped when there is no room. So a day
without a line takes little more room than an hour, and a kill at any moment loses nothing and tells nothing twice.

Moments are milliseconds of the machine's own clock since its start, because the time of day may be wrong and be set.
"""

from __future__ import annotations

import json
import os
import secrets
import sqlite3
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from scopion.model.batch import Batch, Folded, ScanFacts, SensorClocks, Sighting
from scopion.model.errors import StorageFailed
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation
from scopion.roster.spool.spool_rows import kept_scan, portions, said, scan_facts, sightings
from scopion.roster.spool.spool_schema import SCHEMA, VERSION
from scopion.roster.store.stored_values import from_ms, to_ms
from scopion.roster.store.write_files import open_file, storage_failed
from scopion.wire.sensor_documents import batch_to_json

FILE = "spool.sqlite"
# Until the roster's side has said how long the shortest patience is: the usual one of a watch.
_PATIENCE_S = 300.0
# With so many batches on their way, more goes into what is pending.
WINDOW = 4
_PENDING = "SELECT mac, address, since, until FROM seen UNION ALL SELECT mac, address, since, until FROM said"
# Without a line what is pending becomes a batch at least so often: of a month some parts can be dropped.
_PENDING_S = 86_400.0
# Both clocks of a machine drift by less than this while the time of day is not set.
_ALIKE_MS = 500
_BUSY_S = 10.0


@dataclass(frozen=True, slots=True)
class Limits:
    """How much a sensor keeps while there is no line."""

    octets: int = 20_000_000
    days: float = 30.0


@dataclass(frozen=True, slots=True)
class Waiting:
    """What waits to be folded."""

    batches: int
    oldest: datetime | None  # when the oldest was closed, as the sensor believes
    rows: int  # that are pending, in no batch yet


class Spool:
    """An open file. Several threads may use it."""

    def __init__(self, path: Path, db: sqlite3.Connection, sensor: str, place: str, program: str) -> None:
        self.path, self.sensor, self.place, self._program = path, sensor, place, program
        self._db = db
        self._lock = threading.RLock()

    @classmethod
    def open(cls, folder: Path, sensor: str, place: str, program: str = "") -> Spool:
        """Open the file in a folder; make it if it is not there. One that is damaged is replaced, with another life.

        Raises StorageFailed.
        """
        path = folder / FILE
        try:
            return cls._opened(path, sensor, place, program)
        except sqlite3.DatabaseError:
            for tail in ("-wal", "-shm", ""):
                (path.parent / (path.name + tail)).unlink(missing_ok=True)
        try:
            return cls._opened(path, sensor, place, program)
        except sqlite3.DatabaseError as error:
            raise StorageFailed(f"{path}: {error}: is there room on the disk?") from None

    @classmethod
    def _opened(cls, path: Path, sensor: str, place: str, program: str) -> Spool:
        try:
            if not path.exists():
                os.close(open_file(path))
        except OSError as error:
            raise storage_failed(path, error) from None
        # A sweep is taken in by a thread of its own; the lock below keeps them apart.
        db = sqlite3.connect(path, timeout=_BUSY_S, isolation_level=None, check_same_thread=False)
        db.row_factory = sqlite3.Row
        try:
            if db.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
                raise sqlite3.DatabaseError("it is damaged")
            db.execute("PRAGMA journal_mode = WAL")
            # A batch that was sent must be there after a power cut, or its number would mean two things.
            db.execute("PRAGMA synchronous = FULL")
            spool = cls(path, db, sensor, place, program)
            if db.execute("PRAGMA user_version").fetchone()[0] != VERSION:
                spool._begin()
        except sqlite3.DatabaseError:
            db.close()
            raise
        return spool

    def _begin(self) -> None:
        with self._transaction():
            for (name,) in self._db.execute("SELECT name FROM sqlite_schema WHERE type = 'table'").fetchall():
                self._db.execute(f"DROP TABLE {name}")
            for statement in SCHEMA:
                self._db.execute(statement)
            self._set("life", secrets.token_hex(8))
            self._db.execute(f"PRAGMA user_version = {VERSION}")

    def close(self) -> None:
        """Close the file."""
        self._db.close()

    @property
    def life(self) -> str:
        """Return what tells the numbers of this file from those of another."""
        return str(self._meta("life"))

    def note(
        self, seen: Sequence[Observation], scan: ScanFacts | None, clocks: SensorClocks, *, apart: bool = False
    ) -> None:
        """Keep what was taken in, in one step. ``apart``: it must not be merged with what was before or comes after.

        Raises StorageFailed.
        """
        with self._transaction():
            if self._meta("boot") not in (None, clocks.boot):
                self._close(self._clocks())  # what is pending is of another start of the machine
            self._keep_clocks(clocks)
            if apart:
                self._close(self._clocks())
            step = int(self._meta("step") or 0) + 1
            self._set("step", str(step))
            epoch = int(self._meta("epoch") or 0)
            for each in seen:
                self._see(each, step, epoch)
            if scan is not None:
                self._db.execute("INSERT INTO scan VALUES (?, ?)", (step, json.dumps(kept_scan(scan, epoch))))
                for key, moment in (("scan_began", scan.began), ("scan_ended", scan.ended)):
                    self._set(key, str(max(to_ms(moment) - epoch, self._scan(key))))
            if apart:
                self._close(self._clocks())

    def close_batch(self, clocks: SensorClocks, own: Sequence[MacAddress] = ()) -> int:
        """Make batches of all that is pending. Returns how many. Raises StorageFailed."""
        with self._transaction():
            if self._meta("boot") in (None, clocks.boot):
                self._keep_clocks(clocks)
            return self._close(self._clocks(), own)

    def batches(self, after: int, most: int = WINDOW) -> list[tuple[int, bytes]]:
        """Return the next batches after a number, each with its own, as they are sent."""
        found = []
        query = "SELECT number, document FROM batch WHERE number > ? ORDER BY number LIMIT ?"
        with self._guarded():
            for number, document in self._db.execute(query, (after, most)).fetchall():
                before = self._db.execute("SELECT max(number) FROM batch WHERE number < ?", (number,)).fetchone()[0]
                before = max(before or 0, int(self._meta("folded") or 0))
                whole = json.loads(document) | ({"after": before} if before else {})
                if dropped := self._dropped(number):
                    whole["dropped"] = dropped
                found.append((number, json.dumps(whole, ensure_ascii=False, separators=(",", ":")).encode()))
        return found

    def folded(self, note: Folded) -> bool:
        """Take the note of what is folded: that need not be kept. Returns whether the note is about this file.

        A note beyond what this file has ever numbered means that the file is an old copy: it begins another life.
        """
        with self._transaction():
            if note.patience_s > 0:
                self._set("patience_s", str(note.patience_s))
            if note.life != self.life:
                return False
            if note.number > int(self._meta("number") or 0):
                self._set("life", secrets.token_hex(8))
                self._set("folded", "0")
                return False
            self._db.execute("DELETE FROM batch WHERE number <= ?", (note.number,))
            self._db.execute("DELETE FROM dropped WHERE number <= ?", (note.number,))
            self._set("folded", str(max(note.number, int(self._meta("folded") or 0))))
            return True

    @property
    def last_folded(self) -> int:
        """Return the number of the last batch that is folded, as far as it is known here."""
        return int(self._meta("folded") or 0)

    @property
    def closed(self) -> int:
        """Return how many batches wait to be folded."""
        with self._guarded():
            return int(self._db.execute("SELECT count(*) FROM batch").fetchone()[0])

    def waiting(self) -> Waiting:
        """Return what waits to be folded."""
        with self._guarded():
            batches, oldest = self._db.execute("SELECT count(*), min(at) FROM batch").fetchone()
            rows = sum(
                self._db.execute(f"SELECT count(*) FROM {name}").fetchone()[0] for name in ("seen", "said", "scan")
            )
        return Waiting(batches, datetime.fromisoformat(oldest) if oldest is not None else None, rows)

    def bound(self, limits: Limits, clocks: SensorClocks) -> Mapping[str, int]:
        """Drop what there is no room for: first what devices said, then whole batches; the oldest first.

        How long devices were there is kept longest. Returns how many of what. Raises StorageFailed.
        """
        dropped: dict[str, int] = {}
        with self._transaction():
            if self._octets() > limits.octets or self._pending_s(clocks) > _PENDING_S:
                self._close(self._clocks())  # only what is in a batch can be dropped
            too_old = (clocks.at - timedelta(days=limits.days)).isoformat()
            for number in self._numbers("at < ?", too_old):
                _add(dropped, self._drop(number))
            for change in (self._thin, self._drop):
                for number in self._numbers("true"):
                    if self._octets() <= limits.octets:
                        break
                    _add(dropped, change(number))
        return {what: count for what, count in dropped.items() if count}

    def _pending_s(self, clocks: SensorClocks) -> float:
        """Return for how long something is pending, in seconds."""
        (since,) = self._db.execute(
            "SELECT min(since) FROM (SELECT since FROM seen UNION ALL SELECT since FROM said)"
        ).fetchone()
        return clocks.seconds - since / 1000 if since is not None else 0.0

    def _numbers(self, which: str, *values: object) -> list[int]:
        return [row[0] for row in self._db.execute(f"SELECT number FROM batch WHERE {which} ORDER BY number", values)]

    def _document(self, number: int) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(
            self._db.execute("SELECT document FROM batch WHERE number = ?", (number,)).fetchone()[0]
        )
        return found

    def _thin(self, number: int) -> dict[str, int]:
        """Leave only the stays and scans of a batch."""
        batch = self._document(number)
        kept = [each for each in batch.get("documents", ()) if each.get("form") != "observation/1"]
        lost = len(batch.get("documents", ())) - len(kept)
        if lost:
            self._db.execute(
                "UPDATE batch SET document = ? WHERE number = ?", (json.dumps({**batch, "documents": kept}), number)
            )
            self._note_dropped(number, "sightings", lost)
        return {"sightings": lost}

    def _drop(self, number: int) -> dict[str, int]:
        documents = self._document(number).get("documents", ())
        lost = {
            "stays": sum(len(each.get("rows", ())) for each in documents),
            "sightings": sum(each.get("form") == "observation/1" for each in documents),
            "scans": sum(each.get("form") == "scan-record/1" for each in documents),
        }
        self._db.execute("DELETE FROM batch WHERE number = ?", (number,))
        after = self._db.execute("SELECT min(number) FROM batch WHERE number > ?", (number,)).fetchone()[0]
        earlier = self._dropped(number)
        self._db.execute("DELETE FROM dropped WHERE number = ?", (number,))
        whole = {what: lost.get(what, 0) + earlier.get(what, 0) for what in {*lost, *earlier}}
        for what, count in whole.items():
            self._note_dropped(after or int(self._meta("number") or 0) + 1, what, count)
        return lost

    def _note_dropped(self, number: int, what: str, count: int) -> None:
        """Note what the batch with this number has to tell as dropped."""
        if count:
            self._db.execute(
                "INSERT INTO dropped VALUES (?1, ?2, ?3) ON CONFLICT DO UPDATE SET count = count + ?3",
                (number, what, count),
            )

    def _dropped(self, number: int) -> dict[str, int]:
        rows = self._db.execute("SELECT what, count FROM dropped WHERE number = ?", (number,))
        return {row["what"]: row["count"] for row in rows}

    def _octets(self) -> int:
        used = "SELECT (page_count - freelist_count) * page_size FROM pragma_page_count, pragma_freelist_count, "
        return int(self._db.execute(used + "pragma_page_size").fetchone()[0])

    def _see(self, seen: Observation, step: int, epoch: int) -> None:
        began, at = (to_ms(moment) - epoch for moment in (seen.began, seen.at))
        subnet = str(seen.subnet) if seen.subnet is not None else ""
        pair = (str(seen.mac) if seen.mac is not None else "", str(seen.address) if seen.address is not None else "")
        if seen.traits or seen.medium is not Medium.UNKNOWN or not all(pair):
            said = json.dumps([[each.kind, each.value, each.source] for each in seen.traits], ensure_ascii=False)
            key = (*pair, str(seen.source), str(seen.medium), subnet, said)
            row = self._db.execute(
                "SELECT id, since, until, late FROM said "
                "WHERE (mac, address, source, medium, subnet, traits) = (?, ?, ?, ?, ?, ?) ORDER BY id DESC LIMIT 1",
                key,
            ).fetchone()
            late = self._is_late(row, began)
            if row is not None and not late and self._goes_on(pair, row, began):
                self._db.execute("UPDATE said SET until = max(until, ?) WHERE id = ?", (at, row["id"]))
            else:
                self._db.execute(
                    "INSERT INTO said (step, mac, address, source, medium, subnet, traits, since, until, late) "
                    "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                    (step, *key, began, at, late),
                )
            return
        row = self._db.execute(
            "SELECT id, since, until, late FROM seen WHERE mac = ? AND address = ? ORDER BY id DESC LIMIT 1", pair
        ).fetchone()
        late = self._is_late(row, began)
        if row is not None and not late and self._goes_on(pair, row, began):
            self._db.execute(
                "UPDATE seen SET until = max(until, ?1), found = CASE WHEN ?1 >= until THEN ?2 ELSE found END "
                "WHERE id = ?3",
                (at, str(seen.source), row["id"]),
            )
        else:
            self._db.execute(
                "INSERT INTO seen (step, mac, address, source, found, subnet, since, until, late) "
                "VALUES (?, ?, ?, ?4, ?4, ?, ?, ?, ?)",
                (step, *pair, str(seen.source), subnet, began, at, late),
            )

    def _scan(self, key: str) -> int:
        """Return when the latest scan began or ended."""
        return int(self._meta(key) or -1)

    def _is_late(self, row: sqlite3.Row | None, began: int) -> bool:
        """Tell whether it was seen before a scan ended that was taken in before it, and in which it had been silent: by
        that it may have left. What is late only makes its past longer, and what comes after it is not one with it. The
        same may be told twice, by a sweep and by who listens.
        """
        silent = row is None or row["late"] or row["until"] < self._scan("scan_began")
        return silent and began <= self._scan("scan_ended")

    def _goes_on(self, pair: tuple[str, str], row: sqlite3.Row, began: int) -> bool:
        """Tell whether what was silent from one moment to another may count as having been there all the time.

        Not if the silence may be longer than anyone's patience, nor if the adapter got another address meanwhile: then
        its silence at the old one counts at once. A host without a MAC address may have turned out to be an adapter.
        What was taken in later and seen before, as by a sweep that ended just now, stays by itself.
        """
        until, patience_s = row["until"], float(self._meta("patience_s") or _PATIENCE_S)
        if not pair[0] or row["late"] or began < row["since"] or began - until >= patience_s * 1000:
            return False
        moved = f"SELECT 1 FROM ({_PENDING}) WHERE mac = ? AND address NOT IN (?, '') AND since > ? "
        moved += "AND address NOT LIKE '%:%' LIMIT 1"
        return self._db.execute(moved, (*pair, until)).fetchone() is None

    def _close(self, clocks: SensorClocks, own: Sequence[MacAddress] = ()) -> int:
        items = self._pending(clocks)
        if not items:
            return 0
        number = int(self._meta("number") or 0)
        made = 0
        for some in portions(items):
            number += 1
            made += 1
            self._put(number, some, clocks, own)
        self._set("number", str(number))
        for table in ("seen", "said", "scan"):
            self._db.execute(f"DELETE FROM {table}")
        return made

    def _put(
        self, number: int, items: Sequence[Sighting | ScanFacts], clocks: SensorClocks, own: Sequence[MacAddress]
    ) -> None:
        batch = Batch(
            self.sensor, self.place, self.life, number, 0, clocks, self._program,
            tuple(each for each in items if isinstance(each, Sighting)),
            tuple(each for each in items if isinstance(each, ScanFacts)),
            own=tuple(own),
        )  # fmt: skip
        self._db.execute(
            "INSERT INTO batch (number, at, document) VALUES (?, ?, ?)",
            (number, clocks.at.isoformat(), batch_to_json(batch).decode()),
        )

    def _pending(self, clocks: SensorClocks) -> list[Sighting | ScanFacts]:
        """Return all that is pending in the order of its steps; within a step, the scan is the last."""
        epoch = to_ms(clocks.at) - round(clocks.seconds * 1000)
        found: list[tuple[int, int, Sighting | ScanFacts]] = []
        for row in self._db.execute("SELECT * FROM seen ORDER BY id"):
            found += [(row["step"], 0, each) for each in sightings(row, epoch)]
        for row in self._db.execute("SELECT * FROM said ORDER BY id"):
            found.append((row["step"], 1, said(row, epoch)))
        for step, text in self._db.execute("SELECT step, facts FROM scan ORDER BY step"):
            found.append((step, 2, scan_facts(step, json.loads(text), epoch)))
        found.sort(key=lambda each: each[:2])
        return [each for _, _, each in found]

    def _keep_clocks(self, clocks: SensorClocks) -> None:
        """Keep what the clocks show, and when the machine was started by its time of day.

        That start stays what it was while the clocks run alike, so that a moment comes out as it went in.
        """
        if self._meta("boot") != clocks.boot:
            self._db.execute("DELETE FROM meta WHERE key IN ('scan_began', 'scan_ended')")  # by another clock
        own = round(clocks.seconds * 1000)
        epoch, before = to_ms(clocks.at) - own, self._meta("epoch")
        if before is None or self._meta("boot") != clocks.boot or abs(epoch - int(before)) > _ALIKE_MS:
            self._set("epoch", str(epoch))
        self._set("boot", clocks.boot)
        self._set("own", str(own))

    def _clocks(self) -> SensorClocks:
        """Return the clocks as they were kept last."""
        own = int(self._meta("own") or 0)
        return SensorClocks(from_ms(int(self._meta("epoch") or 0) + own), self._meta("boot") or "", own / 1000)

    def _meta(self, key: str) -> str | None:
        row = self._db.execute("SELECT value FROM meta WHERE key = ?", (key,)).fetchone()
        return str(row[0]) if row is not None else None

    def _set(self, key: str, value: str) -> None:
        self._db.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (key, value))

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        with self._guarded():
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield
                self._db.execute("COMMIT")
            finally:
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")

    @contextmanager
    def _guarded(self) -> Iterator[None]:
        with self._lock:
            try:
                yield
            except sqlite3.OperationalError as error:
                raise StorageFailed(f"{self.path}: {error}; nothing was changed") from None


def _add(sums: dict[str, int], more: Mapping[str, int]) -> None:
    for what, count in more.items():
        sums[what] = sums.get(what, 0) + count
