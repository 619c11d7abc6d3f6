"""What a sensor sends, and what the watch announces, while the line to the broker is up, down, and up again."""

from __future__ import annotations

import json
from datetime import timedelta
from ipaddress import IPv4Address
from types import SimpleNamespace
from typing import Any, cast

from scopion.attachment.connect.mqtt_line import Arrived
from scopion.model.batch import Folded, SensorClocks
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.site.broker_settings import Topics
from scopion.operations.site.open_site import Site
from scopion.roster.folding.fold_observations import fold
from scopion.roster.read_devices import all_devices
from scopion.roster.spool.spool import WINDOW, Limits, Spool
from scopion.roster.write_descriptions import forget_device
from scopion.scenes.scene_clock import SceneClock
from scopion.watching.executors import InlineExecutor
from scopion.watching.sensors.announce import Announcing
from scopion.watching.sensors.send_batches import Sending
from scopion.watching.watch_context import WatchContext
from scopion.watching.watch_memory import WatchMemory
from scopion.wire.sensor_documents import folded_to_json
from tests.support import NOON, FolderTest

SITE = '[broker]\nhost = "127.0.0.1"\ntopics = "home"\npublish = ["presence", "events"]\n'


class _Line:
    """Keeps what is published; the broker confirms it when the test says so."""

    def __init__(self) -> None:
        self.connected, self.problem, self.refused, self.address = True, "", "", "198.51.100.2"
        self.said: list[tuple[str, bytes]] = []
        self.published = self.confirmed = 0

    def publish(self, topic: str, octets: bytes, *, retain: bool = False) -> bool:
        if self.connected:
            self.said.append((topic, octets))
            self.published += 1
        return self.connected

    def acknowledge(self, arrived: Arrived) -> None:
        """Nothing is kept."""

    def stop(self) -> None:
        self.connected = False

    def on(self, topic: str) -> list[Any]:
        """What was said on topics that end so."""
        return [json.loads(octets) for each, octets in self.said if each.endswith(topic) and octets]


class _Test(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        (self.folder / "site.toml").write_text(SITE)
        self.clock, self.line = SceneClock(NOON), _Line()
        self.site = Site(self.folder)
        self.addCleanup(self.site.close)
        self.site.__dict__["clock"] = self.clock
        executor = InlineExecutor(cast(Any, SimpleNamespace(clock=self.clock)))
        self.context = WatchContext(self.site, executor, WatchMemory(FloodGuard()))

    def turn(self, part: Any, seconds: float = 0.0) -> None:
        """Let time pass, then let the part do what is due."""
        self.clock.wait_until(self.clock.monotonic() + seconds)
        for _ in range(3):
            part.turn(self.clock.monotonic())
            self.context.executor.finished(self.context.contained)

    def seen(self, number: int) -> Observation:
        at = self.clock.now() - timedelta(seconds=1)
        return Observation(
            MacAddress(b"\x10\xc0\xde\0\0" + bytes([number])), IPv4Address(f"192.0.2.{number}"), at, Source.ARP
        )


class Sends(_Test):
    def setUp(self) -> None:
        super().setUp()
        self.spool = Spool.open(self.folder, "pit", "clay pit")
        self.addCleanup(self.spool.close)
        self.part = Sending(self.context, self.spool, Topics("home"), self.clocks, Limits(), lambda: ())
        self.part.line = self.line

    def clocks(self) -> SensorClocks:
        return SensorClocks(self.clock.now(), "boot", self.clock.monotonic() + 100)

    def news(self, number: int) -> None:
        self.part.note([self.seen(number)], None, apart=False, news=True)
        self.turn(self.part)

    def folded(self, number: int) -> None:
        note = folded_to_json(Folded(self.spool.life, number))
        self.part.inbox.heard(Arrived("home/folded/pit", note, True, 1))
        self.turn(self.part)

    def numbers(self) -> list[int]:
        return [each["number"] for each in self.line.on("/batch")]

    def test_it_sends_until_it_is_folded(self) -> None:
        """At once, again if no note comes, a few at a time, and not what is folded."""
        self.turn(self.part)
        self.news(20)
        self.assertEqual(self.numbers(), [1])
        self.turn(self.part, 30)
        self.assertEqual(self.numbers(), [1, 1])
        for number in range(21, 21 + 2 * WINDOW):
            self.news(number)
        self.assertEqual(self.numbers()[2:], list(range(2, WINDOW + 1)))
        self.folded(WINDOW)
        self.assertEqual(self.numbers()[WINDOW + 1 :], [WINDOW + 1])  # all that has gathered meanwhile
        self.folded(WINDOW + 1)
        self.assertEqual((self.spool.closed, self.part.wake_at() > self.clock.monotonic()), (0, True))

    def test_without_a_line_nothing_is_due(self) -> None:
        """However long: it would keep a small computer busy for nothing. When the line is up, all of it is sent."""
        self.turn(self.part)
        self.news(20)
        self.line.connected = False
        self.line.problem = "it broke"
        for _ in range(40):
            self.turn(self.part, 17)
            self.assertGreater(self.part.wake_at(), self.clock.monotonic())
        self.assertEqual(self.numbers(), [1])
        self.line.connected, self.line.problem = True, ""
        self.part.inbox.changed()
        self.assertEqual(self.part.wake_at(), 0.0)
        self.turn(self.part)
        self.assertEqual(self.numbers(), [1, 1])


class Announces(_Test):
    def setUp(self) -> None:
        super().setUp()
        self.part = Announcing(self.context, lambda: self.site)
        self.part.line = self.line

    def test_without_a_line_nothing_is_due(self) -> None:
        """Events that come meanwhile are said when it is up; none is noted as said before it is confirmed."""
        self.turn(self.part)
        self.line.connected = False
        fold(self.site.roster, [self.seen(20)], (), self.clock.now())
        self.part.soon()
        self.turn(self.part, 100)
        self.assertEqual((self.part.wake_at(), self.line.on("joined")), (float("inf"), []))
        self.line.connected = True
        self.turn(self.part, 1)
        self.turn(self.part, 61)
        self.assertEqual([each["mac"] for each in self.line.on("joined")], ["10:c0:de:00:00:14"])
        again = Announcing(self.context, lambda: self.site)  # the watch is killed before the broker confirms it
        again.line = self.line
        self.turn(again, 1)
        self.assertEqual([each["id"] for each in self.line.on("joined")], [1, 1])
        self.line.confirmed = self.line.published
        self.turn(again, 61)
        self.turn(again, 61)
        self.assertEqual(len(self.line.on("joined")), 2)

    def test_the_number_of_an_event_that_is_given_again(self) -> None:
        """It went with a device that was forgotten: the next one has its number, and is said all the same."""
        self.turn(self.part)
        for number in (20, 21):
            fold(self.site.roster, [self.seen(number)], (), self.clock.now())
            self.part.soon()
            self.turn(self.part, 61)
            self.line.confirmed = self.line.published
            self.turn(self.part, 61)
            self.assertEqual(len(self.line.on("joined")), 1 if number == 20 else 2)
            if number == 20:
                (device,) = all_devices(self.site.roster)
                forget_device(self.site.roster, device)
                self.turn(self.part, 61)
        self.assertEqual([each["id"] for each in self.line.on("joined")], [1, 1])
        taken_back = [topic for topic, octets in self.line.said if not octets]
        self.assertEqual(taken_back, ["home/presence/10c0de000014"])
