"""The watch on made-up sites: weeks in seconds, outages, forgers, floods, clocks that jump.

The same watch as on a real network, with the work done inline and on the scene's clock.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import unittest
from collections.abc import Sequence
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from typing import Any
from unittest.mock import patch

from scopion.discovery.records.leases import read_isc_dhcpd
from scopion.discovery.records.reading import RecordContext
from scopion.model.alert import AlertState
from scopion.model.batch import Folded, ScanFacts, SensorClocks
from scopion.model.device import EventKind
from scopion.model.errors import InvalidSettings, Refused, StorageFailed
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, Trait, TraitKind
from scopion.operations.folder.take_turns import only_watch, watching_process
from scopion.operations.intake.flood_guard import DEVICES, FloodGuard
from scopion.operations.intake.take_in import Known, take_in
from scopion.operations.sensors.fold_batch import fold_batch
from scopion.operations.site.load_settings import load_settings
from scopion.operations.site.open_site import Site, prepare_folder
from scopion.roster.outbox import find_alerts, move_with_the_clock, settle
from scopion.roster.read_events import EventFilter, find_events
from scopion.roster.scans import note_subnet
from scopion.roster.spool.spool import Spool
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import to_ms
from scopion.roster.upkeep.check_roster import unsound
from scopion.roster.upkeep.mend_clock import dated_ahead, note_clocks, set_back_since
from scopion.roster.wifi.push_deadlines import Boot
from scopion.scenes.story import Story
from scopion.watching.clock_watch import ClockWatch, Jump
from scopion.watching.executors import InlineExecutor, ThreadExecutor
from scopion.watching.interface_listener import InterfaceListener
from scopion.watching.run_watch import WatchOptions, run_watch
from scopion.watching.watch_context import WatchContext
from scopion.watching.watch_memory import WatchMemory
from scopion.watching.watch_site import Watch
from scopion.watching.watched_subnets import strange, watched_subnets
from scopion.wire.sensor_documents import batch_from_json
from scopion.wireless.enforcers.hostapd import read_station
from tests.support import FolderTest, ProgramTest

NOON = datetime(2026, 9, 14, 12, tzinfo=UTC)
BOOK = '[[channel]]\nname = "book"\ntype = "file"\npath = "book.jsonl"\n'
SUBNET = IPv4Network("192.0.2.0/24")
GATEWAY_MAC = "0c:be:11:00:00:01"
INTERFACE = """title = "Test"
[[interface]]
name = "eth0"
index = 2
mac = "60:f2:a7:10:00:0a"
addresses = ["192.0.2.10/24"]
gateway = "192.0.2.1"
medium = "cable"
[[moment]]
at = 2026-09-14T12:00:00Z
tells = "noon"
"""


def host(number: int, *periods: str, mac: str = "", name: str = "") -> str:
    """A host of a scene at 192.0.2.NUMBER, always or in periods as ``12:10-12:20``."""
    day = "2026-09-14T"
    at = [
        f'{{ address = "192.0.2.{number}"'
        + (f", from = {day}{first}:00Z" if first else "")
        + (f", until = {day}{last}:00Z" if last else "")
        + " }"
        for first, _, last in (period.partition("-") for period in periods)
    ]
    where = f"[{', '.join(at)}]" if periods else f'["192.0.2.{number}"]'
    says = f'says = {{ dhcp = "{name}" }}\n' if name else ""
    return f'[[host]]\nname = "h{number}"\nmac = "{mac or f"10:c0:de:00:00:{number:02x}"}"\nat = {where}\n{says}'


def usual(*periods: str) -> str:
    """A gateway and five others."""
    return host(1, *periods, mac=GATEWAY_MAC) + "".join(host(number, *periods) for number in range(20, 25))


class SceneWatch(FolderTest):
    """Watches a made-up site for a time."""

    def begin(self, hosts: str, settings: str = "", *, learning: float = 0) -> None:
        scene = self.folder / "scene.toml"
        scene.write_text(INTERFACE + hosts)
        self.site = self.folder / "site"
        self.site.mkdir(exist_ok=True)
        self.story_at(NOON)
        prepare_folder(self.site)
        if "[watch]" not in settings:
            settings += "\n[watch]\ninterval_s = 300"
        (self.site / "site.toml").write_text(f"{settings}\n[alerts]\nlearning_days = {learning}\n{BOOK}")

    def story_at(self, at: datetime) -> None:
        story = Story.begin(self.site, str(self.folder / "scene.toml"))
        story.at = at
        story.save()

    def watch(self, **span: float) -> None:
        """Go on for so long."""
        run_watch(Site(self.site), WatchOptions(for_s=timedelta(**span).total_seconds()))

    def book(self) -> list[dict[str, Any]]:
        path = self.site / "book.jsonl"
        return [json.loads(line) for line in path.read_text().splitlines()] if path.exists() else []

    def subjects(self) -> list[str]:
        return [each["subject"] for each in self.book()]

    def recorded(self, *kinds: EventKind) -> list[tuple[EventKind, str]]:
        roster = Roster.open_for_reading(self.site)
        self.addCleanup(roster.close)
        return [(each.kind, str(each.address)) for each in find_events(roster, EventFilter(kinds=kinds))]


class Weeks(ProgramTest):
    def test_a_fortnight_is_told_exactly_so(self) -> None:
        """Two weeks of the made-up site: just these messages, devices that join in the learning week in digests at
        eight; a watch that was stopped and started again in between repeats nothing.
        """
        self.begin()
        (self.site / "site.toml").write_text(f"[watch]\ninterval_s = 7200\n{BOOK}")
        for _ in range(3):
            self.assertEqual(self.run_program("watch", "--for", "5d", within=900).returncode, 0)
        lines = (self.site / "book.jsonl").read_text().splitlines()
        told = [
            (f"{datetime.fromisoformat(kept['at']):%d %H:%M}", [event["address"][8:] for event in kept["events"]])
            for kept in map(json.loads, lines)
        ]
        kinds = [json.loads(line)["events"][0]["kind"] for line in lines]
        self.assertEqual(
            list(zip(kinds, told, strict=True)),
            [
                ("contested", ("14 13:40", ["20"])),
                ("joined", ("15 03:05", ["91", "144"])),
                ("joined", ("15 13:00", ["92"])),
                ("joined", ("17 13:00", ["93"])),
                ("joined", ("19 11:40", ["147"])),
                ("joined", ("21 09:00", ["41"])),
                ("joined", ("22 10:00", ["110"])),
                ("joined", ("23 11:00", ["115"])),
                ("joined", ("24 14:00", ["82"])),
                ("joined", ("28 10:00", ["118"])),
            ],
        )
        self.assertEqual(len({json.loads(line)["id"] for line in lines}), 10)


class Outages(SceneWatch):
    def test_a_network_that_is_down_is_told_once(self) -> None:
        """When no device answers any more, not even the gateway, that is one message, and one when it is back."""
        self.begin(usual("-13:00", "15:00-"))
        self.watch(hours=2)
        self.watch(hours=2)  # a restart in the middle of the outage tells nothing again
        self.assertEqual(self.subjects(), ["The network 192.0.2.0/24 is down", "The network 192.0.2.0/24 is back"])
        self.assertIn("It was down for 1 hour", self.book()[1]["text"])
        self.assertEqual(self.recorded(EventKind.LEFT), [])

    def test_a_gateway_that_is_alone_is_no_outage(self) -> None:
        """At night often no other device is here: the others have left, and nothing is down."""
        self.begin(host(1, mac=GATEWAY_MAC) + "".join(host(number, "-12:30") for number in range(20, 25)))
        self.watch(hours=2)
        self.assertEqual(len(self.recorded(EventKind.LEFT)), 5)
        self.assertEqual((self.subjects(), self.recorded(EventKind.NETWORK_DOWN)), ([], []))

    def test_silence_during_an_outage_is_nobodys(self) -> None:
        """A host that wakes up a minute after the switch is back has not left, however impatient the settings are."""
        late = host(30, "-12:10", "12:14-")
        settings = "[watch]\ninterval_s = 30\n[absence]\npatience_s = 90\n"
        self.begin(usual("-12:10", "12:13-") + late, settings)
        self.watch(minutes=30)
        self.assertEqual(self.recorded(EventKind.LEFT), [])
        self.assertEqual(self.subjects()[0], "The network 192.0.2.0/24 is down")

    def test_where_hardly_anybody_answers_nobody_is_gone_yet(self) -> None:
        """Two of twenty still answer while a switch is off: no device has left. Those that stay away leave later."""
        few = host(1, mac=GATEWAY_MAC)
        settings = "[watch]\ninterval_s = 30\n[absence]\npatience_s = 0\n"
        self.begin(few + "".join(host(number, "-12:10", "12:12-") for number in range(20, 39)), settings)
        self.watch(minutes=30)
        self.assertEqual(self.recorded(EventKind.LEFT), [])
        self.folder /= "for good"
        self.folder.mkdir()
        self.begin(few + "".join(host(number, "-12:10") for number in range(20, 39)), settings)
        self.watch(minutes=30)
        self.assertEqual(len(self.recorded(EventKind.LEFT)), 19)

    def test_another_network_with_the_same_addresses_is_not_remembered(self) -> None:
        """A machine that was carried elsewhere folds and tells nothing until it is back."""
        self.begin(usual())
        self.watch(minutes=10)
        (self.folder / "scene.toml").write_text(
            INTERFACE + host(1, mac="0c:be:11:99:99:99") + "".join(host(number) for number in range(50, 60))
        )
        self.watch(hours=1)
        (self.folder / "scene.toml").write_text(INTERFACE + usual())
        self.watch(minutes=20)
        self.assertEqual((self.subjects(), self.recorded()), ([], []))

    def test_who_was_heard_a_moment_ago_was_not_silent(self) -> None:
        """What an ear hears is written down once a minute; a sweep that ends meanwhile knows of it all the same."""
        self.begin(usual())
        site, heard = Site(self.site), dict[MacAddress, datetime]()
        self.addCleanup(site.close)

        def look(watch: Watch) -> None:
            heard.update(watch.context.memory.heard)

        run_watch(site, WatchOptions(for_s=900), look)
        memory, mac = WatchMemory(FloodGuard(), since=NOON), MacAddress.parse(GATEWAY_MAC)
        self.assertIn(mac, heard)
        memory.heard.update(heard)
        self.assertEqual(memory.silent_since(NOON, [mac], SUBNET), heard[mac])
        self.assertEqual(memory.silent_since(NOON - timedelta(hours=1), [], SUBNET), NOON)
        memory.forget_all_but({mac})
        self.assertEqual(memory.heard.keys(), {mac})

    def test_who_moves_while_awake_has_moved(self) -> None:
        """However patient one is with those who doze: it is heard at its new address, and is silent at the old one."""
        at = '{ address = "192.0.2.90", until = 2026-09-14T12:30:00Z }, ' + (
            '{ address = "192.0.2.95", from = 2026-09-14T12:30:00Z }'
        )
        self.begin(
            usual() + f'[[host]]\nname = "h"\nmac = "10:c0:de:00:00:5a"\nat = [{at}]\n', "[watch]\ninterval_s = 60"
        )
        self.watch(hours=1)
        self.assertEqual(self.recorded(), [(EventKind.READDRESSED, "192.0.2.95")])

    def test_a_dozing_telephone_has_not_left(self) -> None:
        """Who is silent for less than its patience stays; it is a setting of the subnet, and of the device it names."""
        away = ("-12:20", "12:27-12:40", "12:47-")
        absence = '[absence]\npatience_s = 600\n[absence.devices]\ntill = 60\n"10:c0:de:00:00:5b" = 60\n'
        self.begin(usual() + host(90, *away) + host(91, *away), f"[watch]\ninterval_s = 60\n{absence}")
        self.watch(hours=1)
        self.assertEqual(self.recorded(EventKind.LEFT), [(EventKind.LEFT, "192.0.2.91")] * 2)

    def test_nobody_has_left_while_nobody_looked(self) -> None:
        """After a night in which the watch did not run a telephone that dozes through its first sweeps has not left."""
        self.begin(usual() + host(90, "-12:30", "15:04-"), "[watch]\ninterval_s = 60")
        self.watch(minutes=20)
        self.story_at(NOON + timedelta(hours=3))
        self.watch(minutes=10)
        self.assertEqual(self.recorded(EventKind.LEFT), [])

    def test_a_roster_that_is_moved_away_is_begun_anew(self) -> None:
        """The process that finds it damaged moves it aside: the watch writes into the new one, and sends no alert for
        all devices.
        """
        self.begin(usual())
        site = Site(self.site)
        self.addCleanup(site.close)
        moved = False

        def move(watch: Watch) -> None:
            nonlocal moved
            if not moved and watch.context.clock.monotonic() > 900:
                moved = True
                for path in self.site.glob("roster.sqlite*"):
                    path.rename(path.with_name(f"aside-{path.name}"))

        run_watch(site, WatchOptions(for_s=3600), move)
        self.assertTrue(moved)
        roster = Roster.open(self.site)
        self.addCleanup(roster.close)
        self.assertEqual(len(roster.db.execute("SELECT * FROM adapter").fetchall()), 7)
        self.assertEqual(self.subjects(), [])

    def test_what_cannot_be_noted_is_not_sent_again(self) -> None:
        """On a full disk a delivery cannot be noted: the channel waits until it can, and no recipient gets it twice."""
        self.begin(usual() + host(90, "12:05-") + host(91, "12:20-"), "[watch]\ninterval_s = 60")
        failures = iter([StorageFailed("the disk is full")] * 5)

        def full(*arguments: Any, **more: Any) -> None:
            for failure in failures:
                raise failure
            settle(*arguments, **more)

        with patch("scopion.alerts.deliver.settle", full):
            self.watch(hours=2)
        self.assertEqual([each["events"][0]["address"] for each in self.book()], ["192.0.2.90", "192.0.2.91"])


class Notices(SceneWatch):
    def test_who_joins_is_told_with_its_first_frame(self) -> None:
        """Between two sweeps that are an hour apart, once, and by the name that it told the DHCP server."""
        self.begin(usual() + host(144, "12:34-", name="clay-phone"), "[watch]\ninterval_s = 3600")
        self.watch(hours=3)
        (told,) = self.book()
        self.assertEqual(told["subject"], "New on 192.0.2.0/24: clay-phone (a phone or tablet), at 192.0.2.144")
        self.assertEqual(told["events"][0]["at"][:17], "2026-09-14T12:34:")

    def test_who_shows_an_ipv6_address_first_is_in_its_subnet(self) -> None:
        """As most newcomers do: in a subnet that is being learnt it is gathered for the day's digest all the same."""
        self.begin(usual(), "[watch]\ninterval_s = 3600", learning=7)
        site = Site(self.site)
        taken = False

        def arrive(watch: Watch) -> None:
            nonlocal taken
            if taken or watch.context.clock.monotonic() < 600:
                return
            taken = True
            now = site.clock.now()
            note_subnet(site.roster, IPv4Network("203.0.113.0/24"), None, None, now)
            learnt, other = IPv4Network("192.0.2.0/24"), IPv4Network("203.0.113.0/24")
            for octets, subnet in ((b"\x0c\xbe\x12\0\0\x01", learnt), (b"\x0c\xbe\x12\0\0\x02", other)):
                address = IPv6Address(b"\xfe\x80" + bytes(8) + octets)
                take_in(site, [Observation(MacAddress(octets), address, now, Source.NDP, subnet=subnet)])

        run_watch(site, WatchOptions(for_s=1200), arrive)
        self.assertEqual([each["events"][0]["mac"] for each in self.book()], ["0c:be:12:00:00:02"])
        roster = Roster.open(self.site)
        self.addCleanup(roster.close)
        (waiting,) = find_alerts(roster, states=[AlertState.WAITING])
        self.assertEqual((waiting.gathers, str(waiting.events[0].mac)), ("learning", "0c:be:12:00:00:01"))

    def test_what_a_newcomer_calls_itself_is_news(self) -> None:
        """It asks for an address a moment after it was noticed, and the message about it waits for the name."""
        self.begin(usual())
        self.watch(minutes=1)
        site = Site(self.site)
        self.addCleanup(site.close)
        newcomer, stranger = MacAddress(b"\x0c\xbe\x12\0\0\x01"), MacAddress(b"\x0c\xbe\x12\0\0\x02")
        now = site.clock.now()
        take_in(site, [Observation(newcomer, IPv6Address("fe80::1"), now, Source.NDP)])
        name = (Trait(TraitKind.NAME, "clay-phone", Source.DHCP),)
        asks, other = (Observation(mac, None, now, Source.DHCP, traits=name) for mac in (newcomer, stranger))
        known = Known.of(site.roster)
        self.assertEqual((known.is_news(asks), known.is_news(other)), (True, False))
        says = replace(asks, address=IPv6Address("fe80::1"))  # a name is news, but claims no address again
        self.assertEqual((known.is_news(says), known.has_come(says)), (True, False))
        take_in(site, [asks])
        self.assertFalse(Known.of(site.roster).is_news(asks))

    def test_who_poses_as_the_gateway_is_told_at_once(self) -> None:
        """A second adapter that claims the gateway's address is urgent, between sweeps, too."""
        self.begin(usual() + host(1, "12:30-", mac="10:c0:de:66:66:66"), "[watch]\ninterval_s = 3600")
        self.watch(minutes=35)
        contested = [each for each in self.book() if each["events"][0]["kind"] == "contested"]
        self.assertEqual([each["severity"] for each in contested], ["high"])
        self.assertIn("the gateway's address", contested[0]["subject"])
        self.assertIn("may pose as it", contested[0]["text"])

    def test_a_replaced_router_is_told(self) -> None:
        """The old gateway is gone and another answers, while the others are still here: told at once, in the learning
        week, too.
        """
        router = host(1, "-12:30", mac=GATEWAY_MAC) + host(1, "12:30-", mac="0c:be:11:77:77:77")
        others = "".join(host(number) for number in range(20, 30))
        self.begin(router + others, "[watch]\ninterval_s = 3600", learning=7)
        self.watch(minutes=31)
        self.assertIn("The gateway 192.0.2.1 on 192.0.2.0/24 is another device now", self.subjects())

    def test_an_unwanted_one_is_told_each_time_it_comes(self) -> None:
        """But not more often than the cool-down, and never as merely new; with the exact command that refuses it."""
        self.begin(usual() + host(90, "12:10-12:20", "14:00-14:20"))
        self.watch(minutes=15)
        program = [sys.executable, "-m", "scopion", "--site", str(self.site)]
        subprocess.run([*program, "mark", "192.0.2.90", "unwanted"], check=True, capture_output=True)
        self.watch(hours=3)
        kinds = [each["events"][0]["kind"] for each in self.book()]
        self.assertEqual(kinds, ["joined", "unwanted-present"])
        self.assertIn("scopion block 10:c0:de:00:00:5a", self.book()[1]["text"])

    def test_a_flapping_device_floods_nobody_and_loses_nothing(self) -> None:
        """It comes and goes every five minutes for hours: a message each half hour, with every event in some."""
        minutes = [f"{12 + at // 60}:{at % 60:02}-{12 + (at + 5) // 60}:{(at + 5) % 60:02}" for at in range(5, 120, 10)]
        rule = '[[rule]]\nevents = ["joined", "left", "returned"]\n'
        self.begin(usual() + host(90, *minutes), f"[watch]\ninterval_s = 120\n[absence]\npatience_s = 1\n{rule}")
        self.watch(hours=3)
        recorded = len(self.recorded())
        self.assertEqual(recorded, 24)
        self.assertEqual(sum(len(each["events"]) + each["more_events"] for each in self.book()), recorded)
        self.assertLess(len(self.book()), 7)


class Bounds(SceneWatch):
    def test_a_flood_of_made_up_devices_fills_nothing(self) -> None:
        """Twenty thousand of them: a bounded number of rows, one alert, and a file that stays small."""
        self.begin(usual())
        site = Site(self.site)
        self.addCleanup(site.close)
        batches = iter(range(20))

        def flood(watch: Watch) -> None:
            if watch.context.clock.monotonic() < 300:
                return
            for batch in batches:
                seen = [
                    Observation(
                        MacAddress(b"\x02" + (batch * 1000 + number).to_bytes(5)),
                        IPv4Address(3221225984 + number % 250), site.clock.now(), Source.ARP,
                    )
                    for number in range(1000)
                ]  # fmt: skip
                taken = take_in(site, seen)
                watch.context.tell(taken.events, taken.devices)

        run_watch(site, WatchOptions(for_s=1000), flood)
        self.assertLessEqual(len(self.recorded(EventKind.JOINED)), DEVICES + 20)
        joined = [each for each in self.book() if each["events"][0]["kind"] == "joined"]
        self.assertEqual(len(joined), 1)
        self.assertIn("claims of new addresses were counted", joined[0]["text"])
        self.assertLess((self.site / "roster.sqlite").stat().st_size, 3_000_000)

    def test_a_site_is_watched_once(self) -> None:
        """A second one is refused and says who has it; after its end the site is free."""
        self.begin(usual())
        with only_watch(self.site):
            self.assertEqual(watching_process(self.site), os.getpid())
            with self.assertRaisesRegex(Refused, f"watched already by process {os.getpid()}"), only_watch(self.site):
                pass
        self.assertIsNone(watching_process(self.site))
        self.watch(minutes=1)


class Deaf(SceneWatch):
    def test_an_ear_that_fails_is_noticed(self) -> None:
        """A mistake of ours while listening is told, and the ear counts as lost, so that another is opened."""
        self.begin(usual())
        site = Site(self.site)
        self.addCleanup(site.close)
        executor = ThreadExecutor(site.attachment)
        (interface, *_) = site.attachment.interfaces()
        listener = InterfaceListener(site.attachment, interface, executor.wake)
        with patch.object(InterfaceListener, "listen", side_effect=ZeroDivisionError):
            executor.attend(listener)
            executor.wait(site.clock.monotonic() + 10)
        context = WatchContext(site, executor, WatchMemory(FloodGuard()))
        executor.finished(context.contained)
        self.assertIn("unexpected: ZeroDivisionError", context.troubles[f"ear {interface.name}"])
        self.assertIn("ZeroDivisionError", listener.lost)


class Contained(SceneWatch):
    """One odd input, or a mistake of ours, in one part: told once, tried again ever later; the others go on."""

    def test_each_part_by_itself(self) -> None:
        """Any part may fail without end: devices that come are recorded and alerts sent, the trouble is logged once,
        and the part recovers.
        """
        for where, said in (
            ("scopion.watching.sources.read_sources.Sources.turn", "reading records"),
            ("scopion.watching.keep_lists.Enforcing.turn", "wireless lists"),
            ("scopion.watching.make_weekly.Reporting.turn", "the weekly report"),
            ("scopion.watching.watch_site.daily", "the daily upkeep"),
            ("scopion.watching.clock_watch.ClockWatch.look", "the clocks"),
        ):
            with self.subTest(said):
                shutil.rmtree(self.folder / "site", ignore_errors=True)
                self.begin(usual() + host(90, "12:20-"))
                with (
                    self.assertLogs("scopion.watch", "WARNING") as logs,
                    patch(where, side_effect=KeyError("x")) as part,
                ):
                    self.watch(minutes=40)
                self.assertEqual([line for line in logs.output if said in line], logs.output)
                self.assertEqual(len(logs.output), 1)
                self.assertRegex(logs.output[0], "unexpected: KeyError in ")
                self.assertLess(part.call_count, 15)
                self.assertGreater(part.call_count, 0 if "daily" in where else 2)
                self.assertEqual(self.recorded(EventKind.JOINED)[-1][1], "192.0.2.90")
                self.assertIn("192.0.2.90", self.subjects()[-1])
                with self.assertLogs("scopion.watch", "INFO") as logs:
                    self.watch(minutes=10)
                self.assertFalse([line for line in logs.output if "unexpected" in line])

    def test_recording_does_not_depend_on_telling(self) -> None:
        """Rules that cannot be applied, messages that cannot be worded: who came is recorded, and told plainly."""
        for where in ("scopion.operations.intake.queue_alerts.plan", "scopion.alerts.wording.message_about_one"):
            with self.subTest(where):
                shutil.rmtree(self.folder / "site", ignore_errors=True)
                self.begin(usual() + host(90, "12:20-"))
                with patch(where, side_effect=TypeError("can't compare offset-naive and offset-aware times")):
                    self.watch(minutes=40)
                self.assertEqual(self.recorded(EventKind.JOINED)[-1][1], "192.0.2.90")
                told = json.dumps(self.book())
                self.assertIn("10:c0:de:00:00:5a", told)

    def test_odd_answers_of_others(self) -> None:
        """Numbers and dates that are none: a daemon's, a lease file's; and hours that no clock shows are refused."""
        daemon = read_station(
            MacAddress.parse(GATEWAY_MAC), ["flags=[AUTH][ASSOC]", "connected_time=999999999999999999"]
        )
        assert daemon is not None
        self.assertIsNone(daemon.connected_s)
        leases = (
            "lease 192.0.2.9 {\n cltt epoch;\n starts epoch 99999999999999999999;\n"
            " hardware ethernet 10:c0:de:0:0:9;\n}\n"
        )
        (seen,) = read_isc_dhcpd(leases, RecordContext(NOON)).observations
        self.assertEqual(seen.at, NOON)
        for settings in (
            'night = "22:00+01:00-06:00"', 'digest_at = "08:00Z"', 'digest_at = "08:00:30"', 'night = "22:00-22:00"',
            'digest_at = "25:00"', 'digest_at = "\u0660\u0668:00"',
        ):  # fmt: skip
            (self.folder / "site.toml").write_text(f"[alerts]\n{settings}\n")
            with self.subTest(settings), self.assertRaisesRegex(InvalidSettings, "write "):
                load_settings(self.folder)


class Clocks(SceneWatch):
    def test_jumps_and_sleep_are_told_apart(self) -> None:
        """A clock that was set, one that runs on, and a machine that was suspended."""
        wall, mono, slept = [NOON], [0.0], [0.0]

        class Hand:
            def now(self) -> datetime:
                return wall[0]

            def monotonic(self) -> float:
                return mono[0]

            def local(self, moment: datetime) -> datetime:
                return moment

            def from_local(self, moment: datetime) -> datetime:
                return moment

        watch = ClockWatch(Hand(), lambda: slept[0])

        def after(wall_s: float, mono_s: float, slept_s: float = 0.0) -> Jump | None:
            wall[0] += timedelta(seconds=wall_s)
            mono[0] += mono_s
            slept[0] += slept_s
            return watch.look()

        self.assertIsNone(after(5, 5))
        self.assertEqual(after(-3600, 5), Jump(timedelta(seconds=-3605), timedelta()))
        self.assertEqual(after(86_400 + 5, 5), Jump(timedelta(days=1), timedelta()))
        self.assertEqual(after(7_200 + 5, 5, 7_200), Jump(timedelta(), timedelta(hours=2)))
        self.assertIsNone(after(6, 5))

    def test_a_clock_that_was_set_back_makes_nobody_stay_for_ever(self) -> None:
        """A device that was seen in what is now the future can still leave, and waiting times keep their length."""
        self.begin(usual() + host(90, "-12:30"))
        self.watch(minutes=20)
        self.story_at(NOON - timedelta(days=300))
        site = Site(self.site)
        watch = Watch(site, InlineExecutor(site.attachment), WatchMemory(FloodGuard()), lambda: site)
        watch._on_jump(Jump(timedelta(days=-300), timedelta()))
        site.close()
        with closing(Roster.open(self.site)) as roster:
            ahead = dated_ahead(roster, NOON - timedelta(days=299))
            self.assertNotIn("adapter", ahead)
            latest = roster.db.execute("SELECT max(until) FROM stay WHERE present").fetchone()[0]
            self.assertLessEqual(latest, to_ms(NOON - timedelta(days=299)))
            # It may be the new time that is wrong: what has happened keeps its time, and a person decides.
            self.assertIn("scan", ahead)
            for said in unsound(roster, NOON - timedelta(days=299)):
                self.assertIn("in the future: scopion roster compact brings them back", said)

    def test_a_clock_that_was_set_back_while_no_watch_ran(self) -> None:
        """By the machine's own seconds; after its restart by what the time of day lacks. What waits is not held up."""
        boot, hours = Boot("a", 1_000.0), timedelta(hours=3)
        for later, at, set_by in (
            (Boot("a", 4_600.0), NOON + timedelta(hours=1), None),
            (Boot("a", 4_600.0), NOON + timedelta(hours=1, seconds=-30), None),  # set right slowly
            (Boot("a", 4_600.0), NOON + timedelta(hours=1) - hours, -hours),
            (Boot("b", 60.0), NOON + timedelta(hours=1), None),
            (Boot("b", 60.0), NOON - hours, -hours),
            (None, NOON - hours, None),
        ):
            with self.subTest(later=later, at=at), closing(Roster.open(self.folder / "noted")) as roster:
                note_clocks(roster, boot, NOON)
                self.assertEqual(set_back_since(roster, later, at), set_by)
        self.begin(usual())
        self.story_at(NOON)
        site = Site(self.site)
        note_clocks(site.roster, boot, NOON + hours)
        with patch.object(Site, "boot", return_value=Boot("a", 1_001.0)):
            watch = Watch(site, InlineExecutor(site.attachment), WatchMemory(FloodGuard()), lambda: site)
            with patch("scopion.watching.look_after.move_with_the_clock", wraps=move_with_the_clock) as moved:
                watch.turn()
                watch.turn()
        ((_, by, _), _) = moved.call_args_list[0]
        self.assertAlmostEqual(by.total_seconds(), -hours.total_seconds(), delta=5)
        self.assertEqual(moved.call_count, 1)
        self.assertIsNone(set_back_since(site.roster, Boot("a", 1_001.0), site.clock.now()))
        site.close()


class Ground(unittest.TestCase):
    def test_which_subnets_are_looked_after(self) -> None:
        """Attached ones of the site; the first one if there is none yet; none where this machine was carried away."""
        from ipaddress import IPv4Interface, IPv4Network

        from scopion.attachment.ports import Interface
        from scopion.model.observation import Medium
        from scopion.operations.site.site_settings import Settings, SubnetSettings, WatchSettings

        def attached(name: str, address: str, metric: int) -> Interface:
            mac = MacAddress.parse("60:f2:a7:10:00:0a")
            gateway = IPv4Address("192.0.2.1")
            addresses = (IPv4Interface(address),)
            return Interface(name, metric, mac, addresses, True, Medium.CABLE, gateway=gateway, metric=metric)

        both = [attached("eth0", "192.0.2.10/24", 1), attached("wlan0", "203.0.113.9/24", 2)]
        cafe, behind = IPv4Network("203.0.113.0/24"), IPv4Network("198.51.100.0/24")
        router = Settings(subnet=(SubnetSettings(range=behind, router=IPv4Address("192.0.2.1")),))

        def chosen(known: set[IPv4Network], settings: Settings) -> list[tuple[str, str, bool]]:
            return [
                (str(each.subnet), each.interface.name, each.routed) for each in watched_subnets(both, known, settings)
            ]

        self.assertEqual(chosen(set(), Settings()), [("192.0.2.0/24", "eth0", False)])
        self.assertEqual(chosen({cafe}, Settings()), [("203.0.113.0/24", "wlan0", False)])
        self.assertEqual(chosen({behind}, Settings()), [])
        self.assertEqual(chosen(set(), router), [("198.51.100.0/24", "eth0", True)])
        at_wlan = Settings(watch=WatchSettings(interfaces=("wlan0",)))
        self.assertEqual(chosen(set(), at_wlan), [("203.0.113.0/24", "wlan0", False)])
        self.assertEqual(chosen({IPv4Network("192.0.2.0/24")}, at_wlan), [])
        wanted = watched_subnets(both, {cafe}, Settings())
        self.assertEqual([str(each.subnet) for each in strange(both, wanted, Settings())], ["192.0.2.0/24"])
        self.assertEqual(strange(both, wanted, at_wlan), [])


if __name__ == "__main__":
    unittest.main()


class Relayed(SceneWatch):
    """What a sensor's own watch takes in, handed on in batches."""

    HOSTS = (
        usual()
        + host(30, "12:00-13:00", "14:00-15:00", name="cart")
        + host(31, "12:10-12:40", mac="10:c0:de:00:00:aa")
        + host(32, "12:50-15:00", mac="10:c0:de:00:00:aa", name="wheel")
        + host(33, "13:00-15:00")
        + host(20, "13:30-13:50", mac="10:c0:de:00:00:bb")
    )

    def test_batches_fold_to_what_the_watch_itself_folds(self) -> None:
        """Whether it is told at once or in one batch after hours: the roster's side has the stays, events and scans
        that a watch there would have. Devices move, come back, and claim another's address meanwhile.
        """
        for every in (timedelta(minutes=1), timedelta(hours=9)):
            with self.subTest(every=every):
                self.begin(self.HOSTS, "[absence]\npatience_s = 400")
                site = Site(self.site)
                with closing(Spool.open(self.folder, "pit", "pit")) as spool:
                    life = spool.life
                    spool.folded(Folded(life, 0, 400.0))
                    site.relay = _ToFile(site, spool, every)
                    run_watch(site, WatchOptions(for_s=3 * 3600))
                    spool.close_batch(site.relay.clocks())
                    batches = [batch_from_json(octets) for _, octets in spool.batches(0, 10_000)]
                many = every < timedelta(hours=1)
                self.assertEqual(len(batches) > 30, many, [(each.number, each.steps) for each in batches])
                other = self.folder / "other"
                shutil.rmtree(other, ignore_errors=True)
                other.mkdir()
                (other / "site.toml").write_text('place = "shop"\n[absence]\npatience_s = 400')
                with closing(Roster.open(self.site)) as roster, closing(Site(other)) as elsewhere:
                    elsewhere.watch_state = WatchMemory(FloodGuard())
                    for batch in batches:
                        fold_batch(elsewhere, batch, guard=FloodGuard())
                    self.assertEqual(self._told(elsewhere.roster, "pit"), self._told(roster, ""))
                    self.assertEqual(unsound(elsewhere.roster, datetime(2100, 1, 1, tzinfo=UTC)), [])
                shutil.rmtree(self.site)
                (self.folder / "spool.sqlite").unlink()

    def _told(self, roster: Roster, place: str) -> dict[str, list[Any]]:
        own = "mac NOT IN ('60:f2:a7:10:00:0a')"
        queries = {
            "stays": f"SELECT mac, address, since, until, present, source, found FROM stay WHERE place = ? AND {own} "
            "ORDER BY 1, 2, 3",
            "events": f"SELECT at, kind, mac, address, was_address, away_since, other_mac, name FROM event "
            f"WHERE place = ? AND {own} ORDER BY 1, 2, 3, 4",
            "scans": "SELECT started, ended, asked, answered, outcome FROM scan WHERE place = ? ORDER BY 1",
            "subnets": "SELECT range, gateway, gateway_mac, baseline NOTNULL FROM subnet WHERE place = ?",
            "names": "SELECT subject, value, first_seen, last_seen FROM trait WHERE place = ? ORDER BY 1, 2",
        }
        return {name: [tuple(row) for row in roster.db.execute(query, (place,))] for name, query in queries.items()}


class _ToFile:
    """Keeps what a watch takes in in a sensor's file, and closes a batch now and then."""

    def __init__(self, site: Site, spool: Spool, every: timedelta) -> None:
        self._site, self._spool, self._every = site, spool, every
        self._began = self._closed = site.clock.now()

    def clocks(self) -> SensorClocks:
        now = self._site.clock.now()
        return SensorClocks(now, "boot", (now - self._began).total_seconds() + 100)

    def note(self, seen: Sequence[Observation], scan: ScanFacts | None, *, apart: bool, news: bool) -> None:
        facts = replace(scan, looking_since=self._began) if scan is not None else None
        self._spool.note(seen, facts, self.clocks(), apart=apart)
        if self._site.clock.now() - self._closed >= self._every:
            self._spool.close_batch(self.clocks())
            self._closed = self._site.clock.now()
