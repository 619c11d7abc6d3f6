"""Sensors, the broker and the watch, each killed at any moment, with lines that are cut and stall: nothing is lost.

Each sensor keeps a record of all its steps within the same transactions as its own file. From that the roster is made
once more, as one process would have folded it that heard everything.
"""

from __future__ import annotations

import pickle
import random
import sqlite3
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from functools import partial
from ipaddress import IPv4Address
from unittest.mock import patch

from scopion.attachment.linux.linux_attachment import LiveAttachment
from scopion.attachment.system_clock import SystemClock
from scopion.model.batch import Batch, ScanFacts, SensorClocks, Sighting
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.sensors.fold_batch import fold_batch
from scopion.operations.sensors.load_sensor import load_sensor
from scopion.operations.site.open_site import Site
from scopion.roster.places import name_home
from scopion.roster.sensors import folded_number
from scopion.roster.spool.spool import FILE, Spool
from scopion.roster.store.open_roster import Roster
from scopion.roster.upkeep.check_roster import unsound
from scopion.watching.run_watch import WatchOptions, run_watch
from scopion.watching.sensors import run_sensor as running
from scopion.watching.watch_memory import WatchMemory
from scopion.wire.arp import encode_request
from scopion.wire.sensor_documents import batch_from_json
from tests.lab.lab import kill
from tests.lab.places import PLACES, PlacesTest
from tests.lab.services import wait_for
from tests.roster.test_sensor_batches import said, told

TIMES = 200
# How long each lives on average. One life of a sensor in eight is long, so that it misses devices that went.
LIVES_S = {"pit": 1.5, "mill": 1.5, "broker": 1.0, "watch": 1.2}
LONG_S, LONG = 25.0, 1 / 8
# In each place so many devices come; each shows itself for some seconds, and some come back, perhaps elsewhere.
GUESTS, EVERY_S, SHOWN_S, AWAY_S = 60, 1.0, 8, 25


class Recorded(Spool):
    """A sensor's file in which every step is also kept as it was."""

    _step: bytes | None = None

    def note(
        self, seen: Sequence[Observation], scan: ScanFacts | None, clocks: SensorClocks, *, apart: bool = False
    ) -> None:
        with self._lock:
            self._step = pickle.dumps((list(seen), scan, clocks))
            super().note(seen, scan, clocks, apart=apart)

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        with super()._transaction():
            yield
            if self._step is not None:
                self._db.execute("CREATE TABLE IF NOT EXISTS recorded (number INTEGER PRIMARY KEY, step BLOB)")
                self._db.execute("INSERT INTO recorded (step) VALUES (?)", (self._step,))
                self._step = None

    def steps(self) -> list[tuple[list[Observation], ScanFacts | None, SensorClocks]]:
        """Return all that was ever noted."""
        return [pickle.loads(step) for (step,) in self._db.execute("SELECT step FROM recorded ORDER BY number")]


class Killed(PlacesTest):
    sensors = ("pit", "mill")
    patience_s = 12  # so that devices leave, and come back
    broker_says = "max_inflight_messages 4\nmax_queued_messages 3\n"  # so that it drops what waits, too

    def setUp(self) -> None:
        super().setUp()
        self.children: dict[str, int] = {}
        self.addCleanup(self.end_all)

    def end_all(self) -> None:
        for part in list(self.children):
            self.end(part)

    def launch(self, part: str) -> None:
        """Start one of the parts."""
        if part == "broker":
            self.broker.start()
        elif part == "watch":
            self.children[part] = self.net.forked("desk", lambda: run_watch(Site(self.site), WatchOptions()))
        else:
            self.children[part] = self.net.forked(f"sensor-{part}", lambda: self._sense(part))

    def _sense(self, name: str) -> None:
        with patch.object(running, "Spool", Recorded):
            folder = self.sensing(name)
            file = load_sensor(folder)
            running.run_sensor(running.SensorFolder(folder, file, file.broker.topics))

    def end(self, part: str) -> None:
        """Kill one of the parts."""
        if part == "broker":
            self.broker.stop(kill=True)
        else:
            kill(self.children.pop(part))

    def test_killed_at_any_moment(self) -> None:
        """Two hundred times, with lines cut and stalled between: the roster is as if one process had heard it all."""
        chance = random.Random(20261130)
        for part in ("watch", "pit", "mill"):
            self.launch(part)
        for name in self.sensors:
            host = PLACES[name][2][0].name
            self.children[host] = self.net.forked(host, partial(_guests, name))
        ends = {part: time.monotonic() + self.life(part, chance) for part in LIVES_S}
        disturbed = time.monotonic() + 1
        killed: Counter[str] = Counter()
        while killed.total() < TIMES or min(killed[part] for part in LIVES_S) < TIMES / 20:
            part = min(ends, key=lambda each: ends[each])
            time.sleep(max(0.0, min(ends[part], disturbed) - time.monotonic()))
            if time.monotonic() >= disturbed:
                self.disturb(chance)
                disturbed = time.monotonic() + chance.uniform(0.5, 3)
            if time.monotonic() >= ends[part]:
                self.end(part)
                killed[part] += 1
                self.launch(part)
                ends[part] = time.monotonic() + self.life(part, chance)
        for name in self.sensors:
            self.end(PLACES[name][2][0].name)
        for name in self.sensors:
            wait_for(f"{name} has told all", lambda name=name: self.waits(name) == 0, 90)  # type: ignore[misc]
        self.end_all()
        self.assert_all_is_there()

    def life(self, part: str, chance: random.Random) -> float:
        """Return for how long a part may live, in seconds."""
        if part in self.sensors and chance.random() < LONG:
            return LONG_S
        return min(chance.expovariate(1 / LIVES_S[part]), 4 * LIVES_S[part])

    def disturb(self, chance: random.Random) -> None:
        """Cut a sensor's line for a moment, or let the broker stall."""
        moment = chance.uniform(0.05, 0.6)
        if chance.random() < 0.5:
            host = f"sensor-{chance.choice(self.sensors)}"
            self.net.run(host, ["ip", "link", "set", "wan0", "down"])
            time.sleep(moment)
            self.net.run(host, ["ip", "link", "set", "wan0", "up"])
        else:
            self.broker.stall(moment)

    def waits(self, name: str) -> int:
        """Return how many batches a sensor has that are not folded."""
        with closing(sqlite3.connect(f"file:{self.sensing(name) / FILE}?mode=ro", uri=True)) as db:
            return int(db.execute("SELECT count(*) FROM batch").fetchone()[0])

    def assert_all_is_there(self) -> None:
        """Hold the roster against one that is folded step by step from what the sensors recorded."""
        site, other = Site(self.site), Site(self.site)
        self.addCleanup(site.close)
        site.watch_state = other.watch_state = WatchMemory(FloodGuard())
        memory = Roster._in_memory(self.folder / "memory")
        self.addCleanup(memory.close)
        memory.db.execute("PRAGMA query_only = OFF")
        other.__dict__["roster"] = memory
        name_home(memory, "shop")
        for name in self.sensors:
            place = PLACES[name][0]
            with closing(Recorded.open(self.sensing(name), name, place)) as spool:
                assert isinstance(spool, Recorded)
                # What was pending when the sensor was killed for the last time would go with its next batch.
                spool.close_batch(running.clocks_of(SystemClock()))
                for _, octets in spool.batches(spool.last_folded, 1000):
                    fold_batch(site, batch_from_json(octets))
                folded = folded_number(site.roster, name, spool.life)
                steps = spool.steps()
            guard = FloodGuard()
            for number, (saw, scan, clocks) in enumerate(steps, 1):
                plain = Batch(
                    name, place, "plain", number, number - 1, clocks,
                    sightings=tuple(Sighting(1, each) for each in saw),
                    scans=(replace(scan, step=1),) if scan is not None else (),
                )  # fmt: skip
                fold_batch(other, plain, guard=guard)
            found, wanted = told(site, place), told(other, place)
            for what in wanted:
                self.assertEqual(found[what], wanted[what], f"{what} of {place}, {len(steps)} steps, {folded} batches")
            counts = {
                "steps": len(steps),
                "scans": len(wanted["scans"]),
                "batches": folded,
                "left": sum(each[0] == "left" for each in wanted["events"]),
                "devices": len({each[0] for each in wanted["stays"]}),
            }
            print(place, counts)
            self.assertGreater(min(counts.values()), 2, counts)
            self.assertEqual(said(site, place), said(other, place))
        self.assertEqual(unsound(site.roster, datetime.now(UTC) + timedelta(seconds=1)), [])


def _guests(name: str) -> None:
    """Devices that come and go in a place, until this process is killed."""
    attachment = LiveAttachment()
    interface = next(each for each in attachment.interfaces() if each.name == "eth0")
    link = attachment.open_link(interface)
    _, range_, hosts = PLACES[name]
    kind = int(hosts[0].mac.split(":")[4])
    began = time.monotonic()
    while True:
        second = int(time.monotonic() - began)
        for number in range(min(GUESTS, int(second / EVERY_S) + 1)):
            age = second - int(number * EVERY_S)
            times, within = divmod(age, SHOWN_S + AWAY_S)
            if within < SHOWN_S:
                address = IPv4Address(f"{range_}{30 + (number + (100 if times % 2 and number % 3 == 0 else 0))}")
                mac = MacAddress(bytes([0x0C, 0xBE, 0x12, 0, kind, number]))
                link.send(encode_request(mac, address, address))
        time.sleep(0.5)
