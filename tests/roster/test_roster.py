"""The roster: folding and the rule of absence, two processes at once, damage, and files that are not rosters."""

from __future__ import annotations

import multiprocessing
import sqlite3
import unittest
from collections.abc import Container, Sequence
from contextlib import closing, suppress
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv4Network
from multiprocessing.synchronize import Barrier
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.model.device import Device, EventKind
from scopion.model.errors import AmbiguousDevice, NotFound, StorageFailed
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source
from scopion.operations.scan.recognise_network import Belonging, recognise
from scopion.roster.folding.fold_observations import fold, note_own_adapters
from scopion.roster.folding.judge_absence import Silence
from scopion.roster.read_devices import all_devices
from scopion.roster.resolve import resolve
from scopion.roster.scans import KnownSubnet
from scopion.roster.store.open_roster import FILE, Roster
from scopion.roster.store.schema import VERSION
from scopion.roster.write_descriptions import set_description
from tests.support import NOON, FolderTest

MINUTE = timedelta(minutes=1)
EVERYWHERE: Container[IPv4Address] = [IPv4Address(f"192.0.2.{number}") for number in range(1, 255)]


def mac(number: int) -> MacAddress:
    return MacAddress(bytes([0x10, 0xC0, 0xDE, 0, number >> 8, number & 0xFF]))


def seen(number: int, address: int, at: datetime) -> Observation:
    return Observation(mac(number), IPv4Address(f"192.0.2.{address}"), at, Source.ARP)


class Folding(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.roster = Roster.open(self.folder)
        self.addCleanup(self.roster.close)
        self.now = NOON

    def scan(
        self, *pairs: tuple[int, int], asked_enough: Container[IPv4Address] = EVERYWHERE, silent: bool = False
    ) -> list[str]:
        """Fold one scan, a minute after the last; the events in short."""
        self.now += MINUTE
        observations = [seen(number, address, self.now) for number, address in pairs]
        events = fold(self.roster, observations, asked_enough, self.now, silent=silent)
        return [
            f"{event.kind} {event.mac.octets[-1] if event.mac else None} {event.address.packed[-1]}" for event in events
        ]

    def test_a_life(self) -> None:
        """Baseline silently; then joined, left, returned elsewhere, moved, each once."""
        self.assertEqual(self.scan((1, 11), (2, 12), silent=True), [])
        self.assertEqual(self.scan((1, 11), (2, 12)), [])
        self.assertEqual(self.scan((1, 11), (2, 12), (3, 13)), ["joined 3 13"])
        self.assertEqual(self.scan((1, 11), (3, 13)), ["left 2 12"])
        self.assertEqual(self.scan((1, 11), (3, 13)), [])
        self.assertEqual(self.scan((1, 11), (2, 22), (3, 13)), ["returned 2 22", "readdressed 2 22"])
        self.assertEqual(self.scan((1, 11), (2, 22), (3, 33)), ["readdressed 3 33"])
        rows = self.roster.db.execute("SELECT count(*) FROM event").fetchone()[0]
        self.assertEqual(rows, 5)  # what is announced is recorded, and the other way round

    def test_only_a_full_scan_makes_anyone_left(self) -> None:
        """An address that was not asked often enough says nothing, even if its device is missing."""
        self.scan((1, 11), (2, 12), silent=True)
        self.assertEqual(self.scan((1, 11), asked_enough=[]), [])
        self.assertEqual(self.scan((1, 11), asked_enough=[IPv4Address("192.0.2.11")]), [])
        self.assertEqual(self.scan((1, 11), asked_enough=[IPv4Address("192.0.2.12")]), ["left 2 12"])

    def test_a_part_scan_sees_the_move_and_a_full_one_tells_it(self) -> None:
        """Seen at a second address, an adapter has moved once its first one is known to be silent."""
        self.scan((1, 11), silent=True)
        self.assertEqual(self.scan((1, 15), asked_enough=[IPv4Address("192.0.2.15")]), [])
        self.assertEqual(self.scan((1, 15)), ["readdressed 1 15"])

    def test_a_question_judges_only_whom_it_can_find(self) -> None:
        """Who drops IP and was found by its frames is not made absent by echo; who was found by echo is; of the two
        claimants of one address a question that finds a single one makes neither absent.
        """
        echo = frozenset({Source.ECHO, Source.CONNECT})

        def ask(
            *pairs: tuple[int, int, Source], judges: Container[Source] | None = None, one: bool = False
        ) -> list[str]:
            self.now += MINUTE
            found = [Observation(mac(who), IPv4Address(f"192.0.2.{at}"), self.now, how) for who, at, how in pairs]
            silence = Silence(self.now, judges=judges, one_claimant=one)
            events = fold(self.roster, found, EVERYWHERE, self.now, silence=silence)
            return [f"{each.kind} {each.mac.octets[-1] if each.mac else None}" for each in events]

        ask((1, 11, Source.ARP), (2, 12, Source.ARP), (3, 13, Source.ECHO))
        self.assertEqual(ask(judges=echo), ["left 3"])
        self.assertEqual(ask((1, 11, Source.ECHO), judges=echo), [])
        self.assertEqual(ask(judges=echo), ["left 1"])
        self.assertEqual(ask((4, 12, Source.ARP), (2, 12, Source.ARP)), ["joined 4", "contested 4"])
        self.assertEqual(ask((4, 12, Source.NEIGHBOURS), one=True), [])
        self.assertEqual(ask(one=True), [])
        self.assertEqual(ask(), ["left 2", "left 4"])

    def test_a_slower_scan_does_not_undo_a_quicker_one(self) -> None:
        """A device that another process has seen since this scan began is not gone, though this scan missed it."""
        self.scan((1, 11), silent=True)
        began = self.now
        self.scan((1, 11), (2, 12))
        missed = fold(self.roster, [seen(1, 11, began)], EVERYWHERE, self.now, silence=Silence(began))
        self.assertEqual(missed, [])
        self.assertEqual(self.scan((1, 11)), ["left 2 12"])

    def test_what_is_told_late_brings_nobody_back(self) -> None:
        """Heard before it was found to be gone and folded after: its past grows, and the next frame is its return."""
        self.scan((1, 11), (2, 12), silent=True)
        heard = self.now
        self.assertEqual(self.scan((1, 11)), ["left 2 12"])
        self.assertEqual(fold(self.roster, [seen(2, 12, heard)], (), self.now), [])
        gone = next(each for each in all_devices(self.roster) if mac(2) in each.macs)
        self.assertEqual((gone.present, gone.last_seen), (False, heard))
        (back,) = fold(self.roster, [seen(2, 12, self.now + timedelta(seconds=1))], (), self.now)
        self.assertEqual((back.kind, back.away_since), (EventKind.RETURNED, heard))

    def test_two_addresses_are_no_move(self) -> None:
        """A second address that was always there does not become a move when the first one goes."""
        self.scan((1, 11), (1, 12), silent=True)
        self.assertEqual(self.scan((1, 12)), [])
        self.assertEqual(self.scan(), ["left 1 12"])

    def test_another_device_at_the_address_of_one_that_left(self) -> None:
        """An address that answers with another MAC does not keep its old holder present."""
        self.scan((1, 11), silent=True)
        self.assertEqual(self.scan((2, 11)), ["joined 2 11", "left 1 11"])

    def test_own_adapters_are_one_device(self) -> None:
        """This machine's adapters come together, and texts on another device are never dropped."""
        self.scan((1, 11), (2, 12), (3, 13), silent=True)
        labelled = next(each for each in all_devices(self.roster) if mac(3) in each.macs)
        set_description(self.roster, labelled, label="kept")
        note_own_adapters(self.roster, {mac(1): Medium.CABLE, mac(2): Medium.WIRELESS, mac(3): Medium.CABLE}, self.now)
        devices = all_devices(self.roster)
        own = [device for device in devices if device.own]
        self.assertEqual([device.label for device in own], ["kept"])
        self.assertEqual(set(own[0].macs), {mac(1), mac(2), mac(3)})

    @settings(max_examples=40, deadline=None)
    @given(st.lists(st.sets(st.tuples(st.integers(1, 5), st.integers(11, 16)), max_size=6), min_size=1, max_size=8))
    def test_any_history_stays_consistent(self, history: list[set[tuple[int, int]]]) -> None:
        """After every full scan exactly those seen are present, and events alternate between coming and going."""
        for table in ("event", "stay", "adapter", "device"):
            self.roster.db.execute(f"DELETE FROM {table}")
        here: dict[int, bool] = {}
        for pairs in history:
            told = self.scan(*sorted(pairs))
            for kind, number in ((EventKind(line.split()[0]), int(line.split()[1])) for line in told):
                if kind in (EventKind.JOINED, EventKind.RETURNED):
                    self.assertFalse(here.get(number, False))
                    self.assertEqual(kind is EventKind.JOINED, number not in here)
                    here[number] = True
                elif kind is EventKind.LEFT:
                    self.assertTrue(here[number])
                    here[number] = False
            present = {
                (adapter.mac.octets[-1], stay.address.packed[-1])
                for device in all_devices(self.roster)
                for adapter in device.adapters
                for stay in adapter.stays
                if stay.present
            }
            self.assertEqual(present, pairs)
            self.assertEqual({number for number, is_here in here.items() if is_here}, {number for number, _ in pairs})


class Meaning(FolderTest):
    def test_the_device_rule(self) -> None:
        """Label, MAC, address, words and beginnings find one device; several are named, none is refused by guess."""
        roster = Roster.open(self.folder)
        self.addCleanup(roster.close)
        fold(roster, [seen(1, 11, NOON), seen(2, 12, NOON), seen(0x102, 13, NOON)], EVERYWHERE, NOON, silent=True)
        note_own_adapters(roster, {mac(2): Medium.CABLE}, NOON)
        first, second, third = all_devices(roster)
        set_description(roster, first, label="Kiln controller")
        set_description(roster, third, label="Kiln camera")
        devices = all_devices(roster)

        def found(text: str) -> Device:
            return resolve(devices, text)

        for text in ("kiln controller", "Kiln CO", "192.0.2.11", "10-C0-DE-00-00-01"):
            self.assertEqual(found(text).id, first.id, text)
        self.assertEqual(found("this-machine").id, second.id)
        self.assertEqual(found("10:c0:de:00:01").id, third.id)
        with self.assertRaisesRegex(AmbiguousDevice, "Kiln controller.*Kiln camera"):
            found("kiln c")
        for absent in (7, 8):  # two that were at one address, one after the other, and are both away
            fold(roster, [seen(absent, 70, NOON)], [], NOON)
            fold(roster, [], EVERYWHERE, NOON)
        devices = all_devices(roster)
        with self.assertRaises(AmbiguousDevice):
            found("192.0.2.70")
        for text in ("gateway", "192.0.2.7", "nobody", "192.0.2.99", "10", ""):
            with self.subTest(text=text), self.assertRaises(NotFound):
                found(text)
        with self.assertRaisesRegex(NotFound, "did you mean 'Kiln camera'"):
            found("kiln camra")

    def test_recognising_the_site(self) -> None:
        """By subnet and gateway MAC; the same subnet behind another gateway is another network."""
        here, other = IPv4Network("192.0.2.0/24"), IPv4Network("198.51.100.0/24")
        known = [KnownSubnet(here, IPv4Address("192.0.2.1"), mac(1), NOON, True)]
        bare = [KnownSubnet(here, None, None, NOON, True)]
        for verdict, subnet, gateway, subnets, familiar in (
            (Belonging.FOUNDING, here, mac(1), [], 0),
            (Belonging.OURS, here, mac(1), known, 0),
            (Belonging.ELSEWHERE, here, mac(9), known, 0),
            (Belonging.ELSEWHERE, here, mac(9), known, 5),  # a replaced router: told, not believed
            (Belonging.OURS, here, None, known, 1),
            (Belonging.ELSEWHERE, here, None, known, 0),
            (Belonging.ELSEWHERE, other, mac(1), known, 3),
            (Belonging.OURS, here, None, bare, 0),
            (Belonging.ELSEWHERE, here, mac(9), bare, 0),
        ):
            with self.subTest(verdict=verdict, subnet=subnet, gateway=gateway, familiar=familiar):
                self.assertIs(recognise(subnet, gateway, subnets, familiar=familiar).verdict, verdict)
        self.assertIs(recognise(other, None, known, named=[other]).verdict, Belonging.OURS)


def _fold_many(folder: Path, first: int, count: int, at: datetime) -> None:
    """What one process of two does: open, fold, many times."""
    for number in range(first, first + count):
        roster = Roster.open(folder)
        fold(roster, [Observation(mac(number), IPv4Address(number), at, Source.ARP)], [], at)
        roster.close()


def _make(folders: Sequence[Path], start: Barrier) -> None:
    """What one process of several does: make the same rosters at the same moments."""
    for folder in folders:
        start.wait(30)
        Roster.open(folder).close()


class Files(FolderTest):
    def test_several_processes_make_it_at_once(self) -> None:
        """A roster that four processes open for the first time at the same moment is made once, and none fails."""
        context = multiprocessing.get_context("spawn")
        folders = [self.folder / str(number) for number in range(60)]
        start = context.Barrier(4)
        workers = [context.Process(target=_make, args=(folders, start)) for _ in range(4)]
        for worker in workers:
            worker.start()
        for worker in workers:
            worker.join(60)
        self.assertEqual([worker.exitcode for worker in workers], [0, 0, 0, 0])

    def test_two_processes_write_at_once(self) -> None:
        """Nothing is lost and neither fails when two fold at the same time, from a roster that is not there on."""
        context = multiprocessing.get_context("spawn")
        workers = [context.Process(target=_fold_many, args=(self.folder, first, 40, NOON)) for first in (1000, 2000)]
        for worker in workers:
            worker.start()
        for worker in workers:
            worker.join(60)
            self.assertEqual(worker.exitcode, 0)
        roster = Roster.open(self.folder)
        self.addCleanup(roster.close)
        self.assertEqual(len(all_devices(roster)), 80)
        self.assertEqual(roster.db.execute("SELECT count(*) FROM event WHERE kind = 'joined'").fetchone()[0], 80)

    def test_a_damaged_roster_is_moved_aside_whole(self) -> None:
        """Its bytes survive under the name that is told, and the new roster knows that memory was lost."""
        self._filled()
        path = self.folder / FILE
        damaged = bytearray(path.read_bytes())
        for at in range(4096, len(damaged), 512):
            damaged[at : at + 64] = b"\xa5" * 64
        path.write_bytes(damaged)
        roster = Roster.open(self.folder)
        self.addCleanup(roster.close)
        self.assertEqual(all_devices(roster), [])
        assert roster.memory_lost is not None
        self.assertEqual((self.folder / roster.memory_lost).read_bytes(), bytes(damaged))

    def test_what_is_not_a_roster(self) -> None:
        """Text is damage; another program's database and a newer roster are left alone, with the reason."""
        path = self.folder / FILE
        path.write_text("not a database at all, but long enough to be looked at " * 20)
        roster = Roster.open(self.folder)
        roster.close()
        self.assertIsNotNone(roster.path)
        for pragma, reason in (
            ("application_id = 77", "another program"),
            (f"user_version = {VERSION + 1}", "upgrade"),
        ):
            path.unlink()
            db = sqlite3.connect(path)
            db.execute("CREATE TABLE theirs (x)")
            db.execute(f"PRAGMA {pragma}")
            db.commit()
            db.close()
            before = path.read_bytes()
            with self.subTest(pragma=pragma), self.assertRaisesRegex(StorageFailed, reason):
                Roster.open(self.folder)
            self.assertEqual(path.read_bytes(), before)

    def test_reading_makes_nothing(self) -> None:
        """Where there is no roster, or one that is just being made, reading finds nothing and leaves no file."""
        with closing(Roster.open_for_reading(self.folder)) as empty:
            self.assertEqual(all_devices(empty), [])
        self.assertEqual(list(self.folder.iterdir()), [])
        (self.folder / FILE).touch()
        with closing(Roster.open_for_reading(self.folder)) as empty:
            self.assertEqual(all_devices(empty), [])
            with self.assertRaises(StorageFailed), empty.transaction() as db:
                db.execute("DELETE FROM device")
        self.assertEqual((self.folder / FILE).stat().st_size, 0)
        self._filled().close()
        roster = Roster.open_for_reading(self.folder)
        self.addCleanup(roster.close)
        self.assertEqual(len(all_devices(roster)), 2)
        with self.assertRaises(StorageFailed), roster.transaction() as db:
            db.execute("DELETE FROM device")

    def test_a_failed_transaction_leaves_nothing(self) -> None:
        """An error in the middle, even in a nested part, takes everything back."""
        roster = self._filled()
        with suppress(RuntimeError), roster.transaction():
            fold(roster, [seen(9, 19, NOON)], [], NOON)
            raise RuntimeError
        self.assertEqual(len(all_devices(roster)), 2)
        roster.close()

    def _filled(self, numbers: Sequence[int] = (1, 2)) -> Roster:
        roster = Roster.open(self.folder)
        fold(roster, [seen(number, 10 + number, NOON) for number in numbers], EVERYWHERE, NOON, silent=True)
        roster.db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        return roster


if __name__ == "__main__":
    unittest.main()
