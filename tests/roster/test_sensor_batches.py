"""Batches of sensors: nothing lost, nothing twice, the same whatever the order and however much was merged."""

from __future__ import annotations

import json
import random
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path
from typing import Any

from hypothesis import example, given, settings
from hypothesis import strategies as st

from scopion.model.batch import Batch, Folded, ScanFacts, SensorClocks, Sighting
from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, Trait, TraitKind
from scopion.model.targets import Targets
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.sensors.fold_batch import Taken, fold_batch, fold_kept
from scopion.operations.site.open_site import Site
from scopion.roster.places import name_home
from scopion.roster.read_devices import all_devices
from scopion.roster.sensors import folded_number, kept_forms, known_sensors
from scopion.roster.spool.spool import FILE, Limits, Spool
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import to_ms
from scopion.roster.upkeep.check_roster import unsound
from scopion.roster.write_descriptions import set_description
from scopion.watching.watch_memory import WatchMemory
from scopion.wire.sensor_documents import MAX_OCTETS, batch_from_json, batch_to_json
from tests.made_past import FixedClock
from tests.support import NOON, FolderTest

RANGE = IPv4Network("192.0.2.0/24")
SECOND, MINUTE = timedelta(seconds=1), timedelta(minutes=1)
BOOTED = NOON - timedelta(hours=5)
SENSORS = {"pit": "clay pit", "mill": "glaze mill"}
LATER = NOON + timedelta(days=1)


def mac(number: int) -> MacAddress:
    return MacAddress(bytes([0x10, 0xC0, 0xDE, 0, 0, number]))


def clocks_at(at: datetime, boot: str = "boot") -> SensorClocks:
    return SensorClocks(at, boot, (at - BOOTED).total_seconds())


class Step:
    """What a sensor takes in at once: what it saw, and perhaps a scan."""

    def __init__(
        self, number: int, seen: dict[int, tuple[int, int, int]], scans: bool, later: timedelta = 0 * SECOND
    ) -> None:
        self.at = NOON + number * MINUTE + later
        self.seen = []
        for address, (who, name, ago) in seen.items():
            at = self.at - (2 + (min(ago, 1) if scans else ago)) * SECOND
            traits = (Trait(TraitKind.NAME, f"name{name}", Source.MDNS),) if name else ()
            adapter = mac(who) if who else None
            self.seen.append(Observation(adapter, IPv4Address(f"192.0.2.{address}"), at, Source.ARP, traits=traits))
        self.scan = scan_at(self.at, len(seen)) if scans else None


def scan_at(at: datetime, answered: int) -> ScanFacts:
    return ScanFacts(
        0, at - 4 * SECOND, at, RANGE, Targets.of_subnet(RANGE), "eth0", "arp", 254, answered, 2, True, 3, 1.5,
        gateway=IPv4Address("192.0.2.1"), gateway_mac=mac(99), looking_since=NOON - timedelta(days=1),
    )  # fmt: skip


# By step, who is at which address - a number from 1 on, or 0 for a host without a MAC address - with a name, or 0 for
# none, and how many seconds earlier it was heard; and whether it scans. What answers a scan was seen while that ran.
STEPS = st.lists(
    st.tuples(
        st.dictionaries(
            st.integers(10, 13),
            st.tuples(st.integers(0, 4), st.sampled_from([0, 0, 0, 1, 2]), st.sampled_from([0, 0, 0, 1, 59, 61, 70])),
            max_size=4,
        ),
        st.sampled_from([True, True, True, False]),
    ),
    min_size=1,
    max_size=24,
)  # fmt: skip


@contextmanager
def opened(folder: Path, patience: float) -> Iterator[Site]:
    """A site that keeps a roster in memory, watched, with this patience."""
    (folder / "site.toml").write_text(f'place = "shop"\n[absence]\npatience_s = {patience}\n')
    site = Site(folder)
    site.__dict__["clock"] = FixedClock(LATER)
    site.watch_state = WatchMemory(FloodGuard())
    with fresh_roster(site):
        yield site


@contextmanager
def fresh_roster(site: Site) -> Iterator[None]:
    """Another roster for a site, in memory."""
    roster = Roster._in_memory(site.folder / "memory")
    roster.db.execute("PRAGMA query_only = OFF")
    site.__dict__["roster"] = roster
    name_home(roster, "shop")
    try:
        yield
    finally:
        roster.close()


def plain_batches(sensor: str, steps: Sequence[Step]) -> list[Batch]:
    """Each step in a batch of its own, as one process would fold it that hears everything."""
    made = []
    for number, step in enumerate(steps, 1):
        made.append(
            Batch(
                sensor, SENSORS[sensor], "plain", number, number - 1, clocks_at(step.at),
                sightings=tuple(Sighting(1, seen) for seen in step.seen),
                scans=(replace(step.scan, step=1),) if step.scan is not None else (),
            )
        )  # fmt: skip
    return made


def told(site: Site, place: str) -> dict[str, list[Any]]:
    """All that the roster has of a place; that a device joined or came is one thing, because it joins only once."""
    queries = {
        "stays": "SELECT mac, address, since, until, present, source, found FROM stay WHERE place = ?1 UNION ALL "
        "SELECT '', address, since, until, present, '', '' FROM unpaired WHERE place = ?1 ORDER BY 1, 2, 3",
        "events": "SELECT replace(kind, 'joined', 'returned'), at, mac, address, was_address, away_since, name, "
        "was_name FROM event WHERE place = ? ORDER BY at, 1, mac, address, name",
        "scans": "SELECT started, ended, answered, outcome FROM scan WHERE place = ? ORDER BY started",
        "subnets": "SELECT range, gateway_mac, baseline NOTNULL FROM subnet WHERE place = ?",
    }
    return {name: [tuple(row) for row in site.roster.db.execute(query, (place,))] for name, query in queries.items()}


def said(site: Site, place: str) -> list[Any]:
    """What devices said of themselves there, and from when to when."""
    query = "SELECT subject, value, first_seen, last_seen FROM trait WHERE place = ? ORDER BY 1, 2"
    rows = site.roster.db.execute(query, (place,))
    return [tuple(row) for row in rows]


class Merging(FolderTest):
    @given(STEPS, st.integers(0, 1 << 30), st.sampled_from([0, 60, 150, 300]))
    @settings(max_examples=120, deadline=None)
    @example(
        [({10: (1, 0, 0)}, True), *[({}, True)] * 6, ({11: (1, 0, 0)}, True), ({10: (1, 0, 0), 11: (1, 0, 0)}, True)],
        1,
        300,
    )
    @example(
        [({10: (1, 0, 0)}, True), ({10: (2, 0, 0)}, True), ({10: (1, 0, 0), 11: (2, 0, 0)}, False), ({}, True)], 2, 0
    )
    @example([({10: (1, 0, 0)}, True), ({10: (1, 0, 61)}, True), ({10: (1, 0, 0)}, True)], 3, 300)
    @example(  # heard while the scan ran by which it left, told after it, and heard again
        [({}, True), ({10: (1, 0, 0)}, True), *[({}, True)] * 5, ({11: (1, 0, 59)}, False), ({11: (1, 0, 0)}, False)],
        0,
        300,
    )
    @example(  # late at an address where a host without a MAC address answers then
        [
            ({10: (3, 0, 0)}, True), ({}, True), ({10: (3, 0, 0), 12: (3, 0, 59)}, False),
            ({10: (1, 0, 0), 12: (0, 0, 0)}, True),
        ],
        0,
        60,
    )  # fmt: skip
    @example(  # heard so and told twice, by the sweep and by who listens, and heard again
        [
            ({}, True), ({10: (1, 0, 0)}, True), *[({}, True)] * 5,
            ({11: (1, 0, 59)}, False), ({11: (1, 0, 119)}, False), ({11: (1, 0, 0)}, False),
        ],
        0,
        300,
    )  # fmt: skip
    def test_the_file_tells_what_happened_step_by_step(self, made: Any, seed: int, patience: float) -> None:
        """Whatever is merged in a sensor's file, closed at any moment, and told twice and late: it is folded to the
        same as each step by itself.
        """
        chance = random.Random(seed)
        steps = [Step(number, seen, scans) for number, (seen, scans) in enumerate(made)]
        with tempfile.TemporaryDirectory() as name, opened(Path(name), patience) as site:
            for batch in plain_batches("pit", steps):
                self.assertIs(fold_batch(site, batch).taken, Taken.FOLDED)
            contests = [_contested(site, step) for step in steps]
            wanted = [told(site, "clay pit"), said(site, "clay pit")]
            with fresh_roster(site), closing(Spool.open(Path(name), "pit", SENSORS["pit"])) as spool:
                spool.folded(Folded(spool.life, 0, patience or 0.001))
                for step, contest in zip(steps, contests, strict=True):
                    spool.note(step.seen, step.scan, clocks_at(step.at), apart=contest)
                    if chance.random() < 0.3:
                        spool.close_batch(clocks_at(step.at + SECOND))
                    if chance.random() < 0.2:
                        self.tell(site, spool, chance)
                spool.close_batch(clocks_at(steps[-1].at + MINUTE))
                self.tell(site, spool, None)
                self.assertEqual(spool.waiting().batches, 0)
                self.assertEqual([told(site, "clay pit"), said(site, "clay pit")], wanted)
                self.assertEqual(told(site, "shop")["stays"], [])
                self.assertEqual(unsound(site.roster, LATER), [])

    def tell(self, site: Site, spool: Spool, chance: random.Random | None) -> None:
        """Send what is there: some of it twice, some too soon, and perhaps without hearing that it was folded."""
        while True:
            sent = [octets for _, octets in spool.batches(spool.last_folded, 100)]
            if chance is not None:
                sent += chance.sample(sent, min(2, len(sent)))
                chance.shuffle(sent)
            for octets in sent:
                fold_batch(site, batch_from_json(octets))
            number = folded_number(site.roster, "pit", spool.life)
            if chance is not None and chance.random() < 0.5:
                return
            spool.folded(Folded(spool.life, number))
            if chance is not None or not sent:
                return


def _contested(site: Site, step: Step) -> bool:
    """Whether a contest was told in a step: then a sensor keeps it apart."""
    query = "SELECT 1 FROM event WHERE kind = 'contested' AND at = ?"
    return site.roster.db.execute(query, (to_ms(step.at - 2 * SECOND),)).fetchone() is not None


# Without hosts whose MAC address is not known: of those, the first of two places to be told counts as the first.
ADAPTERS = STEPS.map(lambda made: [({at: each for at, each in seen.items() if each[0]}, scans) for seen, scans in made])


class Order(FolderTest):
    @given(ADAPTERS, ADAPTERS, st.integers(0, 1 << 30))
    @settings(max_examples=30, deadline=None)
    def test_two_sensors_in_any_order(self, pit: Any, mill: Any, seed: int) -> None:
        """Whichever sensor is heard first, and however often: both places are as if one process had heard everything in
        its time, and each device joined when it was really seen first.
        """
        made = {"pit": pit, "mill": mill}
        batches = {
            name: plain_batches(name, [Step(n, seen, scans, later) for n, (seen, scans) in enumerate(made[name])])
            for name, later in (("pit", 0 * SECOND), ("mill", 7 * SECOND))
        }
        in_time = sorted([*batches["pit"], *batches["mill"]], key=lambda batch: (batch.clocks.at, batch.sensor))
        chance = random.Random(seed)
        shuffled = in_time * 2
        chance.shuffle(shuffled)
        with tempfile.TemporaryDirectory() as name, opened(Path(name), 150) as site:
            for batch in in_time:
                fold_batch(site, batch)
            wanted = [told(site, place) for place in SENSORS.values()], first_seen(site)
            with fresh_roster(site):
                while any(folded_number(site.roster, each, "plain") < len(made[each]) for each in made):
                    for batch in shuffled:
                        fold_batch(site, batch)
                self.assertEqual(([told(site, place) for place in SENSORS.values()], first_seen(site)), wanted)
                self.assertEqual(unsound(site.roster, LATER), [])


def first_seen(site: Site) -> list[Any]:
    """When each adapter was seen first, and joined: that is told of one place only."""
    query = (
        "SELECT mac, first_seen, last_seen, (SELECT group_concat(at) FROM event WHERE event.mac = adapter.mac "
        "AND kind = 'joined') FROM adapter ORDER BY mac"
    )
    return [tuple(row) for row in site.roster.db.execute(query)]


class TheFile(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.spool = Spool.open(self.folder, "pit", SENSORS["pit"], "1.0")
        self.addCleanup(lambda: self.spool.close())

    def note(self, number: int, *, name: int = 0, apart: bool = False) -> Step:
        step = Step(number, {10: (1, name, 0), 11: (2, 0, 0)}, True)
        self.spool.note(step.seen, step.scan, clocks_at(step.at), apart=apart)
        return step

    def test_a_day_takes_little_more_room_than_an_hour(self) -> None:
        """Devices that stay are two rows, however long; each scan is a row, and all of it fits into a batch."""
        for number in range(1440):
            self.note(number)
        self.assertEqual(self.spool.waiting().rows, 2 + 1440)
        self.spool.close_batch(clocks_at(NOON + 1440 * MINUTE), [mac(7)])
        (sent, *more) = [batch_from_json(octets) for _, octets in self.spool.batches(0, 10)]
        (first, second) = sent.sightings
        self.assertEqual((first.seen.began, first.seen.at), (NOON - 2 * SECOND, NOON + 1439 * MINUTE - 2 * SECOND))
        self.assertEqual((sent.own, sent.program, second.seen.mac), ((mac(7),), "1.0", mac(2)))
        self.assertEqual(sum(len(each.scans) for each in (sent, *more)), 1440)

    def test_another_start_and_a_clock_that_is_set(self) -> None:
        """Of another start of the machine nothing is merged, and each batch has the clocks of its own start; a clock
        that is set meanwhile moves nothing that was seen before.
        """
        self.note(0)
        later = NOON + 10 * MINUTE
        self.spool.note(Step(10, {10: (1, 0, 0)}, False).seen, None, SensorClocks(later, "other", 60.0))
        self.spool.close_batch(SensorClocks(later + timedelta(days=3), "other", 61.0))
        first, second = (batch_from_json(octets) for _, octets in self.spool.batches(0, 10))
        self.assertEqual((first.clocks.boot, first.clocks.at), ("boot", NOON))
        (again,) = second.sightings
        self.assertEqual(second.clocks.at - again.seen.at, 3 * SECOND)

    def test_what_is_folded_goes_and_what_is_not_stays(self) -> None:
        """A note of another life, or of an earlier number, drops nothing; an old copy of a file begins another life."""
        for number in range(3):
            self.note(number, apart=True)
        life = self.spool.life
        self.assertFalse(self.spool.folded(Folded("another", 3)))
        self.assertTrue(self.spool.folded(Folded(life, 1, 60.0)))
        self.assertTrue(self.spool.folded(Folded(life, 0)))
        self.assertEqual([number for number, _ in self.spool.batches(0, 10)], [2, 3])
        self.assertEqual(batch_from_json(self.spool.batches(0, 10)[0][1]).after, 1)
        self.assertEqual((self.spool.life, self.spool.last_folded), (life, 1))
        self.assertFalse(self.spool.folded(Folded(life, 9)))
        self.assertNotEqual(self.spool.life, life)

    def test_too_little_room(self) -> None:
        """What devices said goes first, then the oldest batches; the next batch tells what was dropped before it."""
        for number in range(6):
            self.note(number, name=number + 1, apart=True)
        clocks = clocks_at(NOON + 7 * MINUTE)
        self.assertEqual(self.spool.bound(Limits(), clocks), {})
        self.assertEqual(self.spool.bound(Limits(days=3.5 / 1440), clocks), {"stays": 4, "sightings": 4, "scans": 4})
        sent = batch_from_json(self.spool.batches(0, 10)[0][1])
        self.assertEqual((sent.number, sent.after, sent.dropped), (5, 0, {"stays": 4, "sightings": 4, "scans": 4}))
        dropped = self.spool.bound(Limits(octets=1), clocks)
        self.assertEqual(dropped, {"sightings": 2, "stays": 2, "scans": 2})
        self.assertEqual(self.spool.batches(0, 10), [])
        self.note(8, apart=True)
        (sent,) = (batch_from_json(octets) for _, octets in self.spool.batches(0, 10))
        self.assertEqual((sent.number, sent.dropped), (7, {"stays": 6, "sightings": 6, "scans": 6}))

    def test_a_long_time_without_a_line(self) -> None:
        """What gathers while nothing can be sent becomes parts of a day, bounded like the rest; losses are told."""
        for number in range(0, 3 * 1440, 10):
            self.note(number)
            if number % 1440 == 0:
                self.spool.bound(Limits(), clocks_at(NOON + number * MINUTE))
        self.assertEqual(self.spool.closed, 1)
        clocks = clocks_at(NOON + 3 * 1440 * MINUTE)
        dropped = self.spool.bound(Limits(octets=50_000), clocks)
        self.assertGreater(dropped["scans"], 100)
        self.assertLess(self.spool._octets(), 50_001)
        self.assertEqual(self.spool.waiting().rows, 0)
        self.note(3 * 1440 + 1, apart=True)
        sent = [batch_from_json(octets) for _, octets in self.spool.batches(0, 10)]
        self.assertEqual(sum(each.dropped.get("scans", 0) for each in sent), dropped["scans"])

    def test_a_damaged_file_begins_again(self) -> None:
        """A sensor whose file is damaged goes on with a new one, of another life, as does one of another version."""
        self.note(0)
        life = self.spool.life
        self.spool.close()
        self.spool = Spool.open(self.folder, "pit", SENSORS["pit"])
        self.assertEqual(self.spool.life, life)
        self.spool.close()
        (self.folder / FILE).write_bytes(b"no database" * 1000)
        self.spool = Spool.open(self.folder, "pit", SENSORS["pit"])
        self.assertNotEqual(self.spool.life, life)
        self.assertEqual((self.spool.waiting().rows, (self.folder / FILE).stat().st_mode & 0o077), (0, 0))


class Documents(FolderTest):
    @given(STEPS, st.data())
    @settings(max_examples=60, deadline=None)
    def test_what_was_sent_is_what_is_read(self, made: Any, data: st.DataObject) -> None:
        """A batch comes back as it was; one that is cut, or changed anywhere, is refused or another batch, no crash."""
        steps = [Step(number, seen, scans) for number, (seen, scans) in enumerate(made)]
        sightings = tuple(
            Sighting(n, replace(each, since=each.at)) for n, step in enumerate(steps) for each in step.seen
        )
        scans = tuple(replace(step.scan, step=n) for n, step in enumerate(steps) if step.scan is not None)
        batch = Batch(
            "pit",
            "clay pit",
            "life",
            7,
            3,
            clocks_at(NOON + 30 * MINUTE),
            "1",
            sightings,
            scans,
            (),
            (mac(1),),
            {"scans": 2},
        )
        octets = batch_to_json(batch)
        read = batch_from_json(octets)
        self.assertEqual({*read.sightings}, {*sightings})
        self.assertEqual(replace(read, sightings=()), replace(batch, sightings=()))
        at = data.draw(st.integers(0, len(octets) - 1))
        for broken in (octets[:at], octets[:at] + bytes([data.draw(st.integers(0, 255))]) + octets[at + 1 :]):
            try:
                batch_from_json(broken)
            except MalformedFrame:
                continue
            self.assertNotEqual(broken, octets[:at])

    def test_a_later_version_is_kept_and_not_guessed(self) -> None:
        """A part of an unknown form is kept as it came, within a limit; the rest is folded."""
        whole = json.loads(batch_to_json(plain_batches("pit", [Step(0, {10: (1, 0, 0)}, True)])[0]))
        whole["documents"] += [{"form": "observation/2", "mac": "not as now", "step": 1}] * 1100
        with opened(self.folder, 0) as site:
            taken = fold_batch(site, batch_from_json(json.dumps(whole).encode()))
            self.assertEqual((taken.taken, taken.unread), (Taken.FOLDED, 100))
            self.assertEqual(kept_forms(site.roster), {"pit": {"observation/2": 1000}})
            (kept,) = site.roster.db.execute("SELECT DISTINCT document FROM kept_document").fetchall()
            self.assertEqual(json.loads(kept[0])["mac"], "not as now")
            (sensor,) = known_sensors(site.roster)
            self.assertEqual((sensor.place, sensor.told), ("clay pit", NOON))

    def test_what_was_kept_is_folded_once_it_is_understood(self) -> None:
        """By the version that knows its form, as the sensor's clock was then; a part that is wrong says nothing."""
        whole = json.loads(batch_to_json(plain_batches("pit", [Step(0, {10: (1, 0, 0)}, True)])[0]))
        (seen,) = [each for each in whole["documents"] if each["form"] == "seen/1"]
        told_later = {**seen, "form": "seen/2", "rows": [[1, str(mac(3)), "192.0.2.13", 3000, 2000, "arp"]]}
        whole["documents"] += [told_later, {**told_later, "rows": [["x"]]}]
        with opened(self.folder, 0) as site:
            fold_batch(site, batch_from_json(json.dumps(whole).encode()), by=-MINUTE)
            self.assertEqual(fold_kept(site), 0)
            db = site.roster.db
            db.execute("UPDATE kept_document SET form = 'seen/1', document = replace(document, 'seen/2', 'seen/1')")
            self.assertEqual((fold_kept(site), fold_kept(site), kept_forms(site.roster)), (1, 0, {}))
            (stay,) = [each for each in told(site, "clay pit")["stays"] if each[0] == str(mac(3))]
            self.assertEqual(stay[1:4], ("192.0.2.13", *(to_ms(NOON - MINUTE - each * SECOND) for each in (3, 2))))
            self.assertEqual(unsound(site.roster, LATER), [])

    def test_a_gateway_that_misses_a_scan(self) -> None:
        """The sensor is in its place all the same: what answers all scans of a batch is in it once only."""
        steps = [Step(number, {10: (1, 0, 0), 11: (2, 0, 0)}, True) for number in range(3)]
        with opened(self.folder, 0) as site, closing(Spool.open(self.folder, "pit", SENSORS["pit"])) as spool:
            for number, step in enumerate(steps):
                assert step.scan is not None
                scan = step.scan if number != 2 else replace(step.scan, gateway_mac=None)
                spool.note(step.seen, scan, clocks_at(step.at))
                if number != 1:
                    spool.close_batch(clocks_at(step.at + SECOND))
            taken = [fold_batch(site, batch_from_json(octets)) for _, octets in spool.batches(0, 10)]
            self.assertEqual([each.elsewhere for each in taken], ["", ""])
            self.assertEqual(len(told(site, "clay pit")["scans"]), 3)

    def test_the_sensors_own_machine(self) -> None:
        """Its adapters are one device with its name, unless people said otherwise; none of another place."""
        steps = [Step(0, {10: (1, 0, 0), 11: (2, 0, 0), 12: (3, 0, 0)}, True)]
        (batch,) = plain_batches("pit", steps)
        (elsewhere,) = plain_batches("mill", [Step(0, {13: (4, 0, 0)}, True)])
        with opened(self.folder, 0) as site:
            for number, own in enumerate(((), (mac(1), mac(2), mac(4))), 1):
                fold_batch(site, elsewhere)
                fold_batch(site, replace(batch, number=number, after=number - 1, own=own))
            found = {device.label: device.macs for device in all_devices(site.roster)}
            self.assertEqual(found["pit"], (mac(1), mac(2)))
            self.assertEqual(len(all_devices(site.roster)), 3)
            (other,) = [each for each in all_devices(site.roster) if each.macs == (mac(3),)]
            set_description(site.roster, other, label="lamp")
            fold_batch(site, replace(batch, number=3, after=2, own=(mac(1), mac(3))))
            self.assertEqual(next(each.macs for each in all_devices(site.roster) if each.label == "lamp"), (mac(3),))

    def test_what_no_sensor_sends(self) -> None:
        """Each of these is refused as a whole: another version, what is too large or too deep, lies about time."""
        good = json.loads(batch_to_json(plain_batches("pit", [Step(0, {10: (1, 1, 0), 11: (2, 0, 0)}, True)])[0]))
        batch_from_json(json.dumps(good).encode())
        said, seen, scan = good["documents"]
        wrong: list[dict[str, Any]] = [
            {"form": "batch/2"}, {"number": 0}, {"after": 1}, {"place": "a/b"}, {"place": ""}, {"life": ""},
            {"at": "2026-09-14T12:00:00"}, {"seconds": -1}, {"own": ["x"]}, {"dropped": {"scans": -1}},
            {"documents": {}}, {"documents": [["x"]]},
            {"documents": [{**said, "at": "2026-09-14T13:00:00Z"}]}, {"documents": [{**said, "recorded": True}]},
            {"documents": [{**seen, "rows": [[1, "10:c0:de:00:00:01", "192.0.2.1", 1, 2, "arp"]]}]},
            {"documents": [{**seen, "rows": [[1, "10:c0:de:00:00:01", "192.0.2.1", 1e9, 2, "arp"]]}]},
            {"documents": [{**scan, "targets": "198.51.100.0/24"}]},
            {"documents": [{**scan, "ended": scan["began"][:-5]}]}, {"documents": [{**scan, "times": -3}]},
        ]  # fmt: skip
        for changed in wrong:
            with self.subTest(changed=changed), self.assertRaises(MalformedFrame):
                batch_from_json(json.dumps(good | changed).encode())
        for octets in (b"", b"[]", b'"x"', b"{" * 900, b'{"a":' * 900 + b"1" + b"}" * 900, b"x" * (MAX_OCTETS + 1)):
            with self.subTest(octets=octets[:20]), self.assertRaises(MalformedFrame):
                batch_from_json(octets)
        deep: Any = good
        for _ in range(30):
            deep = {"form": "batch/1", "documents": [deep]}
        with self.assertRaises(MalformedFrame):
            batch_from_json(json.dumps(deep).encode())
