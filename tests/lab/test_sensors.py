"""Two places with the very same range, a real broker between them, and one roster."""

from __future__ import annotations

import json
import socket
import time
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from typing import Any
from unittest.mock import patch

from scopion.attachment.connect.mqtt_line import Arrived, MqttLine
from scopion.attachment.system_clock import SystemClock
from scopion.model.batch import Batch, SensorState, Sighting
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, Trait, TraitKind
from scopion.operations.sensors.load_sensor import load_sensor
from scopion.watching.sensors.run_sensor import SensorFolder, clocks_of, run_sensor
from scopion.wire.sensor_documents import batch_to_json, folded_from_json, state_to_json
from tests.lab.lab import LabHost, kill
from tests.lab.places import PlacesTest
from tests.lab.services import wait_for

NEWCOMER = LabHost("newcomer", "a0:b4:d7:66:19:04", ("192.0.2.144",), ipv6=False)


class TwoPlaces(PlacesTest):
    def told(self) -> list[dict[str, Any]]:
        path = self.site / "book.jsonl"
        return [json.loads(line) for line in path.read_text().splitlines()] if path.exists() else []

    def test_one_roster_of_two_places(self) -> None:
        """Devices of both places with equal addresses; a newcomer there is told."""
        self.start("desk", "watch")
        self.start("pit", "sensor", "run")
        here = "SELECT place, address, mac FROM stay WHERE present AND address NOT LIKE '%:%' ORDER BY 1, 2"

        def both() -> bool:
            found = self.rows(here)
            wanted = {("clay pit", f"192.0.2.{n}", f"10:c0:de:00:01:{n:02x}") for n in range(20, 23)}
            return wanted | {("shop", "192.0.2.20", "10:c0:de:00:00:14")} <= set(found)

        try:
            wait_for("both places", both, 40)
            self.net.host_on("pit", NEWCOMER, "192.0.2.1")
            with self.net.inside("newcomer"), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as speaks:
                speaks.sendto(b"x", ("192.0.2.20", 9))
            wait_for(
                "the newcomer is told", lambda: any(NEWCOMER.mac in str(each["facts"]) for each in self.told()), 20
            )
        except AssertionError:
            print(self.log("desk"), self.log("pit"), self.rows(here))
            raise
        (told,) = (each for each in self.told() if NEWCOMER.mac in str(each["facts"]))
        self.assertIn("clay pit", told["text"] + str(told["facts"]))


class Odd(PlacesTest):
    """A sensor whose clock is three hours ahead, and one whose account may use no raw frames."""

    sensors = ("pit", "mill")

    def sense_ahead(self) -> None:
        """Run the sensor of the pit, in this process, with its clock."""
        folder, now = self.sensing("pit"), SystemClock.now
        file = load_sensor(folder)
        with patch.object(SystemClock, "now", lambda clock: now(clock) + timedelta(hours=3)):
            run_sensor(SensorFolder(folder, file, file.broker.topics))

    def test_both_report_what_is_there(self) -> None:
        """When it was, not when the wrong clock says; that clock is told, the other is right."""
        began = datetime.now(UTC)
        self.start("desk", "watch")
        self.addCleanup(kill, self.net.forked("sensor-pit", self.sense_ahead))
        self.start("mill", "sensor", "run", privileged=False)
        hosts = {"clay pit": ["192.0.2.20", "192.0.2.21", "192.0.2.22"], "glaze mill": ["203.0.113.20", "203.0.113.21"]}

        def sensors() -> list[dict[str, Any]]:
            return list(json.loads(self.net.scopion(["sensors", "--format", "json"], self.site).stdout))

        def offsets() -> dict[str, float]:
            return {each["name"]: each["offset_s"] for each in sensors() if each["offset_s"] is not None}

        wait_for("both clocks were compared", lambda: offsets().keys() == {"pit", "mill"}, 60)
        self.assertAlmostEqual(offsets()["pit"], 10_800, delta=5)
        self.assertAlmostEqual(offsets()["mill"], 0, delta=5)
        for place, addresses in hosts.items():

            def there(place: str = place, addresses: list[str] = addresses) -> bool:
                rows = self.rows(f"SELECT address FROM stay WHERE place = '{place}' AND present")
                return {each[0] for each in rows} >= set(addresses)

            wait_for(f"all of {place}", there, 30)
            shown = self.net.scopion(["devices", "--place", place, "--format", "json"], self.site).stdout
            seen = [datetime.fromisoformat(each["last_seen"]) for each in json.loads(shown)]
            self.assertGreaterEqual(len(seen), len(addresses))
            self.assertTrue(all(began - timedelta(seconds=5) < each <= datetime.now(UTC) for each in seen), seen)
        waits = [each["oldest"] for each in sensors() if each["oldest"]]
        self.assertTrue(all(datetime.fromisoformat(each) <= datetime.now(UTC) for each in waits), waits)
        self.assertRegex(self.log("desk"), "the clock of pit: is 3 hours ahead")


class Stolen(PlacesTest):
    """Who has a sensor's account can lie about its place, and about nothing else."""

    def setUp(self) -> None:
        super().setUp()
        self.start("desk", "watch")
        password = (self.sensing("pit") / "broker-password").read_text().strip()
        self.folded = 0
        with self.net.inside("sensor-pit"):
            self.line = MqttLine(
                self.broker.access("pit", password), "stolen", ["scopion/kilnhaven/folded/pit"], self.hear, lambda: None
            )
            self.line.start()
        self.addCleanup(self.line.stop)
        wait_for("the stolen account is connected", lambda: self.line.connected)

    def hear(self, arrived: Arrived) -> None:
        """Answer as a sensor would, so that its clock is known."""
        self.line.acknowledge(arrived)
        note = folded_from_json(arrived.octets)
        self.folded = note.number
        if note.nonce:
            state = SensorState(
                "pit", True, clocks_of(SystemClock()), "clay pit", "life", "1\x1b[31m", nonce=note.nonce
            )
            self.line.publish("scopion/kilnhaven/sensor/pit/state", state_to_json(state))

    def batch(self, number: int, name: str = "oven", topic: str = "pit", **fields: Any) -> bool:
        """Say a batch with one device."""
        clocks = clocks_of(SystemClock())
        traits = (Trait(TraitKind.NAME, name, Source.MDNS),)
        at = clocks.at - timedelta(seconds=1)
        seen = Observation(MacAddress.parse(NEWCOMER.mac), IPv4Address("192.0.2.144"), at, Source.ARP, traits=traits)
        whole = Batch("pit", "clay pit", "life", number, number - 1, clocks, "1.0", (Sighting(1, seen),))
        octets = batch_to_json(replace(whole, **fields))
        return self.line.publish(f"scopion/kilnhaven/sensor/{topic}/batch", octets)

    def until_folded(self, number: int, name: str) -> None:
        """Say a batch until its note is there: before the clocks are compared, it is not taken."""

        def is_folded() -> bool:
            self.batch(number, name)
            time.sleep(0.5)
            return self.folded == number

        wait_for(f"batch {number}", is_folded, 40)

    def test_a_hostile_sensor(self) -> None:
        """Forged places and topics, replays, ten megabytes, escapes: told, and without effect; the watch goes on."""
        stays = f"SELECT place, address FROM stay WHERE mac = '{NEWCOMER.mac}'"
        self.until_folded(1, "kiln\x1b]0;owned\x07\x1b[2J")
        self.assertEqual(self.rows(stays), [("clay pit", "192.0.2.144")])
        for fields in ({"place": "shop"}, {"sensor": "mill"}, {"life": "other", "place": "glaze mill"}):
            self.batch(2, **fields)
        self.batch(1, topic="mill")
        wait_for("the broker refuses", lambda: "does not let this account write here" in self.line.refused)
        topic = "scopion/kilnhaven/sensor/pit/batch"
        for octets in (b"x" * 10_000_000, b"[" * 200_000, b"\xff\xfe", b"{}", b""):
            self.line.publish(topic, octets)
        for _ in range(3):
            self.batch(1, "again")
        wait_for("connected again", lambda: self.line.connected, 40)
        self.until_folded(2, "oven")
        self.assertEqual(self.rows(stays), [("clay pit", "192.0.2.144")])
        self.assertEqual(self.rows("SELECT DISTINCT place FROM stay ORDER BY 1"), [("clay pit",), ("shop",)])
        joined = f"SELECT count(*) FROM event WHERE kind = 'joined' AND mac = '{NEWCOMER.mac}'"
        self.assertEqual(self.rows(joined), [(1,)])
        log = self.log("desk")
        self.assertIn("that is refused", log)
        self.assertIn("a batch cannot be read", log)
        shown = self.run_ok("sensors", "--format", "table") + self.run_ok("devices", "--format", "table")
        for text in (log, shown):
            self.assertEqual({each for each in text if ord(each) < 32} - {"\n"}, set())
