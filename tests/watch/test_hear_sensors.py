"""What the watch makes of sensors that report: honest ones, late ones, silent ones, and one in a stranger's hands."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from ipaddress import IPv4Address
from types import SimpleNamespace
from typing import Any, cast

from scopion.attachment.connect.mqtt_line import Arrived
from scopion.model.batch import Batch, Folded, SensorClocks, SensorState, Sighting
from scopion.model.errors import InvalidSettings, NotFound, Refused
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, Trait, TraitKind
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.sensors.forget_sensor import forget_sensor
from scopion.operations.sensors.list_sensors import list_sensors
from scopion.operations.site.open_site import Site
from scopion.roster.folding.fold_observations import fold
from scopion.roster.follow_alerts import is_over
from scopion.scenes.scene_clock import SceneClock
from scopion.watching.executors import InlineExecutor
from scopion.watching.sensors.hear_sensors import Sensors
from scopion.watching.watch_context import WatchContext
from scopion.watching.watch_memory import WatchMemory
from scopion.wire.sensor_documents import batch_to_json, folded_from_json, state_to_json
from tests.support import NOON, FolderTest

SITE = """
name = "Kilnhaven"
place = "shop"
[[channel]]
name = "book"
type = "file"
path = "book.jsonl"
[broker]
host = "127.0.0.1"
topics = "site"
[[sensor]]
name = "pit"
place = "clay pit"
[[sensor]]
name = "mill"
place = "glaze mill"
"""
SECOND = timedelta(seconds=1)
WHEEL, SECOND_WHEEL = (MacAddress.parse(f"10:c0:de:00:00:{each}") for each in ("09", "0a"))


class _Line:
    """Keeps what is published, and what was acknowledged."""

    def __init__(self) -> None:
        self.connected, self.problem, self.refused, self.address = True, "", "", "198.51.100.2"
        self.kept: dict[str, Folded] = {}
        self.acknowledged: list[Any] = []

    def publish(self, topic: str, octets: bytes, *, retain: bool = False) -> bool:
        if self.connected:
            self.kept[topic] = folded_from_json(octets)
        return self.connected

    def acknowledge(self, arrived: Arrived) -> None:
        self.acknowledged.append(arrived.mark)

    def stop(self) -> None:
        self.connected = False


class Heard(FolderTest):
    """A site whose sensors are played by the test; time passes when it says so."""

    def setUp(self) -> None:
        super().setUp()
        (self.folder / "site.toml").write_text(SITE)
        self.line, self.marks, self.ahead = _Line(), 0, timedelta()
        self.clock = SceneClock(NOON)
        self.begin()

    def begin(self) -> None:
        """Start the watch's part, as after a restart."""
        site = Site(self.folder)
        self.addCleanup(site.close)
        site.__dict__["clock"] = self.clock
        executor = InlineExecutor(cast(Any, SimpleNamespace(clock=self.clock)))
        self.context = WatchContext(site, executor, WatchMemory(FloodGuard()))
        self.part = Sensors(self.context, lambda: site, lambda: None)
        self.part.line = self.line
        self.site = site

    def turn(self, seconds: float = 0.0) -> None:
        """Let time pass, by steps of at most 5 s, as the watch has them."""
        until = self.clock.monotonic() + seconds
        while True:
            self.part.turn(self.clock.monotonic())
            self.context.executor.finished(self.context.contained)
            if self.clock.monotonic() >= until and self.part.wake_at() > 0:
                return
            self.clock.wait_until(min(until, self.clock.monotonic() + 5.0))

    def says(self, topic: str, octets: bytes, *, retained: bool = False) -> None:
        self.marks += 1
        self.part.inbox.heard(Arrived(topic, octets, retained, self.marks))
        self.turn()

    def clocks(self, boot: str = "boot") -> SensorClocks:
        return SensorClocks(self.clock.now() + self.ahead, boot, self.clock.monotonic() + 100)

    def state(self, name: str = "pit", place: str = "clay pit", **fields: Any) -> None:
        """Say how a sensor does, with the word that it was asked to send back."""
        note = self.line.kept.get(f"site/folded/{name}")
        whole = SensorState(name, online=True, clocks=self.clocks(), place=place, nonce=note.nonce if note else "")
        self.says(f"site/sensor/{name}/state", state_to_json(replace(whole, **fields)))

    def batch(self, number: int, *addresses: int, topic: str = "pit", more: Sequence[Any] = (), **fields: Any) -> None:
        """Report a device at some addresses, one batch after the other."""
        clocks = self.clocks()
        seen = tuple(
            Sighting(step, Observation(WHEEL, IPv4Address(f"192.0.2.{each}"), clocks.at - SECOND, Source.ARP))
            for step, each in enumerate(addresses)
        )
        whole = Batch("pit", "clay pit", "life", number, number - 1, clocks, "1.0", seen)
        document = json.loads(batch_to_json(replace(whole, **fields)))
        document["documents"] += more
        self.says(f"site/sensor/{topic}/batch", json.dumps(document).encode())

    @property
    def folded(self) -> int:
        return self.line.kept["site/folded/pit"].number

    def stays(self) -> list[tuple[Any, ...]]:
        query = "SELECT place, address, since, present FROM stay ORDER BY rowid"
        return [tuple(row) for row in self.site.roster.db.execute(query)]

    def events(self) -> list[str]:
        return [row[0] for row in self.site.roster.db.execute("SELECT kind FROM event ORDER BY rowid")]

    def ms(self, moment: datetime) -> int:
        return int(moment.timestamp() * 1000)


class Honest(Heard):
    def test_a_clock_that_is_right(self) -> None:
        self._compare(timedelta())

    def test_a_clock_that_is_ahead(self) -> None:
        self._compare(timedelta(hours=7))

    def test_a_clock_that_is_slow(self) -> None:
        self._compare(timedelta(hours=-30))

    def _compare(self, ahead: timedelta) -> None:
        """Nothing is folded while nothing is known of the clock: that comes again; then moments are as the roster's
        clock has them.
        """
        self.ahead = ahead
        self.batch(1, 20)
        self.assertEqual((self.folded, self.stays()), (0, []))
        self.state()
        self.batch(1, 20)
        self.assertEqual(self.folded, 1)
        (stay,) = self.stays()
        self.assertAlmostEqual(stay[2], self.ms(self.clock.now() - SECOND), delta=50)
        (line, _) = list_sensors(self.site)
        assert line.offset is not None
        self.assertAlmostEqual(line.offset.total_seconds(), ahead.total_seconds(), delta=0.1)
        self.assertEqual("the clock of pit" in self.context.troubles, ahead != timedelta())
        self.assertEqual(len(self.line.acknowledged), self.marks)  # the broker keeps nothing for us

    def test_silent_and_back(self) -> None:
        """After its time a sensor is lost, once, also through a restart; devices there stay; then it is back, once.
        While this machine cannot reach the broker no sensor is lost: it is this machine that hears nothing.
        """
        self.turn()
        self.state()
        self.batch(1, 20)
        self.line.connected = False
        self.turn(900)
        self.line.connected = True
        self.turn(80)
        self.assertNotIn("sensor-lost", self.events())
        self.turn(900)
        self.begin()
        self.turn(900)
        self.assertEqual(self.events().count("sensor-lost"), 1)
        self.assertEqual([stay[3] for stay in self.stays()], [1])
        self.assertEqual([each.state for each in list_sensors(self.site)], ["silent", "never-heard"])
        self.state(online=False)
        self.turn(10)
        self.assertNotIn("sensor-back", self.events())  # its will is no sign of life
        self.state()
        self.turn(900)
        self.state()
        self.turn(10)
        self.assertEqual(
            [each for each in self.events() if each.startswith("sensor")], ["sensor-lost", "sensor-back"] * 2
        )
        (line, _) = list_sensors(self.site)
        self.assertEqual((line.state, line.lost), ("here", None))

    def test_one_that_is_not_enrolled_any_more(self) -> None:
        """It is listed as that until it is forgotten; what it told stays. One that is enrolled is not forgotten."""
        self.turn()
        self.state()
        self.batch(1, 20)
        self.turn(10)
        self.assertEqual(round(self.part.silent_s["pit", "clay pit"]), 10)
        with self.assertRaisesRegex(Refused, "is enrolled"):
            forget_sensor(self.site, "pit")
        (self.folder / "site.toml").write_text(SITE.replace('name = "pit"', 'name = "other"'))
        self.begin()
        self.assertIn(("pit", "not-enrolled"), [(each.name, each.state) for each in list_sensors(self.site)])
        forget_sensor(self.site, "pit")
        self.assertNotIn("pit", [each.name for each in list_sensors(self.site)])
        with self.assertRaisesRegex(NotFound, "no sensor 'pit'"):
            forget_sensor(self.site, "pit")
        stays = self.site.roster.db.execute("SELECT count(*) FROM stay WHERE place = 'clay pit'").fetchone()[0]
        self.assertEqual(stays, 1)

    def test_what_is_over(self) -> None:
        """One that is back ends its own alert, also if another device is known longer there by then; not another's."""
        self.turn()
        self.state()
        self.state("mill", "glaze mill")
        own = Observation(SECOND_WHEEL, IPv4Address("198.51.100.2"), self.clock.now(), Source.ARP)
        fold(self.site.roster, [own], (), self.clock.now())  # it tells of both, in places without devices yet
        self.site.roster.db.execute("UPDATE adapter SET own = 1")
        self.turn(900)
        self.assertEqual([each for each in self.events() if each == "sensor-lost"], ["sensor-lost"] * 2)
        self.state()
        self.batch(1, 20)
        self.turn(10)
        db = self.site.roster.db
        over = {
            json.loads(row["event"])["name"]: is_over(db, row["alert"])
            for row in db.execute("SELECT alert, event FROM alert_event WHERE kind = 'sensor-lost'").fetchall()
        }
        self.assertEqual(over, {"pit": True, "mill": False})

    def test_what_was_lost_is_told(self) -> None:
        """There: for want of room, before it could be told. Here: documents of a later version, beyond all bounds."""
        self.turn()
        self.state()
        self.batch(1, 20, dropped={"sightings": 12, "scans": 1})
        self.assertIn("12 sightings, 1 scan", self.context.troubles["what pit tells"])
        self.batch(2, 20)
        self.assertNotIn("what pit tells", self.context.troubles)
        later = [{"form": "smell/1", "of": "clay"}] * 600
        self.batch(3, 20, more=later)
        self.assertIn("speaks of smell/1", self.context.troubles["what pit tells"])
        self.batch(4, 20, more=later)
        said = " ".join(self.context.troubles.values())
        self.assertEqual((list_sensors(self.site)[0].kept, said.count("200 documents lost")), (1000, 1), said)

    def test_a_file_that_holds_no_certificate(self) -> None:
        (self.folder / "site.toml").write_text(SITE.replace("[broker]", '[broker]\ntrust = "ca.pem"'))
        (self.folder / "ca.pem").write_text("no certificate")
        self.begin()
        self.part.line = None
        with self.assertRaisesRegex(InvalidSettings, "ca.pem should hold the certificates to trust: it holds no"):
            self.part.turn(0.0)


class InOtherHands(Heard):
    """A sensor's account is stolen: with it only its own place can be lied about."""

    def test_refused_and_told(self) -> None:
        """Another's name, another's place, no sensor at all, not a batch, too large, from another life, a replay:
        nothing of it is taken, what is wrong is told, and the honest sensor is heard after it.
        """
        self.turn()
        self.state()
        self.state("mill", "glaze mill")
        self.batch(1, 20)
        before = self.stays()
        said: dict[str, Callable[[], None]] = {
            "another sensor": lambda: self.batch(1, 66, topic="mill"),
            "another place": lambda: self.batch(2, 66, place="shop"),
            "the shop's": lambda: self.batch(1, 66, topic="mill", sensor="mill", place="shop"),
            "an unknown account": lambda: self.batch(1, 66, topic="stranger", sensor="stranger"),
            "no batch": lambda: self.says("site/sensor/pit/batch", b'{"form": "batch/1"' * 9),
            "too large": lambda: self.says("site/sensor/pit/batch", b'{"form":"' + b"x" * 10_000_000),
            "a replay": lambda: self.batch(1, 66),
            "from the future": lambda: self.batch(9, 66),
            "a state of another": lambda: self.state(sensor="mill"),
            "a state from elsewhere": lambda: self.state(place="shop"),
        }
        for what, say in said.items():
            with self.subTest(what):
                known = dict(self.context.troubles), dict(self.context._remarks)
                say()
                self.assertEqual(self.stays(), before)
                self.assertEqual(len(self.line.acknowledged), self.marks)
                if what not in ("a replay", "from the future"):  # which honest sensors send, too
                    self.assertNotEqual((self.context.troubles, self.context._remarks), known)
        self.batch(2, 21)
        self.assertEqual([stay[1] for stay in self.stays()], ["192.0.2.20", "192.0.2.21"])

    def test_escapes(self) -> None:
        """Nothing of what it says reaches the roster with control characters, or in any length."""
        hostile = "\x1b]0;owned\x07\u202e<img src=x>" + "x" * 5000
        self.turn()
        self.state()
        clocks = self.clocks()
        named = Observation(
            WHEEL,
            IPv4Address("192.0.2.20"),
            clocks.at,
            Source.ARP,
            traits=(Trait(TraitKind.NAME, hostile, Source.MDNS),),
        )
        self.batch(1, program=hostile, dropped={hostile: 3}, sightings=(Sighting(0, named),))
        self.state(program=hostile, address=hostile, troubles=(hostile,) * 500, life=hostile)
        self.assertEqual(self.folded, 1)
        db = self.site.roster.db
        tables = [row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        whole = json.dumps(
            [[str(value) for value in row] for each in tables for row in db.execute(f"SELECT * FROM {each}")]
        )
        for escape in ("\\u001b", "\\u0007", "\\u202e", "x" * 600):
            self.assertNotIn(escape, whole)
        self.assertIn("owned", whole)
        self.assertLess(len(whole), 100_000)
