"""What people change and take back: undo restores the state before, joining splits without loss, the later is told."""

from __future__ import annotations

import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing, suppress
from datetime import date, timedelta
from ipaddress import IPv4Address
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.model.device import Standing
from scopion.model.errors import ChangedMeanwhile, Refused, ScopionError
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, Trait, TraitKind
from scopion.operations.begin.play_demo import begin_story
from scopion.operations.devices.list_devices import devices
from scopion.operations.edit.edit_devices import (
    Mark,
    forget_devices,
    label_device,
    mark_devices,
    same_devices,
    split_device,
)
from scopion.operations.edit.undo_change import changes_made, undo
from scopion.operations.exchange.import_records import fold_records, read_given
from scopion.operations.exchange.read_input import read_input
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_entries import drop_from_lists, put_on_list
from scopion.roster.folding.fold_observations import fold
from scopion.roster.wifi.lists import ListMode
from tests.support import FolderTest, ProgramTest

RELATIONS = ("device", "adapter", "unpaired", "stay", "trait", "event", "network", "entry")
MACS = [MacAddress(bytes([0x10, 0xC0, 0xDE, 0, 0, number])) for number in range(1, 6)]
EVERYWHERE = [IPv4Address(f"192.0.2.{number}") for number in range(1, 255)]
WORDS = st.sampled_from(["till", "kiln", "", "lamp"])
Doing = Callable[[Site], object]


def state(site: Site) -> dict[str, list[tuple[Any, ...]]]:
    """All that people and scans have said; the revision only counts changes."""
    found = {}
    for relation in RELATIONS:
        names = [row["name"] for row in site.roster.db.execute(f"PRAGMA table_info({relation})")]
        kept = ", ".join(name for name in names if name != "revision")
        found[relation] = sorted(
            (tuple(row) for row in site.roster.db.execute(f"SELECT {kept} FROM {relation}")), key=repr
        )
    return found


def texts() -> st.SearchStrategy[Doing]:
    return st.builds(
        lambda which, label, owner: lambda site: label_device(site, str(which), label, owner=owner),
        st.sampled_from(MACS), WORDS, WORDS,
    )  # fmt: skip


def marks() -> st.SearchStrategy[Doing]:
    return st.builds(
        lambda which, standing: lambda site: mark_devices(site, [str(which)], Mark(standing, because="it is so")),
        st.sampled_from(MACS), st.sampled_from(list(Standing)),
    )  # fmt: skip


def joins() -> st.SearchStrategy[Doing]:
    return st.builds(
        lambda first, second: lambda site: same_devices(site, [str(first), str(second)]),
        st.sampled_from(MACS), st.sampled_from(MACS),
    )  # fmt: skip


def others() -> st.SearchStrategy[Doing]:
    mac = st.sampled_from(MACS).map(str)
    return st.one_of(
        mac.map(lambda which: lambda site: forget_devices(site, [which])),
        mac.map(lambda which: lambda site: put_on_list(site, ["Kilnhaven"], ListMode.DENY, [which])),
        mac.map(lambda which: lambda site: drop_from_lists(site, "Kilnhaven", [which])),
    )


class TakingBack(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self._fill()

    def _fill(self) -> None:
        shutil.rmtree(self.folder / "site", ignore_errors=True)
        begin_story(self.folder / "site")
        self.site = Site(self.folder / "site")
        self.addCleanup(self.site.close)
        at = self.site.clock.now()
        self.now = at
        self.scan(*range(5))

    def scan(self, *numbers: int) -> None:
        """Those are here, everybody else is not; each gives a name."""
        self.now += timedelta(hours=1)
        seen = [
            Observation(MACS[number], IPv4Address(f"192.0.2.{number + 50}"), self.now, Source.ARP,
                        traits=(Trait(TraitKind.NAME, f"thing-{number}", Source.DHCP),))
            for number in numbers
        ]  # fmt: skip
        fold(self.site.roster, seen, EVERYWHERE, self.now)

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.one_of(texts(), marks(), joins(), others()), min_size=1, max_size=7))
    def test_undo_returns_the_state_before(self, doings: list[Doing]) -> None:
        """Whatever was done, taking the changes back one by one passes through every earlier state, the other way."""
        self._fill()
        states = [state(self.site)]
        for doing in doings:
            made = len(changes_made(self.site, 100))
            try:
                doing(self.site)
            except ScopionError:
                self.assertEqual(state(self.site), states[-1])  # refused: nothing was changed
            if len(changes_made(self.site, 100)) > made:
                states.append(state(self.site))
        self.assertEqual(state(self.site), states[-1])
        for expected in reversed(states[:-1]):
            undo(self.site)
            self.assertEqual(state(self.site), expected)
        with self.assertRaises(ScopionError):
            undo(self.site)

    @settings(max_examples=40, deadline=None)
    @given(st.lists(st.one_of(texts(), marks(), others()), max_size=4), st.permutations(MACS), st.integers(2, 4))
    def test_joined_then_split_is_the_identity(self, doings: list[Doing], macs: list[MacAddress], count: int) -> None:
        """Whatever was said of them, two or more that are joined and split again are as they were."""
        self._fill()
        for doing in doings:
            with suppress(ScopionError):
                doing(self.site)
        before = state(self.site)
        there = [str(mac) for mac in macs if any(mac in device.macs for device in devices(self.site))][:count]
        if len(there) > 1:
            same_devices(self.site, there)
            self.assertNotEqual(state(self.site), before)
            split_device(self.site, there[-1])
        self.assertEqual(state(self.site), before)

    def test_an_undo_is_taken_back_by_its_number(self) -> None:
        """Forgetting, bringing back and forgetting again."""
        with_all = state(self.site)
        forget_devices(self.site, ["192.0.2.50"])
        without = state(self.site)
        self.assertNotEqual(without, with_all)
        undo(self.site)
        self.assertEqual(state(self.site), with_all)
        undo(self.site, changes_made(self.site, 1)[0].id)
        self.assertEqual(state(self.site), without)

    def test_joined_and_split_keeps_what_came_in_between(self) -> None:
        """Split again, each has its own past, and what was said and seen since is not lost."""
        label_device(self.site, str(MACS[1]), "old phone", owner="the apprentice")
        mark_devices(self.site, [str(MACS[1])], Mark(Standing.KNOWN, because="hers"))
        before = {device.id: (device.label, device.macs) for device in devices(self.site)}
        _, joined = same_devices(self.site, [str(MACS[0]), str(MACS[1])])
        self.assertEqual(
            (joined.label, joined.owner, joined.standing, joined.because),
            ("old phone", "the apprentice", Standing.KNOWN, "hers"),
        )
        label_device(self.site, str(MACS[0]), place="shelf")
        self.scan(0)  # the second one leaves meanwhile
        left = self.site.roster.db.execute("SELECT device FROM event WHERE kind = 'left' AND mac = ?", (str(MACS[1]),))
        self.assertEqual([row[0] for row in left], [joined.id])

        split_device(self.site, "old phone")
        after = {device.id: (device.label, device.macs) for device in devices(self.site)}
        self.assertEqual(after, before)
        first, second = (next(each for each in devices(self.site) if MACS[number] in each.macs) for number in (0, 1))
        self.assertEqual(
            (first.place, first.standing, second.owner, second.present),
            ("shelf", Standing.NEW, "the apprentice", False),
        )
        left = self.site.roster.db.execute("SELECT device FROM event WHERE kind = 'left' AND mac = ?", (str(MACS[1]),))
        self.assertEqual([row[0] for row in left], [second.id])

    def test_one_who_was_forgotten_and_came_again_gets_its_past_back(self) -> None:
        """Scans go on after a slip; undo then joins what came since with what was."""
        label_device(self.site, str(MACS[2]), "lamp")
        first_seen = next(device.first_seen for device in devices(self.site) if device.label == "lamp")
        forget_devices(self.site, ["lamp"])
        self.scan(*range(5))
        again = next(device for device in devices(self.site) if MACS[2] in device.macs)
        self.assertEqual(again.label, "")
        undo(self.site)
        restored = [device for device in devices(self.site) if MACS[2] in device.macs]
        self.assertEqual(
            [(device.label, device.first_seen, device.present) for device in restored], [("lamp", first_seen, True)]
        )
        self.assertEqual(len(devices(self.site)), 5)
        self.assertEqual(self.site.roster.db.execute("PRAGMA foreign_key_check").fetchall(), [])

    def test_an_import_is_taken_back_but_for_who_came_since(self) -> None:
        """What only a record told goes again; an adapter that a scan has seen meanwhile stays."""
        before = state(self.site)
        other = MacAddress(bytes([0x10, 0xC0, 0xDE, 0, 0, 9]))
        listing = self.folder / "clients.txt"
        listing.write_text(
            f"192.0.2.58 {other} lamp\n192.0.2.54 {MACS[4]} thing\n192.0.2.59 10:c0:de:00:00:0a kettle\n"
        )
        fold_records(self.site, read_given(self.site, read_input(str(listing))))
        self.assertEqual(len(devices(self.site)), 7)
        undo(self.site)
        self.assertEqual(state(self.site), before)
        fold_records(self.site, read_given(self.site, read_input(str(listing))))
        self.now = self.site.clock.now() + timedelta(hours=3)
        fold(self.site.roster, [Observation(other, IPv4Address("192.0.2.58"), self.now, Source.ARP)], (), self.now)
        undo(self.site)
        self.assertEqual({mac for device in devices(self.site) for mac in device.macs}, {*MACS, other})

    def test_never_over_what_was_changed_since(self) -> None:
        """An older change is refused while a later one stands on it; with keep-later the rest goes back."""
        label_device(self.site, str(MACS[0]), "till", owner="the shop")
        label_device(self.site, str(MACS[0]), "old till")
        number = changes_made(self.site, 2)[1].id
        with self.assertRaisesRegex(Refused, "changed again since"):
            undo(self.site, number)
        undo(self.site, number, keep_later=True)
        kept = next(device for device in devices(self.site) if MACS[0] in device.macs)
        self.assertEqual((kept.label, kept.owner), ("old till", ""))

    def test_a_label_that_another_has_since_stays_there(self) -> None:
        """Bringing back a device whose label was given away is refused, or done without the label."""
        label_device(self.site, str(MACS[0]), "till", owner="the shop")
        forget_devices(self.site, ["till"])
        label_device(self.site, str(MACS[1]), "Till")
        number = changes_made(self.site, 2)[1].id
        with self.assertRaisesRegex(Refused, "another device now has the label 'till'"):
            undo(self.site, number)
        undo(self.site, number, keep_later=True)
        labels = {device.macs[0]: (device.label, device.owner) for device in devices(self.site)}
        self.assertEqual((labels[MACS[0]], labels[MACS[1]]), (("", "the shop"), ("Till", "")))

    def test_the_later_of_two_is_told(self) -> None:
        """Who has looked at an older state of a device does not overwrite what another has said since."""
        looked_at = next(device for device in devices(self.site) if MACS[0] in device.macs)
        label_device(self.site, str(MACS[0]), "till")
        with self.assertRaisesRegex(ChangedMeanwhile, "it is now: new, label 'till'"):
            mark_devices(self.site, [looked_at], Mark(Standing.UNWANTED))
        forget_devices(self.site, ["till"])
        with self.assertRaisesRegex(ChangedMeanwhile, "is no longer there"):
            label_device(self.site, looked_at, "kiln")

    def test_a_guest_ends_by_itself(self) -> None:
        """After the last day, who is still here is told once, and again only if made a guest again."""
        today = self.site.clock.local(self.now).date()
        mark_devices(self.site, [str(MACS[3])], Mark(Standing.GUEST, until=today))
        told = []
        for days in (0, 1, 1, 2):
            self.now += timedelta(minutes=1)
            events = fold(self.site.roster, [], (), self.now + timedelta(days=days), today=today + timedelta(days=days))
            told.append([str(event.kind) for event in events])
        self.assertEqual(told, [[], ["guest-overstayed"], [], []])
        with self.assertRaisesRegex(ScopionError, "is over"):
            mark_devices(self.site, [str(MACS[3])], Mark(Standing.GUEST, until=date(2026, 1, 1)))


class Undoing(ProgramTest):
    def test_rows_that_no_change_has_written(self) -> None:
        """They go into statements: only relations, columns and values that a change can have, or it is damaged."""
        self.begin()
        self.run_ok("scan", "--no-names")
        self.run_ok("label", "192.0.2.50", "till")
        path = self.site / "roster.sqlite"
        with closing(sqlite3.connect(path)) as db:
            db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        sound = path.read_bytes()
        for damage, said in (
            ("relation = 'meta'", "'meta' is nothing that a change touches"),
            ("relation = X'FF'", r"b'\xff' is nothing that a change touches"),
            ("after = json_remove(after, '$.note')", "it has other columns before and after"),
            ("before = NULL, after = json_insert(after, '$.\"id) --\"', 1)", "'id) --' is not a column of device"),
            ("before = NULL, after = json_set(after, '$.standing', 'king')", "'king' is not a known standing"),
            ("before = NULL, after = json_set(after, '$.essential', 2)", "2 is not a value that this column can hold"),
            ("before = NULL, after = json_remove(after, '$.id')", "it has no id"),
            ("before = NULL, after = '[]'", "its JSON cannot be read"),
            ("before = NULL, after = NULL", "it was not there, and is not there"),
        ):
            with self.subTest(damage), closing(sqlite3.connect(path)) as db:
                db.execute(f"UPDATE change_row SET {damage} WHERE relation = 'device'")
                db.commit()
                self.assertIn(said, self.refused(1, "undo", "--yes"))
                checked = self.run_program("roster", "check")
                self.assertEqual(checked.returncode, 3)
                self.assertIn(f"what a change did: row 1 of change 1: {said}", checked.stderr)
            for tail in ("-wal", "-shm"):
                path.with_name(path.name + tail).unlink(missing_ok=True)
            path.write_bytes(sound)
        self.run_ok("undo", "--yes")

    def test_what_it_shows_and_does(self) -> None:
        """Undo names what it would take back, asks, and refuses to lock this machine out by the back door."""
        self.begin()
        self.run_ok("scan", "--no-names")
        self.run_ok("label", "192.0.2.50", "till", "--owner", "the shop")
        self.run_ok("mark", "till", "guest", "--until", "friday", "--because", "on loan")
        listed = self.run_json("undo", "--list")
        self.assertEqual(
            [row["says"] for row in listed], ["till marked guest", "54:b1:a3:7c:00:50: label 'till', owner 'the shop'"]
        )
        self.run_ok("undo", "--yes")
        self.run_ok("undo", "--yes")
        till = next(row for row in self.run_json("devices") if "192.0.2.50" in row["addresses"])
        self.assertEqual((till["name"], till["owner"], till["standing"]), (None, None, "new"))
        self.assertIn("nothing to take back", self.refused(3, "undo", "--yes"))
        self.assertIn("there is no change 99", self.refused(3, "undo", "99", "--yes"))

        self.run_ok("wifi", "allow", "Kilnhaven", "192.0.2.61")
        self.run_ok("wifi", "allow", "Kilnhaven", "this-machine")
        self.run_ok("wifi", "mode", "Kilnhaven", "allow")
        own = next(
            row["number"] for row in self.run_json("undo", "--list") if "this machine on the allow" in row["says"]
        )
        self.assertIn("this machine", self.refused(1, "undo", str(own), "--yes"))
        for _ in range(3):
            self.run_ok("undo", "--yes")
        self.assertEqual([row["deny_entries"] for row in self.run_json("wifi", "ssids")], [0])
