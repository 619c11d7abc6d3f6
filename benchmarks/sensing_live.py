"""The watch as a process that hears a hundred sensors through a real broker, and a newcomer at one real sensor."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from collections.abc import Iterator
from contextlib import closing, contextmanager
from datetime import UTC, datetime
from ipaddress import IPv4Address
from pathlib import Path

from tests.lab.broker import PORT, Broker
from tests.lab.lab import Lab, LabHost, require_lab
from tests.lab.places import PlacesTest
from tests.lab.services import wait_for

from benchmarks.figure import Figure, beside, processor_time, resident_at_most
from benchmarks.many_places import (
    BOOTED_BEFORE_S,
    DEVICES,
    SENSORS,
    mac_of,
    minute,
    name_of,
    newcomer,
    place_of,
    settings,
)
from scopion.attachment.connect.mqtt_line import Arrived, MqttLine
from scopion.model.batch import SensorClocks, SensorState
from scopion.operations.sensors.fold_batch import fold_batch
from scopion.operations.site.open_site import Site
from scopion.wire.sensor_documents import batch_from_json, folded_from_json, state_to_json

BROKER = "192.0.2.5"
WATCHED_S, JOINS, ROUND_TRIPS = 120.0, 12, 40
ACCOUNTS = {"scopion": "s-secret", "many": "m-secret", "bare": "b-secret"}
ACCESS = "".join(f"user {name}\ntopic readwrite many/#\ntopic readwrite bare/#\n" for name in ACCOUNTS)


def measure() -> Iterator[Figure]:
    """Measure all of it."""
    require_lab()
    yield from _many()
    yield from _newcomers()


class _Sensors:
    """A hundred sensors in one program, with one connection: numbered batches, and the answer that compares clocks."""

    def __init__(self, begins: str) -> None:
        self._begins, self._began = begins, time.monotonic()
        self._folded = [threading.Event() for _ in range(SENSORS)]
        self.numbers = [1] * SENSORS
        self.line: MqttLine | None = None

    def clocks(self) -> SensorClocks:
        return SensorClocks(datetime.now(UTC), "boot", BOOTED_BEFORE_S + time.monotonic() - self._began)

    def take(self, arrived: Arrived) -> None:
        """Take a note; called by the thread of the line."""
        assert self.line is not None
        self.line.acknowledge(arrived)
        note, name = folded_from_json(arrived.octets), arrived.topic.rpartition("/")[2]
        sensor = int(name[1:])
        if note.nonce:
            state = SensorState(name, True, self.clocks(), place_of(sensor), f"life{sensor}", "1.0", nonce=note.nonce)
            self.line.publish(f"{self._begins}/sensor/{name}/state", state_to_json(state), retain=True)
        if note.number >= self.numbers[sensor]:
            self._folded[sensor].set()

    def says(self, sensor: int, octets: bytes) -> float:
        """Say a batch, and return the seconds until its note is there."""
        assert self.line is not None
        self._folded[sensor].clear()
        began = time.perf_counter()
        for _ in range(10):  # before the clocks are compared, it is not taken, and has to come again
            self.line.publish(f"{self._begins}/sensor/{name_of(sensor)}/batch", octets)
            if self._folded[sensor].wait(3):
                return time.perf_counter() - began
        raise TimeoutError(f"{name_of(sensor)}: batch {self.numbers[sensor]} is not folded")

    def a_minute(self, sensor: int, away: set[int]) -> float:
        """Report a minute of one sensor."""
        self.numbers[sensor] += 1
        here = [each for each in range(DEVICES) if each not in away]
        return self.says(sensor, minute(sensor, self.numbers[sensor], self.clocks(), here))

    def a_newcomer(self, sensor: int, number: int) -> float:
        """Report a device that was heard for the first time."""
        self.numbers[sensor] += 1
        mac = mac_of(sensor + 200, number)
        address = IPv4Address(f"192.0.2.{252 + number % 3}")
        return self.says(sensor, newcomer(sensor, self.numbers[sensor], self.clocks(), mac, address))


def _many() -> Iterator[Figure]:
    test = unittest.TestCase()
    lab = Lab([LabHost("broker", "10:c0:de:00:00:05", (BROKER,), ipv6=False)], gateway=None)
    with tempfile.TemporaryDirectory(prefix="scopion-bench-") as holder:
        folder = Path(holder)
        try:
            broker = Broker(lab, "broker", BROKER, folder / "broker", test)
            broker.let_in(ACCOUNTS, ACCESS)
            broker.start()
            site = _prepared(folder / "site", broker)
            with _process(lab, site, ["watch"]) as watch, _generator(lab, broker, "many") as sensors:
                _report_all(sensors, range(10, 12))
                yield from _share(watch, sensors)
                folded = [sensors.a_newcomer(number % SENSORS, number) for number in range(ROUND_TRIPS)]
                yield from _one_by_one(watch, sensors)
            yield _beside_bare(lab, broker, folded)
        finally:
            test.doCleanups()
            lab.close()


def _prepared(site: Path, broker: Broker) -> Path:
    """Make the site, whose roster has all of the devices already."""
    site.mkdir()
    access = f'host = "{BROKER}"\ntrust = "{broker.trust}"\npassword = "file:secret"'
    (site / "site.toml").write_text(settings(access), encoding="utf-8")
    (site / "secret").write_text(ACCOUNTS["scopion"], encoding="ascii")
    (site / "secret").chmod(0o600)
    with closing(Site(site)) as opened:
        clocks = SensorClocks(datetime.now(UTC), "boot", BOOTED_BEFORE_S - 60)
        for sensor in range(SENSORS):
            fold_batch(opened, batch_from_json(minute(sensor, 1, clocks, range(DEVICES))))
    return site


@contextmanager
def _process(lab: Lab, site: Path, arguments: list[str], at: str = "desk") -> Iterator[subprocess.Popen[bytes]]:
    with (site / "log").open("wb") as log:
        process = subprocess.Popen(
            lab.command(arguments, at=at), env={**os.environ, "SCOPION_SITE": str(site)}, stdout=log, stderr=log
        )
    try:
        yield process
    finally:
        process.terminate()
        process.wait(30)


@contextmanager
def _generator(lab: Lab, broker: Broker, account: str) -> Iterator[_Sensors]:
    sensors = _Sensors(account)
    with lab.inside("broker"):
        access = broker.access(account, ACCOUNTS[account])
        line = MqttLine(access, account, [f"{account}/folded/+"], sensors.take, lambda: None)
        sensors.line = line
        line.start()
    try:
        wait_for("the connection", lambda: line.connected)
        yield sensors
    finally:
        line.stop()


def _report_all(sensors: _Sensors, away: range) -> list[float]:
    """Let each sensor report a minute, one after the other within that minute."""
    began, waits = time.monotonic(), []
    for sensor in range(SENSORS):
        time.sleep(max(0.0, began + sensor * 60 / SENSORS - time.monotonic()))
        waits.append(sensors.a_minute(sensor, set(away)))
    return waits


def _share(watch: subprocess.Popen[bytes], sensors: _Sensors) -> Iterator[Figure]:
    before, began, number = processor_time(watch.pid), time.monotonic(), 12
    waits: list[float] = []
    while time.monotonic() < began + WATCHED_S:
        waits += _report_all(sensors, range(number, number + 2))  # in each place two come back, and two go
        number += 2
    share = (processor_time(watch.pid) - before) / (time.monotonic() - began) * 100
    said = f"a minute's batch folded after {statistics.median(waits) * 1e3:.0f} ms"
    yield Figure("watching 25,000 devices by 100 sensors: of one core", share, "%", 50, detail=said)
    yield Figure("the same: resident at most", resident_at_most(watch.pid), "MB", 400)


def _one_by_one(watch: subprocess.Popen[bytes], sensors: _Sensors) -> Iterator[Figure]:
    began = time.monotonic()
    for sensor in range(SENSORS):
        sensors.a_minute(sensor, set())
    took = time.monotonic() - began
    assert watch.poll() is None
    yield Figure("a minute of 100 sensors, one after the other", took, "s", 30)


def _beside_bare(lab: Lab, broker: Broker, folded: list[float]) -> Figure:
    """Compare the way of a newcomer's batch and back with that of the same batch to a bare program."""
    command = [sys.executable, "-m", "benchmarks.bare_broker", BROKER, str(PORT), str(broker.trust)]
    bare = subprocess.Popen(["ip", "netns", "exec", lab.namespace("desk"), *command, "bare", ACCOUNTS["bare"], "bare"])
    try:
        time.sleep(2)
        with _generator(lab, broker, "bare") as sensors:
            waits = [sensors.a_newcomer(number % SENSORS, number) for number in range(ROUND_TRIPS)]
    finally:
        bare.terminate()
        bare.wait(10)
    ours, floor = statistics.median(folded), statistics.median(waits)
    name = "a newcomer's batch to the broker, folded, and its note"
    return beside(name, ours * 1e3, floor * 1e3, 3, what="a bare program that answers", unit="ms")


def _newcomers() -> Iterator[Figure]:
    """From the first frame of a host, as it comes to the sensor, to the line in the file of the roster's machine."""
    case = _Live()
    case.setUp()
    try:
        case.start("desk", "watch")
        sensor = case.start("pit", "sensor", "run")
        here = "SELECT 1 FROM stay WHERE place = 'clay pit' AND address = '192.0.2.20'"
        wait_for("the clay pit", lambda: case.rows(here), 60)
        time.sleep(5)
        waits = [case.a_newcomer(number) for number in range(JOINS)]
        before, began = processor_time(sensor.pid), time.monotonic()
        time.sleep(60)
        share = (processor_time(sensor.pid) - before) / (time.monotonic() - began) * 100
        yield Figure("from a newcomer at a sensor to its alert here, median", statistics.median(waits), "s", 2)
        yield Figure("the same, longest", max(waits), "s", 2, detail=f"of {len(waits)}")
        yield Figure("a sensor, a sweep of 254 addresses a minute: of one core", share, "%", 2)
        yield Figure("the same: resident at most", resident_at_most(sensor.pid), "MB", 60)
    finally:
        case.doCleanups()


class _Live(PlacesTest):
    """Two places and a broker, as the tests of sensors have them; here its sensor sweeps once a minute."""

    def runTest(self) -> None:
        """Do nothing: it is set up for what it has."""

    def setUp(self) -> None:
        super().setUp()
        settings = self.site / "site.toml"  # each newcomer by a message of its own, however many come
        settings.write_text(settings.read_text().replace("learning_days = 0", "learning_days = 0\nburst = 100"))
        path = self.sensing("pit") / "sensor.toml"
        path.write_text(path.read_text().replace("interval_s = 5", "interval_s = 60"))

    def a_newcomer(self, number: int) -> float:
        """Plug a host in at the clay pit, and return the seconds from its first frame until it is told."""
        host = LabHost(f"new{number}", f"10:c0:de:00:12:{number:02x}", (f"192.0.2.{200 + number}",), ipv6=False)
        own = ("-m", "benchmarks.watching")
        listener = subprocess.Popen(
            ["ip", "netns", "exec", self.net.namespace("sensor-pit"), sys.executable, *own, "first-frame", host.mac],
            stdout=subprocess.PIPE,
        )
        assert listener.stdout is not None
        listener.stdout.readline()  # it listens
        self.net.host_on("pit", host, "192.0.2.1")
        time.sleep(0.5)
        self.net.run(host.name, [sys.executable, *own, "announce", host.addresses[0]])
        frame = float(listener.stdout.readline())
        listener.wait(10)
        book = self.site / "book.jsonl"
        wait_for("its alert", lambda: book.exists() and host.mac in book.read_text(), 30, 0.01)
        told = time.monotonic()
        time.sleep(3.0)
        return told - frame
