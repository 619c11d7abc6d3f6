"""Who is told what, when and in which words: rules, the plan, the outbox, the wording; all without a network."""

from __future__ import annotations

import json
import random
import unittest
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from typing import Any
from unittest.mock import patch

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.alerts.alert_settings import AlertSettings, RuleSettings
from scopion.alerts.channels.channel import DeliveryFailed
from scopion.alerts.deliver import FIRST_WAIT_S, LONGEST_WAIT_S, Outbox, Outcome, wait_after
from scopion.alerts.message import Message, message_from_json, message_to_json
from scopion.alerts.phrases import About, Phrases
from scopion.alerts.rules import Occasion, channels_told
from scopion.alerts.wording import worded
from scopion.model.address import Address
from scopion.model.alert import Alert, AlertState, Severity
from scopion.model.device import Event, EventKind, Standing
from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source, Trait, TraitKind
from scopion.operations.intake.flood_guard import DEVICES, FloodGuard, KnownPairs
from scopion.operations.intake.queue_alerts import AlertPolicy, queue_alerts
from scopion.roster.folding.fold_observations import fold
from scopion.roster.folding.write_rows import record
from scopion.roster.mutes import mute
from scopion.roster.outbox import (
    EVENTS_KEPT,
    close,
    count_alerts,
    find_alerts,
    move_with_the_clock,
    note_passed_over,
    retry,
)
from scopion.roster.store.open_roster import Roster
from scopion.scenes.scene_clock import SceneClock
from scopion.vendors.registry import Vendors
from scopion.wire.serial import event_from_json, event_to_json, observation_from_json, observation_to_json
from tests.support import FolderTest

MONDAY = datetime(2026, 9, 14, 12, tzinfo=UTC)
MAC = MacAddress.parse("da:31:7f:0c:52:e9")
ADDRESS = IPv4Address("192.0.2.144")
J, C, U = EventKind.JOINED, EventKind.CONTESTED, EventKind.UNWANTED_PRESENT

moments = st.datetimes(datetime(1971, 1, 1), datetime(2200, 1, 1), timezones=st.just(UTC)).map(
    lambda at: at.replace(microsecond=at.microsecond // 1000 * 1000)
)
macs = st.binary(min_size=6, max_size=6).map(MacAddress)
addresses: st.SearchStrategy[Address] = st.ip_addresses(v=4).map(IPv4Address) | st.ip_addresses(v=6).map(IPv6Address)
texts = st.text("abcäλ -.\"'<&\\", max_size=30).map(lambda text: " ".join(text.split()))
traits = st.builds(Trait, st.sampled_from(TraitKind), texts.filter(bool), st.sampled_from(Source))
observations = st.builds(
    Observation,
    mac=macs, address=st.none() | addresses, at=moments, source=st.sampled_from(Source), medium=st.sampled_from(Medium),
    rtt_s=st.none() | st.floats(0, 100), traits=st.lists(traits, max_size=4).map(tuple), recorded=st.booleans(),
    subnet=st.none() | st.ip_addresses(v=4).map(lambda address: IPv4Network((address, 20), strict=False)),
)  # fmt: skip
events = st.builds(
    Event,
    kind=st.sampled_from(EventKind), at=moments, device_id=st.integers(0, 1 << 40), mac=st.none() | macs,
    address=addresses, was_address=st.none() | addresses, away_since=st.none() | moments, other_mac=st.none() | macs,
    name=texts, was_name=texts, id=st.integers(0, 1 << 40),
)  # fmt: skip
anything = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
)


class Serial(unittest.TestCase):
    @given(observations, events)
    def test_what_was_written_is_read(self, seen: Observation, event: Event) -> None:
        """Observations and events pass through JSON unchanged: a sensor elsewhere may feed the same fold."""
        self.assertEqual(observation_from_json(json.loads(json.dumps(observation_to_json(seen)))), seen)
        read = event_from_json(json.loads(json.dumps(event_to_json(event))))
        self.assertEqual((read, read.id), (event, event.id))

    @given(
        observations,
        st.sampled_from(["form", "mac", "address", "at", "source", "medium", "rtt_s", "traits", "subnet"]),
        anything,
    )
    def test_whatever_else_is_refused_never_a_crash(self, seen: Observation, key: str, value: object) -> None:
        """A field of any shape gives an observation or MalformedFrame; another version is refused."""
        written = observation_to_json(seen)
        with suppress(MalformedFrame):
            observation_from_json({**written, key: value})
        with self.assertRaises(MalformedFrame):
            observation_from_json({**written, "form": "observation/2"})
        with self.assertRaises(MalformedFrame):
            event_from_json(written)


def occasion(what: EventKind = J, **known: Any) -> Occasion:
    return Occasion(Event(what, MONDAY, 1, MAC, ADDRESS), **{"standing": Standing.NEW, **known})


class Rules(unittest.TestCase):
    def test_what_is_told_without_any_rule(self) -> None:
        """All channels are told what is worth telling, and nothing else."""
        noon = MONDAY
        for kind in EventKind:
            told = channels_told(occasion(kind), (), ("owner", "log"), noon)
            quiet = kind in (EventKind.LEFT, EventKind.RETURNED, EventKind.READDRESSED, EventKind.RENAMED)
            self.assertEqual(set(told), set() if quiet else {"owner", "log"}, kind)
        self.assertEqual(channels_told(occasion(U), (), ("owner",), noon)["owner"], Severity.HIGH)
        self.assertEqual(channels_told(occasion(C, at_gateway=True), (), ("a",), noon)["a"], Severity.HIGH)
        self.assertEqual(channels_told(occasion(C), (), ("a",), noon)["a"], Severity.NORMAL)

    def test_the_first_rule_that_fits_counts_for_each_channel(self) -> None:
        """A silent rule before a general one is an exception; every condition has to hold."""
        rules = (
            RuleSettings(kinds=("phone or tablet",), hours="08:00-18:00", silent=True),
            RuleSettings(channels=("log",), events=(J,), severity=Severity.LOW),
            RuleSettings(),
        )
        noon, night = MONDAY, MONDAY - timedelta(hours=9)
        phone = occasion(kind="phone or tablet")
        self.assertEqual(channels_told(phone, rules, ("owner", "log"), noon), {})
        self.assertEqual(set(channels_told(phone, rules, ("owner", "log"), night)), {"owner", "log"})
        told = channels_told(occasion(), rules, ("owner", "log"), noon)
        self.assertEqual(told, {"owner": Severity.NORMAL, "log": Severity.LOW})
        for rule, fits in (
            (RuleSettings(standings=(Standing.KNOWN,)), False),
            (RuleSettings(subnets=("workshop",)), True),
            (RuleSettings(subnets=("198.51.100.0/24",)), False),
            (RuleSettings(devices=("Till",)), True),
            (RuleSettings(devices=("DA317F-0C52E9",)), True),
            (RuleSettings(devices=("printer",)), False),
        ):
            known = occasion(subnet_name="workshop", device_names=frozenset({"till", str(MAC)}))
            self.assertEqual(bool(channels_told(known, (rule,), ("a",), noon)), fits, rule)

    @given(st.times(), st.times(), st.times())
    def test_hours_may_reach_over_midnight(self, first: object, last: object, wall: object) -> None:
        """A time lies either in hours or in the hours that are left."""
        a, b, at = (each.replace(second=0, microsecond=0) for each in (first, last, wall))  # type: ignore[attr-defined]
        if a != b:
            moment = datetime.combine(MONDAY.date(), at)
            day, night = (
                channels_told(occasion(), (RuleSettings(hours=hours),), ("a",), moment)
                for hours in (f"{a:%H:%M}-{b:%H:%M}", f"{b:%H:%M}-{a:%H:%M}")
            )
            self.assertNotEqual(bool(day), bool(night))

    def test_hours_may_name_days(self) -> None:
        """A rule's hours are written as those of lists: with days of the week."""
        rule = RuleSettings(hours="mon-fri 08:00-18:00")
        for day, fits in ((14, True), (19, False)):  # a Monday, a Saturday
            told = channels_told(occasion(), (rule,), ("a",), datetime(2026, 9, day, 12))
            self.assertEqual(bool(told), fits)


class OutboxTest(FolderTest):
    """A roster with a few devices, a story's clock, and a policy."""

    def setUp(self) -> None:
        super().setUp()
        self.roster = Roster.open(self.folder)
        self.addCleanup(self.roster.close)
        self.clock = SceneClock(MONDAY)
        self.settings = AlertSettings()
        self.rules: tuple[RuleSettings, ...] = ()
        self.channels: tuple[str, ...] = ("owner",)
        self.vendors = Vendors()

    def pass_time(self, **span: float) -> None:
        self.clock.wait_until(self.clock.monotonic() + timedelta(**span).total_seconds())

    def happens(self, *kinds: EventKind, device: int = 1, learning: bool = False) -> None:
        """Events of one device, all at once."""
        self.befalls([(kind, device) for kind in kinds], learning=learning)

    def befalls(self, what: Sequence[tuple[EventKind, int]], *, learning: bool = False) -> None:
        """Events of several devices, all at once."""
        now, told = self.clock.now(), []
        with self.roster.transaction() as db:
            for kind, device in what:
                mac, address = MacAddress(b"\2\0\0\0" + device.to_bytes(2)), IPv4Address((192 << 24) + device)
                fold(self.roster, [Observation(mac, address, now, Source.ARP)], (), now, silent=True)
                number = db.execute("SELECT device FROM adapter WHERE mac = ?", (str(mac),)).fetchone()[0]
                told += record(db, [Event(kind, now, number, mac, address)])
            found = [Occasion(event, Standing.NEW, learning=learning) for event in told]
            queue_alerts(self.roster, found, AlertPolicy(self.channels, self.rules, self.settings), self.clock)

    def alerts(self) -> list[tuple[str, int, datetime]]:
        return [(alert.gathers, alert.count, alert.due) for alert in find_alerts(self.roster)]

    def outbox(self) -> Outbox:
        def word(alert: Alert) -> Message:
            return worded(alert, {}, Phrases("Kilnhaven", self.clock, self.vendors))

        return Outbox(self.roster, self.channels, word, timedelta(days=5), random.Random(1))

    def deliver(self, failure: DeliveryFailed | None = None) -> list[Message]:
        outbox = self.outbox()
        attempts = outbox.due(self.clock.now())
        for attempt in attempts:
            outbox.done(Outcome(attempt, failure), self.clock.now())
        return [attempt.message for attempt in attempts]


class Plan(OutboxTest):
    def test_learning_is_told_once_a_day(self) -> None:
        """What joins meanwhile goes into one message at eight; what is unwanted goes at once, high, by itself."""
        for device in range(3):
            self.happens(J, device=device, learning=True)
        self.happens(U, device=4, learning=True)
        eight = MONDAY + timedelta(hours=20)
        self.assertEqual(self.alerts(), [("learning", 3, eight), ("", 1, MONDAY)])
        self.assertEqual([len(message.events) for message in self.deliver()], [1])
        self.pass_time(hours=20)
        (digest,) = self.deliver()
        self.assertEqual((len(digest.events), digest.subject), (3, "Kilnhaven: 3 newcomers in a day"))
        self.happens(J, device=5, learning=True)
        self.assertEqual(self.alerts()[-1], ("learning", 1, eight + timedelta(days=1)))

    def test_night_hours_hold_back_what_can_wait(self) -> None:
        """Until their end, in one message; high severity passes; a sheet has its steps in a message of its own."""
        self.settings = AlertSettings(night="11:00-13:30")
        self.happens(J, device=1)
        self.happens(C, device=2)
        self.happens(U, device=3)
        self.happens(EventKind.SHEET_DUE, device=4)
        morning = MONDAY + timedelta(hours=1.5)
        self.assertEqual(self.alerts(), [("night", 2, morning), ("", 1, MONDAY), ("", 1, morning)])

    def test_who_comes_and_goes_is_told_once_and_then_gathered(self) -> None:
        """A flapper makes one message a cool-down, and no event of it is lost."""
        self.rules = (RuleSettings(events=(J, EventKind.LEFT, EventKind.RETURNED)),)
        self.happens(J)
        for _ in range(20):
            self.pass_time(minutes=2)
            self.happens(EventKind.LEFT, EventKind.RETURNED)
            self.deliver()
        self.pass_time(hours=1)
        while self.deliver():
            pass
        told = self.alerts()
        self.assertEqual(sum(count for _, count, _ in told), 41)
        self.assertEqual([gathers.partition(":")[0] for gathers, _, _ in told], ["", "cooling", "cooling"])

    def test_many_at_a_time_become_one(self) -> None:
        """Five go by themselves; the rest goes together at once, and what follows in steps of five minutes."""
        for device in range(9):
            self.happens(J, device=device)
        self.assertEqual([count for _, count, _ in self.alerts()], [1, 1, 1, 1, 1, 4])
        self.assertEqual(self.alerts()[-1][::2], ("burst", MONDAY + timedelta(seconds=1)))
        self.pass_time(seconds=1)
        while messages := self.deliver():
            last = messages
        self.assertIn("more messages follow, some minutes apart", last[-1].paragraphs[0])
        self.happens(J, device=10)
        self.assertEqual(self.alerts()[-1][::2], ("burst", MONDAY + timedelta(minutes=5, seconds=1)))
        self.pass_time(hours=1)
        for _ in range(6):
            self.deliver()
        self.befalls([(J, 20 + number) for number in range(30)])
        self.assertEqual(self.alerts()[-1][:2], ("burst", 30))

    def test_what_is_grave_is_never_held_back(self) -> None:
        """In the middle of a flood an outage, a conflict and what is unwanted go at once, by themselves; a forger of
        addresses by the dozen makes one message all the same, which begins with what is rarest.
        """
        grave = (EventKind.NETWORK_DOWN, EventKind.NETWORK_BACK, C, EventKind.GATEWAY_CHANGED, U)
        self.befalls([(J, number) for number in range(100)])
        for number, kind in enumerate(grave):
            self.happens(kind, device=200 + number)
        self.assertEqual(self.alerts(), [("burst", 100, MONDAY + timedelta(seconds=1)), *[("", 1, MONDAY)] * 5])
        self.pass_time(hours=1)
        self.befalls([*((J, 300 + number) for number in range(50)), (C, 400)])
        self.assertEqual(self.alerts()[-1], ("", 1, self.clock.now()))
        self.pass_time(hours=1)
        self.befalls([*((C, 500 + number) for number in range(60)), (U, 600)])
        gathers, count, due = self.alerts()[-1]
        self.assertEqual((gathers, count, due - self.clock.now()), ("grave", 61, timedelta(seconds=1)))
        self.pass_time(seconds=1)
        messages: list[Message] = []
        while told := self.deliver():
            messages += told
        self.assertIn("1 unwanted device and 60 contested addresses", messages[-1].subject)
        self.assertIn("unwanted", messages[-1].items[0])

    def test_a_flood_is_bounded_and_counted(self) -> None:
        """Ten thousand made-up devices: few are taken in, one alert of bounded size tells how many there were."""
        guard = FloodGuard()
        seen = [
            Observation(
                MacAddress(b"\x02\x11" + number.to_bytes(4)), IPv4Address(number + (10 << 24)), MONDAY, Source.ARP
            )
            for number in range(10_000)
        ]
        admitted = guard.admitted(seen, (), (), 0.0)
        self.assertEqual(len(admitted), DEVICES)
        passed = guard.passed_over()
        assert passed is not None
        self.assertEqual(passed.count, 10_000 - DEVICES)
        self.assertEqual(guard.admitted(admitted, {each.mac for each in admitted if each.mac}, (), 0.0), admitted)
        for number in range(0, 300, 30):
            self.befalls([(J, number + more) for more in range(30)])
        with self.roster.transaction() as db:
            note_passed_over(db, "owner", passed.count, passed.examples, self.clock.now())
        ((gathers, count, _),) = self.alerts()
        self.assertEqual((gathers, count), ("burst", 300))
        (alert,) = find_alerts(self.roster)
        self.assertEqual((len(alert.events), alert.passed_over), (EVENTS_KEPT, 10_000 - DEVICES))
        self.pass_time(minutes=6)
        (message,) = self.deliver()
        self.assertIn("300 newcomers", message.subject)
        self.assertIn(f"{10_000 - DEVICES} claims of new addresses", message.text)
        self.assertIn(f"not taken in (such as {passed.examples[0]}, ", message.text)
        self.assertLess(len(message.text), 8_000)

    def test_who_comes_back_is_no_flood(self) -> None:
        """After a power cut everybody returns at once, and a lease file may be long: all of it is taken in."""
        everybody = [
            Observation(MacAddress(number.to_bytes(6)), IPv4Address(number + 9999), MONDAY, Source.ARP)
            for number in range(1, 2001)
        ]
        fold(self.roster, everybody, (), MONDAY, silent=True)
        gone = {each.address for each in everybody if each.address}
        fold(self.roster, [], gone, MONDAY + timedelta(minutes=5))
        known, guard = KnownPairs(self.roster), FloodGuard()
        self.assertEqual(guard.admitted(everybody, known.macs, known, 0.0), everybody)
        strangers = [replace(each, mac=MacAddress(b"\2" + each.mac.octets[1:])) for each in everybody if each.mac]
        leases = [replace(each, recorded=True) for each in strangers]
        self.assertEqual(guard.admitted(leases, known.macs, known, 0.0), leases)
        self.assertEqual(len(guard.admitted(strangers, known.macs, known, 0.0)), DEVICES)

    def test_what_is_muted_is_recorded_and_not_told(self) -> None:
        """A device, a kind of event, or both; until the time is over."""
        self.happens(C)
        number = find_alerts(self.roster)[0].events[0].device_id
        until = MONDAY + timedelta(hours=1)
        mute(self.roster, number, None, MONDAY, until)
        mute(self.roster, None, J, MONDAY, until)
        self.settings = AlertSettings(cool_down_s=0)
        self.happens(C)
        self.happens(J, device=2)
        self.assertEqual(len(self.alerts()), 1)
        self.happens(C, device=2)
        self.pass_time(hours=2)
        self.happens(C)
        self.happens(J, device=2)
        self.assertEqual(len(self.alerts()), 4)


class Delivery(OutboxTest):
    def test_order_is_kept_and_the_message_stays_the_same(self) -> None:
        """A channel that fails tries the first one again, as it was worded, before it tells the second."""
        self.happens(J, device=1)
        self.pass_time(seconds=1)
        self.happens(C, device=2)
        (first,) = self.deliver(DeliveryFailed("down"))
        self.assertEqual(self.deliver(), [])
        self.pass_time(seconds=FIRST_WAIT_S * 1.2)
        self.assertEqual(self.deliver(), [first])
        (second,) = self.deliver()
        self.assertNotEqual(second.identity, first.identity)
        self.assertEqual([alert.attempts for alert in find_alerts(self.roster)], [2, 1])

    def test_what_is_added_while_a_message_is_being_worded_is_told(self) -> None:
        """Another process may put an event into a digest after it was found due, and before it is closed."""
        self.happens(J, device=1, learning=True)
        self.pass_time(days=1)

        def late(roster: Roster, alert: Alert) -> Alert:
            self.happens(J, device=2, learning=True)
            return close(roster, alert)

        with patch("scopion.alerts.deliver.close", late):
            (message,) = self.deliver()
        self.assertEqual(len(message.events), 2)

    def test_it_is_tried_for_days_and_then_stays_visible(self) -> None:
        """The waits grow to an hour; after five days it has failed, and can be tried again by hand."""
        self.happens(J)
        attempts = 0
        while count_alerts(self.roster).get(AlertState.FAILED, 0) == 0:
            attempts += len(self.deliver(DeliveryFailed("down")))
            self.pass_time(seconds=LONGEST_WAIT_S / 6)
            self.assertLess(self.clock.now(), MONDAY + timedelta(days=6))
        self.assertTrue(100 < attempts < 200, attempts)
        (alert,) = find_alerts(self.roster, states=[AlertState.FAILED])
        self.assertEqual(alert.problem, "down")
        self.assertEqual(retry(self.roster, [alert.id]), 1)
        self.assertEqual(len(self.deliver()), 1)
        self.assertEqual(count_alerts(self.roster), {AlertState.SENT: 1})

    def test_what_cannot_help_is_not_tried_again(self) -> None:
        """A refusal for good fails at once and lets the next one pass; so does a channel that is no more."""
        self.happens(J, device=1)
        self.pass_time(seconds=1)
        self.deliver(DeliveryFailed("no such mailbox", permanent=True))
        self.assertEqual(count_alerts(self.roster), {AlertState.FAILED: 1})
        self.happens(J, device=2)
        self.channels = ("other",)
        self.pass_time(seconds=1)
        self.assertEqual(self.deliver(), [])
        self.assertIn("no channel 'owner'", find_alerts(self.roster)[-1].problem)

    @given(st.integers(1, 500), st.integers(), st.floats(0, 1000))
    def test_waits_grow_within_bounds(self, attempts: int, seed: int, least: float) -> None:
        """Never sooner than asked for, never more than an hour and its jitter."""
        wait = wait_after(attempts, random.Random(seed), least).total_seconds()
        self.assertGreaterEqual(wait, max(least, FIRST_WAIT_S * 0.8) - 1e-5)
        self.assertLessEqual(wait, LONGEST_WAIT_S * 1.2)

    def test_a_clock_that_is_set_delays_nothing(self) -> None:
        """What waits for another try goes on waiting as long as it had to; a digest still comes within a day."""
        self.happens(J, device=1)
        self.happens(J, device=2, learning=True)
        self.pass_time(seconds=1)
        self.deliver(DeliveryFailed("down"))
        before = find_alerts(self.roster)
        year = timedelta(days=-365)
        move_with_the_clock(self.roster, year, self.clock.now() + year)
        after = find_alerts(self.roster)
        self.assertEqual(after[0].again, before[0].again + year)
        self.assertEqual(after[1].due, self.clock.now() + year + timedelta(days=1))


class Wording(OutboxTest):
    def said(self, *events: Event, about: About | None = None, gathers: str = "") -> Message:
        alert = Alert(
            1, "a" * 32, "owner", Severity.NORMAL, gathers, False, MONDAY, MONDAY, AlertState.WAITING, 0, MONDAY, None,
            "", events,
        )  # fmt: skip
        known = {event.device_id: about or About(None) for event in events}
        return worded(alert, known, Phrases("Kilnhaven", self.clock, self.vendors))

    def test_every_kind_has_its_words(self) -> None:
        """Whatever happens is said in sentences, with at least one command; the subject is short and says where."""
        for kind in EventKind:
            event = Event(
                kind, MONDAY, 1, MAC, ADDRESS, IPv4Address("192.0.2.9"), MONDAY - timedelta(hours=2), MAC,
                "192.0.2.0/24", "was",
            )  # fmt: skip
            for about in (About(None), About(None, subnet="workshop (192.0.2.0/24)", at_gateway=True)):
                message = self.said(event, about=about)
                self.assertLess(len(message.subject), 100, message.subject)
                self.assertTrue(message.subject[0].isupper() or message.subject[0].isdigit(), message.subject)
                self.assertTrue(message.paragraphs[0].endswith("."), message.paragraphs[0])
                self.assertGreaterEqual(len(message.actions), 1)
                self.assertTrue(all(action.command.startswith("scopion ") for action in message.actions))
                self.assertEqual(message_from_json(message_to_json(message)), message)

    @given(
        st.lists(st.sampled_from(EventKind), min_size=2, max_size=60), st.sampled_from(["burst", "night", "learning"])
    )
    @settings(max_examples=30, deadline=None)
    def test_several_are_one_message(self, kinds: Sequence[EventKind], gathers: str) -> None:
        """Every event is listed or counted."""
        events = [Event(kind, MONDAY, number, MAC, ADDRESS, name="x") for number, kind in enumerate(kinds)]
        message = self.said(*events, gathers=gathers)
        self.assertEqual(len(message.events) + message.more, len(kinds))
        self.assertLess(len(message.subject), 161)

    def test_minutes_are_not_said_to_be_at_once(self) -> None:
        """Two within a minute are at once; two with more between them have the minutes between which they were."""
        subjects = []
        for seconds in (50, 130):
            later = MONDAY + timedelta(seconds=seconds)
            two = [Event(J, at, number, MAC, ADDRESS) for number, at in enumerate((MONDAY, later))]
            subjects.append(self.said(*two, gathers="burst").subject)
        first, last = (self.clock.local(MONDAY + timedelta(seconds=seconds)) for seconds in (0, 130))
        self.assertTrue(subjects[0].endswith(" at once"), subjects)
        self.assertTrue(subjects[1].endswith(f" between {first:%H:%M} and {last:%H:%M}"), subjects)

    def test_a_shell_is_never_fooled(self) -> None:
        """A label is quoted in the commands that a message proposes."""
        from scopion.model.device import Device

        device = Device(1, Standing.NEW, MONDAY, label="till; rm -rf ~")
        message = self.said(Event(J, MONDAY, 1, MAC, ADDRESS), about=About(device))
        self.assertEqual(message.actions[0].command, "scopion show 'till; rm -rf ~'")
        self.assertEqual(replace(message, test=True).document()["form"], "alert/1")


if __name__ == "__main__":
    unittest.main()
