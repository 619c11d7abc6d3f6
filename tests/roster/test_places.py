"""Places: two of them may use the very same range, each has its own comings and goings, and one place needs no name."""

from __future__ import annotations

import json
import shutil
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from datetime import timedelta
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.model.device import Event
from scopion.model.errors import AmbiguousDevice, NotFound
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source
from scopion.model.targets import Targets
from scopion.roster.folding.fold_observations import fold
from scopion.roster.folding.note_outages import down_since, note_back, note_down
from scopion.roster.places import known_places, name_home
from scopion.roster.read_devices import all_devices
from scopion.roster.resolve import resolve
from scopion.roster.scans import begin_scan, end_scan, known_subnets, note_baseline, note_subnet
from scopion.roster.store.open_roster import FILE, Roster
from scopion.roster.store.schema import APPLICATION_ID, OLDEST, VERSION, make_base
from scopion.roster.store.schema_steps import STEPS
from scopion.roster.store.stored_values import to_ms
from scopion.roster.undo.record_changes import changing, latest_changes
from scopion.roster.undo.take_back import take_back
from scopion.roster.upkeep.check_roster import foreign_schema, unsound
from scopion.roster.write_descriptions import forget_device, set_description
from tests.support import NOON, FolderTest, ProgramTest

RANGE = IPv4Network("192.0.2.0/24")
MINUTE = timedelta(minutes=1)
SHOP, PIT = "shop", "clay pit"
PLACES = (SHOP, PIT)
SINCE = ("--since", "2026-09-01")
# Which adapters are where in a place, round by round: numbers of adapters by address.
ROUNDS = st.lists(
    st.dictionaries(st.integers(10, 13), st.one_of(st.none(), st.integers(1, 4)), max_size=4), min_size=1, max_size=6
)


def mac(number: int) -> MacAddress:
    return MacAddress(bytes([0x10, 0xC0, 0xDE, 0, 0, number]))


def fold_round(roster: Roster, place: str, number: int, here: dict[int, int | None]) -> list[Event]:
    """A scan of a place: who answers at which address; None is a host whose MAC address is not told."""
    at = NOON + number * MINUTE
    seen = [
        Observation(mac(who) if who is not None else None, IPv4Address(f"192.0.2.{address}"), at, Source.ARP)
        for address, who in here.items()
    ]
    return fold(roster, seen, Targets.of_subnet(RANGE), at, place=place)


def told(roster: Roster, place: str) -> tuple[list[Any], list[Any]]:
    """The stays and the events of a place; that a device joined or came is one thing, because it joins only once."""
    stays = (
        "SELECT mac, address, since, until, present FROM stay WHERE place = ?1 UNION ALL SELECT '', address, since, "
    )
    stays += "until, present FROM unpaired WHERE place = ?1 ORDER BY 1, 2, 3"
    events = "SELECT replace(kind, 'joined', 'returned'), at, mac, address, was_address FROM event WHERE place = ? "
    events += "ORDER BY at, 1, mac, address"
    return tuple([tuple(row) for row in roster.db.execute(query, (place,))] for query in (stays, events))  # type: ignore[return-value]


class Folding(FolderTest):
    @given(st.data(), ROUNDS, ROUNDS)
    @settings(max_examples=60, deadline=None)
    def test_a_place_is_folded_as_if_there_were_no_other(self, data: st.DataObject, shop: Any, pit: Any) -> None:
        """Whatever the order in which two places are folded, each has the stays and events that it has alone."""
        rounds = {SHOP: list(enumerate(shop)), PIT: list(enumerate(pit))}
        order = data.draw(st.permutations([SHOP] * len(shop) + [PIT] * len(pit)))
        alone = {}
        for place in PLACES:
            with closing(Roster._in_memory(Path("alone"))) as roster:
                roster.db.execute("PRAGMA query_only = OFF")
                for number, here in rounds[place]:
                    fold_round(roster, place, number, here)
                alone[place] = told(roster, place)
        with closing(Roster._in_memory(Path("both"))) as roster:
            roster.db.execute("PRAGMA query_only = OFF")
            for place in order:
                number, here = rounds[place].pop(0)
                fold_round(roster, place, number, here)
            for place in PLACES:
                self.assertEqual(told(roster, place), alone[place], (place, order))
            joined = roster.db.execute("SELECT mac FROM event WHERE kind = 'joined' AND mac <> ''").fetchall()
            self.assertEqual(len(joined), len({row[0] for row in joined}), "a device joins once")
            self.assertEqual(unsound(roster, NOON + timedelta(days=1)), [])

    def test_known_from_elsewhere_and_here_without_a_mac_address(self) -> None:
        """It returns here as if it had never been met elsewhere."""
        rounds: list[dict[int, int | None]] = [{10: None}, {}, {11: 4, 10: 4}]
        elsewhere: list[dict[int, int | None]] = [{}, {12: 4}]
        seen = []
        for pit in elsewhere:
            with closing(Roster._in_memory(Path("known"))) as roster:
                roster.db.execute("PRAGMA query_only = OFF")
                fold_round(roster, PIT, 0, pit)
                for number, here in enumerate(rounds):
                    fold_round(roster, SHOP, number, here)
                seen.append(told(roster, SHOP))
        self.assertEqual(*seen)
        self.assertEqual(sum(event[0] == "readdressed" for event in seen[0][1]), 1)


class Devices(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.roster = Roster.open(self.folder)
        self.addCleanup(self.roster.close)

    def test_which_device_a_text_means(self) -> None:
        """An address that two places use is ambiguous, and the place behind an @ decides; so with the gateways."""
        name_home(self.roster, SHOP)
        for place, first in ((SHOP, 1), (PIT, 3)):
            fold_round(self.roster, place, 0, {1: first, 10: first + 1})
            note_subnet(self.roster, RANGE, IPv4Address("192.0.2.1"), mac(first), NOON, place)
        devices = all_devices(self.roster)
        with self.assertRaisesRegex(
            AmbiguousDevice, "in clay pit.*; write '192.0.2.10@(shop|clay pit)' for the one there"
        ):
            resolve(devices, "192.0.2.10")
        for text, number in (
            ("192.0.2.10@clay pit", 4), ("192.0.2.10@Shop", 2), ("gateway", 1), ("gateway@clay pit", 3),
            ("gateway@shop", 1), ("10c0de000004@clay pit", 4), ("10:c0:de:00:00:04", 4),
        ):  # fmt: skip
            with self.subTest(text=text):
                self.assertEqual(resolve(devices, text).macs, (mac(number),))
        for text in ("192.0.2.11@clay pit", "192.0.2.10@moon", "10c0de000004@shop", "@shop"):
            with self.subTest(text=text), self.assertRaises(NotFound):
                resolve(devices, text)
        self.assertEqual([each.called for each in devices[::2]], ["the gateway", "the gateway of clay pit"])
        labelled = next(each for each in devices if mac(2) in each.macs)
        set_description(self.roster, labelled, label="till@clay pit")
        self.assertEqual(resolve(all_devices(self.roster), "till@clay pit").macs, (mac(2),))

    def test_the_only_place_gets_a_name(self) -> None:
        """What was known before a place had a name has it then; hosts without a MAC address and undo among it."""
        note_subnet(self.roster, RANGE, None, None, NOON)
        fold_round(self.roster, "", 0, {10: 1, 11: None})
        fold_round(self.roster, PIT, 0, {11: None})
        host = next(each for each in all_devices(self.roster) if each.unpaired and not each.places)
        set_description(self.roster, host, label="camera")
        with changing(self.roster, "forget", "forgot camera", at=NOON):
            forget_device(self.roster, next(each for each in all_devices(self.roster) if each.label))
        self.assertEqual((known_places(self.roster), self.roster.home), (["", PIT], ""))
        self.assertFalse(name_home(self.roster, PIT))
        self.assertTrue(name_home(self.roster, SHOP))
        self.assertEqual((known_places(self.roster), self.roster.home), ([SHOP, PIT], SHOP))
        self.assertEqual([each.place for each in known_subnets(self.roster)], [SHOP])
        fold_round(self.roster, SHOP, 1, {10: 1})
        (stay,) = next(each for each in all_devices(self.roster) if mac(1) in each.macs).stays
        self.assertEqual((stay.place, stay.since), (SHOP, NOON))
        (before,) = latest_changes(self.roster, 1)
        with changing(self.roster, "undo", "", at=NOON):
            take_back(self.roster, before)
        self.assertIn("camera", [each.label for each in all_devices(self.roster)])
        self.assertEqual(unsound(self.roster, NOON + timedelta(days=1)), [])

    def test_outages_are_of_a_place(self) -> None:
        """A subnet that is down in one place is up in the other, and is told by a device that is known there."""
        for place, first in ((SHOP, 1), (PIT, 3)):
            fold_round(self.roster, place, 0, {10: first})
            note_subnet(self.roster, RANGE, None, None, NOON, place)
        (down,) = note_down(self.roster, RANGE, NOON, "", PIT)
        self.assertEqual((down.mac, down.place, down.name), (mac(3), PIT, str(RANGE)))
        self.assertEqual([down_since(self.roster, RANGE, place) for place in PLACES], [None, NOON])
        self.assertEqual(note_back(self.roster, RANGE, NOON, SHOP), [])
        self.assertEqual(len(note_back(self.roster, RANGE, NOON + MINUTE, PIT)), 1)


class AYear(FolderTest):
    def test_a_year_is_brought_up_and_keeps_every_row(self) -> None:
        """A copy of a year in the schema before places has the same rows after it, all in one place."""
        path = self.folder / FILE
        with closing(sqlite3.connect(path)) as db:
            make_base(db)
            for step in STEPS[1:4]:
                step(db)
            _fill_a_year(db)
            db.execute(f"PRAGMA user_version = {OLDEST + 4}")
            db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
            db.commit()
            tables = [row[0] for row in db.execute("SELECT name FROM sqlite_schema WHERE type = 'table'")]
            before = {name: _rows(db, name) for name in tables if not name.startswith("sqlite_")}
        copy = self.folder / "copy"
        copy.mkdir()
        shutil.copy(path, copy)
        with closing(Roster.open(copy)) as roster, closing(Roster.open(self.folder / "new")) as new:
            self.assertEqual(roster.db.execute("PRAGMA user_version").fetchone()[0], VERSION)
            self.assertGreater(len(before["stay"]), 90_000)
            for name, rows in before.items():
                columns = ", ".join(rows[0].keys()) if rows else "*"
                self.assertEqual(_rows(roster.db, name, columns), rows, name)
            placed = "SELECT place FROM {} UNION SELECT place FROM stay UNION SELECT place FROM event"
            self.assertEqual([row[0] for row in roster.db.execute(placed.format("subnet"))], [""])
            objects = "SELECT type, name FROM sqlite_schema ORDER BY 1, 2"
            self.assertEqual(roster.db.execute(objects).fetchall(), new.db.execute(objects).fetchall())
            self.assertEqual((unsound(roster, NOON), foreign_schema(roster)), ([], []))
            self.assertEqual(sum(each.present for each in all_devices(roster)), 200 + 6)


def _fill_a_year(db: sqlite3.Connection) -> None:
    """250 devices, of which 200 are here: each comes daily; a scan each hour, hosts without a MAC address."""
    day, now = 86_400_000, to_ms(NOON)
    db.executemany("INSERT INTO device (id, first_seen) VALUES (?, 0)", [(n,) for n in range(1, 262)])
    macs = [str(MacAddress((0x10C0DE000000 + n).to_bytes(6))) for n in range(1, 251)]
    db.executemany(
        "INSERT INTO adapter (mac, device, first_seen, last_seen) VALUES (?, ?, 0, ?)",
        [(each, n, now) for n, each in enumerate(macs, 1)],
    )
    stays, events = [], []
    for n, each in enumerate(macs, 1):
        for back in range(365, -1, -1):
            since = now - back * day - n * 1000 - 3_600_000
            here = back == 0 and n <= 200
            address = f"192.0.2.{n}"
            stays.append((each, address, since, now if here else since + 3_000_000, here, "arp", "arp"))
            events.append((since, "returned", n, each, address, since - day))
    db.executemany(
        "INSERT INTO stay (mac, address, since, until, present, source, found) VALUES (?,?,?,?,?,?,?)", stays
    )
    db.executemany("INSERT INTO event (at, kind, device, mac, address, away_since) VALUES (?,?,?,?,?,?)", events)
    scans = [(now - hour * 3_600_000,) * 2 for hour in range(365 * 24, 0, -1)]
    db.executemany(
        "INSERT INTO scan (targets, subnet, interface, method, started, ended, outcome) "
        "VALUES ('192.0.2.0/24', '192.0.2.0/24', 'eth0', 'arp', ?, ?, 'complete')",
        scans,
    )
    db.execute("INSERT INTO subnet VALUES ('192.0.2.0/24', '192.0.2.1', ?, 0, 1, NULL)", (macs[0],))
    hosts = [(f"198.51.100.{n}", 250 + n, 0, now, n % 2) for n in range(1, 12)]
    db.executemany("INSERT INTO unpaired VALUES (?,?,?,?,?)", hosts)
    db.executemany("INSERT INTO trait VALUES (?, 'name', 'x', 'dns', 0, ?)", [(each[0], now) for each in hosts])


def _rows(db: sqlite3.Connection, table: str, columns: str = "*") -> list[sqlite3.Row]:
    cursor = db.cursor()
    cursor.row_factory = sqlite3.Row
    return sorted(cursor.execute(f"SELECT {columns} FROM {table}").fetchall(), key=tuple_of)


def tuple_of(row: Sequence[Any]) -> tuple[str, ...]:
    return tuple(map(repr, row))


class Commands(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.site.mkdir()

    def two_places(self) -> None:
        """A shop, where this machine is, and a clay pit with the same range; two devices in each."""
        (self.site / "site.toml").write_text(
            'name = "Kilnhaven"\nplace = "shop"\n[[subnet]]\nrange = "192.0.2.0/24"\nname = "counter"\n'
            '[[subnet]]\nplace = "clay pit"\nrange = "192.0.2.0/24"\nname = "pit office"\nreserved = '
            '["192.0.2.64-192.0.2.95"]\n'
        )
        with closing(Roster.open(self.site)) as roster:
            name_home(roster, SHOP)
            for place, first in ((SHOP, 1), (PIT, 3)):
                for number in range(3):
                    at = NOON + number * MINUTE
                    scan = begin_scan(roster, Targets.of_subnet(RANGE), RANGE, "eth0", "arp", at, place)
                    note_subnet(roster, RANGE, IPv4Address("192.0.2.10"), mac(first), NOON, place)
                    note_baseline(roster, RANGE, scan, place)
                    fold_round(roster, place, number, {10: first, **({11: first + 1} if number < 2 else {})})
                    end_scan(roster, scan, at, asked=254, answered=2, rounds=1, completed=True)
            for device in all_devices(roster)[:1]:
                set_description(roster, device, label="till", place="counter")

    def test_every_list_knows_the_places(self) -> None:
        """Two places with one range: tables, filters, the map, free addresses, changes, the report and rules."""
        self.two_places()
        table = self.run_ok("devices", "--format", "table")
        self.assertIn("clay pit", table)
        self.assertIn("shop: counter", table)
        rows = self.run_json("devices", "--place", "Clay Pit")
        self.assertEqual(
            [(row["places"], row["addresses"]) for row in rows], [([PIT], ["192.0.2.10"]), ([PIT], ["192.0.2.11"])]
        )
        self.assertIn("no place 'moon': 'shop' or 'clay pit'", self.refused(2, "devices", "--place", "moon"))
        events = self.run_json("events", "--place", "clay pit")
        self.assertEqual([(each["kind"], each["place"]) for each in events], [("joined", PIT)] * 2 + [("left", PIT)])
        self.assertRegex(events[-1]["sentence"], "is gone from 192.0.2.11 in clay pit$")
        maps = self.run_json("map", "--place", "clay pit")
        self.assertEqual({row["place"] for row in maps}, {PIT})
        self.assertEqual([row["address"] for row in maps if row["use"] == "used-now"], ["192.0.2.10"])
        self.assertEqual(sum(row["reserved"] for row in maps), 32)
        self.assertEqual({row["place"] for row in self.run_json("map", "192.0.2.0/28")}, {SHOP, PIT})
        self.assertIn("192.0.2.0/24 pit office, clay pit", self.run_ok("map", "--format", "table"))
        spare = self.run_program(
            "spare", "--place", "clay pit", "--unused-for", "999d", "--count", "300", "--format", "json"
        )
        free = {row["address"] for row in json.loads(spare.stdout)}
        self.assertFalse(free & {"192.0.2.10", "192.0.2.11", "192.0.2.70"})
        self.assertIn("192.0.2.12", free)
        self.assertIn("in another place: nothing was asked from here", " ".join(spare.stderr.split()))
        said = self.run_json("changes", "--since", "scan:2")["differences"]
        self.assertEqual([each["sentence"].rpartition(" in ")[2] for each in said], [SHOP, PIT])
        only = self.run_json("changes", "--since", "scan:2", "--place", "clay pit")["differences"]
        self.assertEqual([each["device"] for each in only], [4])
        self.assertEqual(self.run_json("show", "192.0.2.10@clay pit")["macs"], ["10:c0:de:00:00:03"])
        listed = self.run_json("report", *SINCE, "--table", "places")
        self.assertEqual(
            [(row["place"], row["devices"], row["present"], row["new"]) for row in listed],
            [(SHOP, 2, 1, 2), (PIT, 2, 1, 2)],
        )
        page = self.run_ok("report", *SINCE, "--place", "clay pit", "--html", "-")
        self.assertIn("<h1>Kilnhaven, clay pit</h1>", page)
        self.assertNotIn("10:c0:de:00:00:01", page)
        addresses = self.run_json("report", "--table", "addresses", "--place", "shop")
        self.assertEqual({row["place"] for row in addresses}, {SHOP})
        self.assertIn("pit office, clay pit", self.run_program("status").stdout)
        self.run_ok("alerts", "add", "file", "--name", "log", "--path", str(self.folder / "log"))
        self.run_ok("alerts", "rules", "add", "--place", "clay pit", "--channel", "log")
        trial = self.run_json("alerts", "rules", "try", "10:c0:de:00:00:03")
        self.assertEqual([(each["told"], each["rule"]) for each in trial], [(True, 1)])

    def test_an_address_elsewhere(self) -> None:
        """A single one is judged by what is known of its subnet there; a place that is not there is told as that."""
        self.two_places()
        self.assertIn("reserved", self.run_program("spare", "192.0.2.70", "--place", "clay pit", "--reasons").stdout)
        ended = self.run_program("spare", "192.0.2.11", "--place", "clay pit", "--unused-for", "1m")
        self.assertRegex(ended.stderr, "192.0.2.11/32 in clay pit, as of the scan .* ago")
        self.assertIn("no device is in a place 'moon'", self.refused(3, "show", "192.0.2.11@moon"))
        found = json.loads(self.run_program("status", "--format", "json").stdout)
        self.assertEqual([each["here"] for each in found["subnets"]], [True, False])

    def test_an_export_keeps_the_places(self) -> None:
        """What is exported and imported into an empty roster is in the places in which it was."""
        self.two_places()
        first = self.site
        here = self.run_json("devices", "--columns", "macs,addresses,places")
        for form in ("json", "jsonl", "csv"):
            with self.subTest(form=form):
                self.site = first
                exported = self.run_ok("export", "--as", form)
                self.site = self.folder / form
                self.run_ok("import", "-", "--yes", stdin=exported)
                self.assertEqual(self.run_json("devices", "--columns", "macs,addresses,places"), here)
                with closing(Roster.open(self.site)) as roster:
                    self.assertTrue(name_home(roster, "shop"))  # of that place alone nothing was known yet
                    self.assertFalse(name_home(roster, "clay pit"))
                    self.assertEqual((roster.home, roster.home in known_places(roster)), ("shop", True))
                self.assertEqual(self.run_json("devices", "--columns", "macs,addresses,places"), here)

    def test_one_place_needs_no_name(self) -> None:
        """Without a second place nothing is said of places, and --place says why it is no use."""
        with closing(Roster.open(self.site)) as roster:
            note_subnet(roster, RANGE, None, None, NOON)
            fold_round(roster, "", 0, {10: 1})
        self.assertNotIn("place", self.run_ok("devices", "--format", "table"))
        self.assertEqual(self.run_json("devices")[0]["places"], [])
        self.assertRegex(self.run_json("events")[0]["sentence"], "at 192.0.2.10$")
        self.assertIn("only one place", self.refused(2, "devices", "--place", "shop"))

    def test_settings_of_places(self) -> None:
        """A second place needs that this machine's has a name; one name is always written the same."""
        for text, said in (
            ('[[subnet]]\nrange = "192.0.2.0/24"\nplace = "pit"', "this machine's place has no name"),
            ('place = "Pit"\n[[subnet]]\nrange = "192.0.2.0/24"\nplace = "pit"', "'pit' is written 'Pit' elsewhere"),
            ('place = "a/b"', "line 1: place: 'a/b' is not the name of a place"),
            ('place = "shop"\n[[rule]]\nplaces = "pit"', "places"),
        ):
            with self.subTest(text=text):
                (self.site / "site.toml").write_text(text + "\n")
                self.assertIn(said, self.refused(2, "alerts", "rules"))
