"""What the roster can tell: differences, look-alikes, stickers; and that folding does not depend on the order."""

from __future__ import annotations

import random
import shutil
from datetime import datetime, timedelta
from ipaddress import IPv4Address

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.discovery.kinds import Guess, load_kinds
from scopion.model.device import Device, EventKind
from scopion.model.errors import UsageError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source, Trait, TraitKind
from scopion.operations.devices.find_devices import DeviceFilter, find
from scopion.operations.devices.identify_device import Described, described
from scopion.roster.folding.fold_observations import fold
from scopion.roster.look_alikes import LookAlike, candidate_pairs, family, look_alikes
from scopion.roster.read_devices import all_devices
from scopion.roster.read_history import stays_since
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import EPOCH
from scopion.roster.wifi.judge_private import Habit, judge
from scopion.roster.write_descriptions import join_devices
from scopion.vendors.registry import Vendors
from tests.support import NOON, FolderTest

HOUR = timedelta(hours=1)
EVERYWHERE = [IPv4Address(f"192.0.2.{number}") for number in range(1, 255)]
REQUESTS = "1,3,6,15,26,28"


def named(name: str, source: Source = Source.DHCP) -> Trait:
    return Trait(TraitKind.NAME, name, source)


class RosterTest(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.roster = Roster.open(self.folder / "site")
        self.addCleanup(self.roster.close)
        self.now = NOON

    def see(self, *pairs: tuple[str, int, tuple[Trait, ...]]) -> list[str]:
        """One complete scan, an hour after the last: these MACs at these addresses say these things."""
        self.now += HOUR
        seen = [
            Observation(MacAddress.parse(mac), IPv4Address(f"192.0.2.{address}"), self.now, Source.ARP, traits=traits)
            for mac, address, traits in pairs
        ]
        return [str(event.kind) for event in fold(self.roster, seen, EVERYWHERE, self.now)]

    def proposals(self) -> list[LookAlike]:
        devices = all_devices(self.roster)
        pairs = candidate_pairs(devices, {device.id for device in devices})
        return look_alikes(devices, pairs, stays_since(self.roster, EPOCH))

    def device(self, mac: str) -> Device:
        return next(each for each in all_devices(self.roster) if MacAddress.parse(mac) in each.macs)


FIRST, SECOND, THIRD, LAPTOP = "da:31:7f:00:00:01", "4e:08:b3:00:00:02", "9a:c4:07:00:00:03", "60:f2:a7:00:01:80"


class Joined(RosterTest):
    def test_a_medium_stays_with_its_adapter(self) -> None:
        """Of two adapters of one device the registered one does not inherit what the made-up one is taken for."""
        self.see((FIRST, 20, ()), (LAPTOP, 21, ()))
        join_devices(self.roster, self.device(FIRST), self.device(LAPTOP))
        known = described(self.device(FIRST), Vendors(), load_kinds())
        media = {str(each.mac): guess.medium for each, guess in zip(known.device.adapters, known.media, strict=True)}
        self.assertEqual(media, {FIRST: Medium.WIRELESS, LAPTOP: Medium.UNKNOWN})


class Alike(RosterTest):
    def test_a_phone_under_three_addresses_is_one_family(self) -> None:
        """Name, way of asking and never being here together make it very likely; each is said as evidence."""
        traits = (named("phone-of-ada"), Trait(TraitKind.REQUESTED_OPTIONS, REQUESTS, Source.DHCP))
        for mac, address in ((FIRST, 91), (SECOND, 92), (THIRD, 93)):
            self.see((mac, address, traits))
            self.see()
        found = self.proposals()
        self.assertEqual(len(found), 3)
        self.assertEqual({each.words for each in found}, {"very likely"})
        self.assertTrue(all(0.85 <= each.confidence < 1 for each in found))
        said = " ".join(found[0].evidence)
        for words in (
            "both are called 'phone-of-ada' (dhcp)",
            "one came after the other",
            "same options in the same order",
        ):
            self.assertIn(words, said)
        ids = [self.device(mac).id for mac in (FIRST, SECOND, THIRD)]
        for each in ids:
            self.assertEqual({each, *family(each, found)}, set(ids))
        self.assertEqual(judge(self.device(THIRD), [], ["others"])[0].habit, Habit.ROTATING)

    def test_together_once_is_never_the_same(self) -> None:
        """Two private addresses that one scan has seen are two things, whatever they are called."""
        self.see((FIRST, 91, (named("phone"),)), (SECOND, 92, (named("phone-of-ada"),)))
        self.see((FIRST, 91, (named("phone-of-ada"),)))
        self.see((SECOND, 92, (named("phone-of-ada"),)))
        self.assertEqual(self.proposals(), [])

    def test_two_look_alikes_that_were_together_are_no_family(self) -> None:
        """A third that resembles both is one of them at most: all three are never proposed as one."""
        self.see((FIRST, 91, (named("phone-of-ada"),)), (SECOND, 92, (named("phone-of-ada"),)))
        self.see()
        self.see((THIRD, 93, (named("phone-of-ada"),)))
        third = self.device(THIRD).id
        found = self.proposals()
        self.assertEqual({each.other(third) for each in found}, {self.device(mac).id for mac in (FIRST, SECOND)})
        self.assertEqual(len(family(third, found)), 1)

    def test_what_proves_nothing(self) -> None:
        """A name that everybody has, a maker's numbers in a row, two that people have named: no proposal."""
        self.see((FIRST, 91, (named("android"),)))
        self.see((SECOND, 92, (named("android"),)))
        self.see(("48:d0:c4:01:22:31", 31, ()), ("48:d0:c4:01:22:32", 32, ()))
        self.assertEqual(self.proposals(), [])
        self.see((THIRD, 93, (named("phone-of-ada"),)))
        self.see((FIRST, 91, (named("phone-of-ada"),)))
        self.assertEqual(len(self.proposals()), 1)
        with self.roster.transaction() as db:
            db.execute("UPDATE device SET label = 'a' || id")
        self.assertEqual(self.proposals(), [])

    def test_a_laptop_with_two_adapters(self) -> None:
        """One name and neighbouring addresses: likely, even though both were here at once."""
        wireless = "60:f2:a7:00:01:81"
        self.see((LAPTOP, 81, (named("desk", Source.NETBIOS),)), (wireless, 82, (named("DESK"),)))
        found = self.proposals()
        self.assertEqual([each.words for each in found], ["likely"])
        self.assertIn("their MAC addresses are neighbours", found[0].evidence)
        client = Trait(TraitKind.CLIENT_ID, "ff00112233000100012a", Source.DHCP)
        self.see(("60:f2:a7:77:00:01", 85, (client,)))
        self.see(("24:d3:a1:77:00:01", 86, (client,)))
        self.assertEqual(
            max(self.proposals(), key=lambda each: each.confidence).evidence[0], "the same DHCP client identifier"
        )

    def test_fixed_and_rotating_by_what_was_seen(self) -> None:
        """An address that was kept for more than two weeks can be listed; a fresh one is undecided, with the advice."""
        self.see((FIRST, 91, ()))
        device = self.device(FIRST)
        stays = stays_since(self.roster, EPOCH)[device.id]
        (young,) = judge(device, stays)
        self.assertEqual((young.habit, "set this phone to a fixed address" in young.advice), (Habit.UNDECIDED, True))
        self.now += timedelta(days=16)
        self.see((FIRST, 91, ()))
        (old,) = judge(self.device(FIRST), stays_since(self.roster, EPOCH)[device.id])
        self.assertEqual((old.habit, old.advice), (Habit.FIXED, ""))


class Renaming(RosterTest):
    def test_a_new_name_is_an_event(self) -> None:
        """Told once, with both names; a first name and a name from another source are none."""
        self.see((LAPTOP, 81, (named("desk"),)))
        self.assertEqual(self.see((LAPTOP, 81, (named("DESK"), named("desk.local", Source.MDNS)))), [])
        self.assertEqual(self.see((LAPTOP, 81, (named("bench"),))), ["renamed"])
        self.assertEqual(self.see((LAPTOP, 81, (named("desk"), named("bench")))), [])
        row = self.roster.db.execute("SELECT name, was_name FROM event WHERE kind = 'renamed'").fetchone()
        self.assertEqual(tuple(row), ("bench", "DESK"))  # as it was told last

    def test_the_unwanted_are_told_when_they_come(self) -> None:
        """Beside their arrival, each time."""
        self.see((LAPTOP, 81, ()))
        self.see()
        with self.roster.transaction() as db:
            db.execute("UPDATE device SET standing = 'unwanted'")
        self.assertEqual(self.see((LAPTOP, 81, ())), [str(EventKind.RETURNED), str(EventKind.UNWANTED_PRESENT)])
        self.assertEqual(self.see((LAPTOP, 81, ())), [])


class Stickers(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        roster = Roster.open(self.folder / "site")
        self.addCleanup(roster.close)
        macs = ("10:c0:de:4a:11:05", "10:c0:de:4a:11:0f", "10:c0:de:4b:11:05", "0c:be:11:4a:11:05")
        seen = [
            Observation(MacAddress.parse(mac), IPv4Address(f"192.0.2.{n}"), NOON, Source.ARP)
            for n, mac in enumerate(macs, 5)
        ]
        fold(roster, seen, (), NOON)
        self.devices = [Described(device, (), Guess(), ()) for device in all_devices(roster)]

    def found(self, *words: str, near: bool = False) -> list[tuple[str, str]]:
        return [
            (str(each.device.macs[0]), each.near) for each in find(self.devices, DeviceFilter(words=words, near=near))
        ]

    def test_any_part_in_any_notation(self) -> None:
        """However the sticker writes it, and whatever part of it can be read."""
        for part in (
            "10:C0:DE:4A:11:05",
            "10c0.de4a.1105",
            "10-c0-de-4a-11-05",
            "DE4A1105",
            "de:4a",
            "4a-11-05",
            "c0.de4a",
        ):
            with self.subTest(part=part):
                self.assertIn("10:c0:de:4a:11:05", [mac for mac, _ in self.found(part)])
                self.assertNotIn("10:c0:de:4b:11:05", [mac for mac, _ in self.found(part)])
        self.assertEqual(self.found("192.0.2.7"), [("10:c0:de:4b:11:05", "")])
        self.assertEqual(self.found("nothing of that"), [])

    def test_neighbours_are_said_as_such(self) -> None:
        """Of the last octet only, by how much, and never for so little that everybody would fit."""
        self.assertEqual(
            self.found("10:c0:de:4a:11:07", near=True),
            [("10:c0:de:4a:11:05", "2 below the sticker"), ("10:c0:de:4a:11:0f", "8 above the sticker")],
        )
        self.assertEqual(
            {mac for mac, _ in self.found("4a:11:04", near=True)}, {"10:c0:de:4a:11:05", "0c:be:11:4a:11:05"}
        )
        self.assertEqual(self.found("10:c0:de:4a:11:05", near=True)[0], ("10:c0:de:4a:11:05", ""))
        for little in ("11", "till", ""):
            with self.subTest(little=little), self.assertRaises(UsageError):
                self.found(little, near=True)


class AnyOrder(FolderTest):
    @settings(max_examples=40, deadline=None)
    @given(
        st.lists(st.tuples(st.integers(1, 3), st.integers(1, 3), st.integers(0, 59)), min_size=1, max_size=12),
        st.integers(0, 2**32),
    )
    def test_the_same_sightings_fold_to_the_same_stays(self, sightings: list[tuple[int, int, int]], seed: int) -> None:
        """Neither order nor repetition changes the stays, whether all is folded at once or one after the other."""
        chance = random.Random(seed)
        shuffled = sightings + chance.choices(sightings, k=chance.randrange(4))
        chance.shuffle(shuffled)
        self.assertEqual(self._stays([sightings]), self._stays([shuffled]))
        self.assertEqual(self._stays([sightings]), self._stays([[each] for each in shuffled]))

    def _stays(self, batches: list[list[tuple[int, int, int]]]) -> list[tuple[str, str, int, int]]:
        shutil.rmtree(self.folder / "site", ignore_errors=True)
        roster = Roster.open(self.folder / "site")
        try:
            for batch in batches:
                fold(roster, [self._seen(*each) for each in batch], (), NOON + HOUR)
            rows = roster.db.execute("SELECT mac, address, since, until FROM stay ORDER BY mac, address").fetchall()
            return [tuple(row) for row in rows]
        finally:
            roster.close()

    @staticmethod
    def _seen(number: int, address: int, second: int) -> Observation:
        at: datetime = NOON + timedelta(seconds=second)
        return Observation(
            MacAddress(bytes([0x10, 0xC0, 0xDE, 0, 0, number])), IPv4Address(f"192.0.2.{address}"), at, Source.ARP
        )
