"""Orders to a sensor: over a broker that loses, doubles and forges; words, permissions, and pushes taken back alone."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from datetime import timedelta
from ipaddress import IPv4Address
from types import SimpleNamespace
from typing import Any, ClassVar, cast
from unittest.mock import patch

from hypothesis import given
from hypothesis import strategies as st

from scopion.attachment.connect.mqtt_line import Arrived
from scopion.attachment.orders import order_line
from scopion.attachment.orders.order import Answer, Asks, Guard, Guards, Jobs, ModeOf, Order, WordWanted
from scopion.attachment.orders.order_documents import (
    answer_from_json,
    answer_to_json,
    order_from_json,
    order_to_json,
)
from scopion.attachment.orders.order_line import OrderLine, SensorAccess
from scopion.attachment.orders.seal import ANSWERS, ORDERS, Seal
from scopion.attachment.orders.sensor_shell import SensorShell
from scopion.attachment.ports import (
    BrokerAccess,
    Control,
    EveryStation,
    Job,
    Program,
    Ran,
    ReadFile,
    ReadLog,
    WriteFile,
)
from scopion.model.batch import SensorClocks, SensorState
from scopion.model.errors import EnforcerUnreachable, InvalidSettings, MalformedFrame, Refused
from scopion.model.mac import MacAddress, Notation
from scopion.model.observation import Observation, Source
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.intake.miss_devices import access_points
from scopion.operations.sensors.carry_out_orders import Hands
from scopion.operations.sensors.keep_guards import Guards as KeptGuards
from scopion.operations.sensors.keep_guards import Kept
from scopion.operations.sensors.load_orders import load_orders
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.check_push import require_harmless
from scopion.operations.wifi.network_context import NetworkContext
from scopion.roster.folding.fold_observations import fold
from scopion.roster.places import name_home
from scopion.roster.read_devices import all_devices
from scopion.roster.sensors import hear_sensor, note_state
from scopion.roster.wifi.lists import ListMode, Network
from scopion.scenes.scene_clock import SceneClock
from scopion.watching.executors import InlineExecutor
from scopion.watching.sensors.take_orders import Orders
from scopion.watching.watch_context import WatchContext
from scopion.watching.watch_memory import WatchMemory
from scopion.wireless.enforcers.enforcer import Effect, Held, Station, Traits
from scopion.wireless.list_policy import WantedList
from scopion.wireless.plan_radio import RadioPlan
from tests.support import NOON, FolderTest

KEY, OTHER_KEY = "11" * 32, "22" * 32
PHONE = MacAddress.parse("6c:d1:9e:08:40:90")
SOCKET, DENY = "/run/hostapd/wlan0", "/etc/hostapd/deny"
ORDERS_TOML = f"""
[[enforcer]]
name = "kiln"
type = "hostapd"
network = "Clay"
[enforcer.radio."2.4"]
socket = "{SOCKET}"
accept_file = "/etc/hostapd/accept"
deny_file = "{DENY}"
[[enforcer]]
name = "bridge"
type = "nftables"
network = "Clay"
radio = {{ "5" = {{ interface = "wlan1" }} }}
[[enforcer]]
name = "router"
type = "uci"
network = "Clay"
"""
TEXTS = st.text(max_size=12) | st.just("caf\udce9\x00\n")
JOBS = st.one_of(
    st.builds(Program, st.lists(TEXTS, min_size=1, max_size=3).map(tuple), TEXTS),
    st.builds(Control, TEXTS, TEXTS, TEXTS),
    st.builds(EveryStation, TEXTS),
    st.builds(ReadFile, TEXTS),
    st.builds(WriteFile, TEXTS, TEXTS, TEXTS),
    st.builds(ReadLog, st.lists(TEXTS, min_size=1, max_size=3).map(tuple)),
)
GUARDS = st.builds(
    Guard,
    st.integers(1, 999),
    st.floats(0, 86_400),
    st.dictionaries(
        st.sampled_from(["2.4", "5"]), st.just({"allow": [], "deny": [str(PHONE)], "mode": None}), min_size=1
    ),
    st.just((PHONE,)),
)
ASKS = st.one_of(
    st.just(WordWanted()),
    st.builds(Jobs, st.lists(JOBS, max_size=4).map(tuple)),
    st.builds(ModeOf, TEXTS),
    st.builds(Guards, st.lists(st.integers(1, 99), max_size=3).map(tuple), st.none() | GUARDS),
)
ANSWERED = st.builds(
    Answer,
    st.just("s"),
    st.integers(0, 9),
    st.just("word"),
    st.lists(st.builds(Ran, st.integers(-9, 300), TEXTS, TEXTS), max_size=3).map(tuple),
    st.none() | st.tuples(st.integers(0, 0o7777), TEXTS),
)


class Documents(FolderTest):
    @given(ASKS, ANSWERED)
    def test_what_is_written_is_read(self, asks: Asks, answer: Answer) -> None:
        """Also octets that are no UTF-8, which files may have."""
        order = Order("s", 3, "word", "kiln", asks)
        self.assertEqual(order_from_json(order_to_json(order)), order)
        self.assertEqual(answer_from_json(answer_to_json(answer)), answer)

    @given(st.recursive(st.none() | st.integers() | TEXTS, lambda some: st.lists(some) | st.dictionaries(TEXTS, some)))
    def test_nonsense_is_malformed_and_nothing_else(self, nonsense: Any) -> None:
        """Whatever stands where an order's parts should."""
        keys = ("jobs", "mode_of", "waiting", "guard", "session", "number")
        for key in keys:
            whole = {"form": "order/1", "session": "s", "number": 1, "waiting": [], key: nonsense}
            for text in (json.dumps(whole), json.dumps({**whole, "jobs": [{"run": nonsense, "log": nonsense}]})):
                try:
                    order_from_json(text.encode())
                except MalformedFrame:
                    continue

    def test_a_seal_opens_only_where_it_is_meant(self) -> None:
        """Another sensor, another site, the other way, another key, any octet changed: nothing of it is read."""
        seal = Seal(KEY, "site", "pit")
        sealed = seal.closed(ORDERS, b"deny")
        self.assertEqual(seal.opened(ORDERS, sealed), b"deny")
        self.assertNotIn(b"deny", sealed)
        for other, way in (
            (Seal(KEY, "site", "mill"), ORDERS),
            (Seal(KEY, "sit", "epit"), ORDERS),
            (Seal(OTHER_KEY, "site", "pit"), ORDERS),
            (seal, ANSWERS),
        ):
            with self.assertRaisesRegex(MalformedFrame, "seal is not ours"):
                other.opened(way, sealed)
        for at in range(len(sealed)):
            with self.assertRaises(MalformedFrame):
                seal.opened(ORDERS, sealed[:at] + bytes([sealed[at] ^ 1]) + sealed[at + 1 :])
        for key in ("", "11", "zz" * 32):
            with self.assertRaises(InvalidSettings):
                Seal(key, "site", "pit")


class _Shell:
    """Does what it is told, and keeps it."""

    def __init__(self) -> None:
        self.done: list[Job] = []
        self.remarks: list[str] = []
        self.fails = False

    def carry_out(self, jobs: Sequence[Job], begins: Callable[[int], None] = lambda _: None) -> list[Ran]:
        if self.fails:
            raise EnforcerUnreachable("wlan0: no answer")
        self.done += jobs
        return [Ran(0, "OK", "") for _ in jobs]

    def mode_of(self, path: str) -> tuple[int, str] | None:
        return 0o660, "netdev"

    def close(self) -> None:
        """Nothing is open."""


class _Broker:
    """Stands for both lines: what one side publishes reaches the other at once, unless it is lost or doubled."""

    test: ClassVar[Any]

    def __init__(self, access: object, name: str, topics: Sequence[str], on_arrival: Any, on_change: Any) -> None:
        self.connected, self.problem, self.refused, self.address = True, "", "", ""
        self._hear = on_arrival
        if on_arrival is not None:  # the line of the roster's side
            self.test.back = self

    def start(self) -> None:
        """It is connected."""

    def stop(self) -> None:
        self.connected = False

    def acknowledge(self, arrived: Arrived) -> None:
        """Nothing is kept."""

    def publish(self, topic: str, octets: bytes, *, retain: bool = False) -> bool:
        test = self.test
        if topic == "answers":  # the sensor answers
            test.answered.append(octets)
            if not test.lose_answers:
                test.back._hear(Arrived(topic, octets, False, 0))
            return True
        test.sent.append(octets)
        if len(test.sent) == test.restart_at:
            test.begin()
            test.lose_answers = False
        for _ in range(test.times):
            test.deliver(octets)
        return True


class Ordered(FolderTest):
    """A roster's side and a sensor, with a broker between them that the test plays."""

    def setUp(self) -> None:
        super().setUp()
        _Broker.test = self
        self.sent: list[bytes] = []
        self.answered: list[bytes] = []
        self.times, self.lose_answers = 1, False
        self.restart_at = 0  # with which order the sensor is started again
        self.back: Any = None
        (self.folder / "orders.toml").write_text(ORDERS_TOML)
        (self.folder / "orders-key").write_text(KEY)
        (self.folder / "orders-key").chmod(0o600)
        permitted = load_orders(self.folder)
        assert permitted is not None
        self.permitted = permitted
        self.clock, self.shell = SceneClock(NOON), _Shell()
        site = Site(self.folder)
        self.addCleanup(site.close)
        site.__dict__["clock"] = self.clock
        executor = InlineExecutor(cast(Any, SimpleNamespace(clock=self.clock)))
        self.context = WatchContext(site, executor, WatchMemory(FloodGuard()))
        self.begin()
        access = SensorAccess("pit", BrokerAccess("127.0.0.1"), "orders", "answers", Seal(KEY, "site", "pit"))
        swift = patch.multiple(order_line, MqttLine=_Broker, _AGAIN_S=0.02, _DONE_S=0.3, _WORD_S=0.3)
        swift.start()
        self.addCleanup(swift.stop)
        self.line = OrderLine(access)
        self.addCleanup(self.line.close)

    def begin(self) -> None:
        """Start the sensor's part, as after a restart."""
        self.hands = Hands(self.folder, self.permitted.enforcers, lambda _: self.shell, self.clocks)
        self.part = Orders(self.context, self.hands, Seal(KEY, "site", "pit"), "answers", self.clocks)
        self.part.line = cast(Any, _Broker(None, "", (), None, None))

    def clocks(self) -> SensorClocks:
        return SensorClocks(self.clock.now(), "boot", self.clock.monotonic())

    def later(self, seconds: float) -> None:
        self.clock.wait_until(self.clock.monotonic() + seconds)
        self.turn()

    def deliver(self, octets: bytes) -> None:
        self.part.inbox.heard(Arrived("orders", octets, False, 0))
        self.turn()

    def turn(self) -> None:
        for _ in range(3):
            self.part.turn(self.clock.monotonic())
            self.context.executor.finished(self.context.contained)

    def ask(self, *jobs: Job, enforcer: str = "kiln") -> tuple[list[Ran], list[int]]:
        begun: list[int] = []
        return SensorShell(self.line, enforcer).carry_out(jobs, begun.append), begun

    def test_an_order_is_carried_out_once(self) -> None:
        """Though the broker delivers everything three times, and the answers are lost at first."""
        self.times = 3
        deny = Control(SOCKET, f"DENY_ACL ADD_MAC {PHONE}", "OK")
        self.assertEqual(self.ask(deny, ReadFile(DENY)), ([Ran(0, "OK", "")] * 2, [0, 1]))
        self.assertEqual(self.shell.done, [deny, ReadFile(DENY)])
        self.lose_answers = True
        lost = list[int]()
        with self.assertRaisesRegex(EnforcerUnreachable, "pit does not answer"):
            SensorShell(self.line, "kiln").carry_out([deny], lost.append)
        self.assertEqual(lost, [0])  # it may have been done, and it was, once
        self.assertEqual(self.shell.done.count(deny), 2)
        self.lose_answers = False
        self.assertEqual(SensorShell(self.line, "kiln").mode_of(SOCKET), (0o660, "netdev"))

    def test_nothing_is_good_twice_or_late(self) -> None:
        """A recorded order, a word of a minute ago, one before a restart; forged answers are passed over."""
        self.ask(ReadFile(DENY))
        for each in self.sent:
            self.deliver(each)
        self.assertEqual(len(self.shell.done), 1)
        self.later(61)
        self.ask(ReadFile(DENY))  # with another word than the one that it was given
        self.assertEqual(len(self.shell.done), 2)
        kept = list(self.sent)
        self.begin()
        for each in kept:
            self.deliver(each)
        self.assertEqual(len(self.shell.done), 2)
        self.back._hear(Arrived("answers", b'{"form":"sealed/1","sealed":""}', False, 0))
        self.ask(ReadFile(DENY))
        self.assertEqual(len(self.shell.done), 3)
        self.deliver(b"\xff" * 40)
        self.assertIn("hearing orders", self.context.troubles)

    def test_a_sensor_that_is_started_again(self) -> None:
        """Before an order comes it does nothing, and is asked again; in the middle of one it may have done it."""
        self.ask(ReadFile(DENY))
        self.begin()
        self.assertEqual(self.ask(ReadFile(DENY))[1], [0])
        self.assertEqual(len(self.shell.done), 2)
        self.restart_at, self.lose_answers = len(self.sent) + 2, True

        begun = list[int]()
        with self.assertRaisesRegex(EnforcerUnreachable, "may have done it or not"):
            SensorShell(self.line, "kiln").carry_out([ReadFile(DENY)], begun.append)
        self.assertEqual((begun, len(self.shell.done)), ([0], 3))

    def test_what_is_not_permitted(self) -> None:
        """Jobs that no enforcer of ``orders.toml`` asks for: none of an order is done, and it is said why."""
        table = "scopion_bridge"
        chain = {"family": "bridge", "table": table, "name": "forward"}

        def rules(*commands: Any) -> Program:
            return Program(("nft", "-j", "-f", "-"), json.dumps({"nftables": commands}))

        good: dict[str, list[Job]] = {
            "kiln": [Control(SOCKET, "STATUS"), EveryStation(SOCKET), WriteFile(DENY, "", "")],
            "bridge": [
                rules({"add": {"table": {"family": "bridge", "name": table}}}, {"add": {"chain": chain}}),
                Program(("ip", "-j", "-d", "link", "show", "dev", "wlan1")),
            ],
            "router": [ReadFile("/etc/config/wireless"), Program(("wifi", "reload"))],
        }
        bad: dict[str, list[Job]] = {
            "kiln": [
                Program(("sh", "-c", "reboot")),
                Control("/run/other", "STATUS"),
                Control(SOCKET, "TERMINATE"),
                Control(SOCKET, f"DENY_ACL ADD_MAC {PHONE}\nTERMINATE"),
                Control(SOCKET, "SET macaddr_acl 0\n"),
                ReadFile("/etc/shadow"),
                WriteFile(f"{DENY}/../../passwd", "", ""),
                ReadLog(("",)),
            ],
            "bridge": [
                Control(SOCKET, "STATUS"),
                rules({"add": {"table": {"family": "inet", "name": table}}}),
                rules({"add": {"chain": {**chain, "table": "others"}}}),
                rules({"flush": {"table": {"family": "bridge", "name": table}}}, {"flush": {"ruleset": None}}),
                Program(("nft", "-j", "-f", "-"), "include /etc/x"),
                Program(("nft", "-j", "-f", "/etc/x")),
                Program(("ip", "-j", "-d", "link", "show", "dev", "eth0")),
            ],
            "router": [ReadFile("/etc/passwd"), Program(("wifi", "down")), Program(("wifi", "reload"), "x")],
            "nobody": [ReadFile(DENY)],
        }
        for enforcer, jobs in good.items():
            self.assertEqual(len(self.ask(*jobs, enforcer=enforcer)[0]), len(jobs))
        done = len(self.shell.done)
        for enforcer, each in ((enforcer, each) for enforcer, jobs in bad.items() for each in jobs):
            with self.subTest(job=each), self.assertRaisesRegex(EnforcerUnreachable, "pit refuses it: .*orders.toml"):
                self.ask(*good.get(enforcer, [])[:1], each, enforcer=enforcer)
        with self.assertRaisesRegex(EnforcerUnreachable, "does not name /etc/shadow"):
            SensorShell(self.line, "kiln").mode_of("/etc/shadow")
        self.assertEqual(len(self.shell.done), done)
        self.shell.fails = True
        with self.assertRaisesRegex(EnforcerUnreachable, "wlan0: no answer"):
            self.ask(*good["kiln"])

    def test_guards_outlast_a_restart(self) -> None:
        """Those that still wait; each is taken back in its time, again and again until it succeeds."""
        held = {"2.4": {"allow": [], "deny": [str(PHONE)], "mode": "deny"}}
        taken: list[int] = []

        def take_back(kept: Kept) -> None:
            if self.shell.fails and kept.enforcer == "kiln":
                raise EnforcerUnreachable("wlan0: no answer")
            taken.append(kept.guard.push)

        for number, left in ((6, 90.0), (7, 61.0), (8, 30.0), (9, 60.0)):
            waiting = tuple(range(6, number))
            self.line.ask("kiln", Guards(waiting, Guard(number, left, held)))
        self.line.ask("bridge", Guards((), Guard(5, 31.0, held)))
        self.assertEqual(self.line.ask("kiln", Guards((7, 8, 9))).guarded, (6, 7, 8, 9))
        answer = self.line.ask("kiln", Guards((7, 8, 9), Guard(10, 5.0, {"5": {"deny": "x"}})))
        self.assertTrue(answer.failed)  # what could not be taken back is not promised
        self.begin()
        self.part.line = None  # then it does not wait for the roster's side
        self.hands.take_back = take_back  # type: ignore[method-assign]
        self.assertEqual([each.guard.push for each in self.hands.guards.all()], [7, 8, 9, 5])
        self.later(29)
        self.assertEqual(taken, [])
        self.assertLessEqual(self.part.wake_at() - self.clock.monotonic(), 1.001)
        self.shell.fails = True
        self.later(2)
        # What fails at one keeps no other waiting.
        self.assertEqual((taken, list(self.context.troubles)), ([5], ["taking back a push to kiln"]))
        self.shell.fails = False
        self.later(29)
        self.assertEqual(taken, [5])
        self.later(2)
        # The later push went with the earlier one that was due at the same time.
        self.assertEqual((taken, list(self.context.troubles)), ([5, 7], []))
        self.assertEqual(KeptGuards(self.folder).all(), ())

    def test_the_time_of_a_guard(self) -> None:
        """A clock that is set changes nothing; a machine that was started again has waited at least since then."""
        since = SensorClocks(NOON, "boot", 1000.0)
        kept = Kept("kiln", Guard(1, 600.0, {}), since)
        self.assertEqual(kept.left_s(SensorClocks(NOON + timedelta(days=9), "boot", 1100.0)), 500.0)
        self.assertEqual(kept.left_s(SensorClocks(NOON + timedelta(seconds=50), "other", 20.0)), 550.0)
        self.assertEqual(kept.left_s(SensorClocks(NOON - timedelta(days=9), "other", 700.0)), -100.0)
        (self.folder / "guards.json").write_text('{"form": "guards/1", "guards": [{}]}')
        self.assertEqual(KeptGuards(self.folder).all(), ())

    def test_settings_that_no_sensor_can_carry_out(self) -> None:
        """A page, a via, two of one name; none at all."""
        for text, said in (
            ('[[enforcer]]\nname = "a"\ntype = "page"\nnetwork = "Clay"\n', "page, which no sensor"),
            (ORDERS_TOML.replace('network = "Clay"', 'network = "Clay"\nvia = "pit"', 1), "has a via"),
            (ORDERS_TOML.replace('"bridge"', '"kiln"'), "two enforcers"),
            ("", "enforcer"),
        ):
            (self.folder / "orders.toml").write_text(text)
            with self.subTest(said=said), self.assertRaisesRegex(InvalidSettings, said):
                load_orders(self.folder)
        (self.folder / "orders.toml").unlink()
        self.assertIsNone(load_orders(self.folder))


class LockedOut(FolderTest):
    SITE = (
        'place = "shop"\n[broker]\nhost = "127.0.0.1"\ntopics = "k"\n[[sensor]]\nname = "pit"\nplace = "clay pit"\n'
        '[[enforcer]]\nname = "kiln"\ntype = "hostapd"\nnetwork = "Clay"\nvia = "pit"\n'
        'radio = { "5" = { socket = "/run/hostapd/wlan0" } }\n'
        'ssh = { host = "192.0.2.9" }\n'
    )

    def test_a_sensor_is_not_cut_off_by_its_own_hands(self) -> None:
        """A push that would put the sensor off the air is refused; its namesake here is not meant."""
        (self.folder / "site.toml").write_text(self.SITE)
        site = Site(self.folder)
        self.addCleanup(site.close)
        roster, address = site.roster, IPv4Address("192.0.2.9")
        name_home(roster, "shop")
        namesake = MacAddress.parse("6c:d1:9e:08:40:91")
        for mac, place in ((PHONE, "clay pit"), (namesake, "shop")):
            fold(roster, [Observation(mac, address, NOON, Source.ARP)], (), NOON, place=place)
        hear_sensor(roster, "pit", "clay pit", NOON)
        note_state(roster, SensorState("pit", online=True, place="clay pit", address="192.0.2.9"), None)
        devices = all_devices(roster)
        network = Network("Clay", ListMode.DENY, Notation.COLON, None, ("5",), "", NOON)
        context = NetworkContext(site, roster, network, devices, cast(Any, None), WantedList(ListMode.DENY))
        target = Held(deny=frozenset([PHONE, namesake]), mode=ListMode.DENY)

        def plan(*there: MacAddress) -> RadioPlan:
            return RadioPlan(
                "kiln", "5", Traits(Effect.REFUSES), None, Held(), tuple(map(Station, there)), target=target,
                wanted=WantedList(ListMode.DENY), steps=(),
            )  # fmt: skip

        with patch.object(NetworkContext, "own", lambda _: set()):
            self.assertEqual(context.sensors(), {PHONE})
            with self.assertRaisesRegex(Refused, "the sensor by which it is reached, would be refused on 'Clay'"):
                require_harmless(context, plan(PHONE, namesake))
            require_harmless(context, plan(namesake))  # the sensor is on cable
        # The access point is the one in that place, of two with one address.
        (known,) = access_points(site, devices, {})
        self.assertEqual(known.device.macs, (PHONE,))
