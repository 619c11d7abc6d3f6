"""The file that remembers: copies, restoring, old schemas, disks that cannot be written, a process that is killed."""

from __future__ import annotations

import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
import unittest
from contextlib import closing
from datetime import date, timedelta

from scopion.model.errors import StorageFailed
from scopion.roster.read_devices import all_devices
from scopion.roster.store.open_roster import FILE, Roster
from scopion.roster.store.roster_copies import DAYS_KEPT, copies, copy_roster, keep_daily_copy, schema_of
from scopion.roster.store.schema import APPLICATION_ID, OLDEST, VERSION
from scopion.roster.store.stored_values import to_ms
from scopion.roster.undo.record_changes import changing, latest_changes
from scopion.roster.undo.take_back import take_back
from scopion.roster.upkeep.check_roster import foreign_schema, unsound
from scopion.roster.upkeep.mend_clock import PAST
from scopion.roster.upkeep.remove_old import Keep, remove_old
from scopion.roster.write_descriptions import set_description
from tests.support import NOON, PROGRAM, ROOT, FolderTest, ProgramTest

MAC = "10:c0:de:00:00:01"
EVENT, STAY = "VALUES (?, 'left', 1, ?, '192.0.2.1', ?)", "VALUES (?, '192.0.2.1', ?, ?, 0)"
# Folds scans of a few devices without end; each is told once it is committed.
FOLDER = """
import sys
from datetime import timedelta
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source
from scopion.model.targets import Targets
from scopion.roster.folding.fold_observations import fold
from scopion.roster.scans import begin_scan, end_scan
from scopion.roster.store.open_roster import Roster
from tests.support import ROOT, NOON
roster = Roster.open(Path(sys.argv[1]))
everywhere = [IPv4Address(f"192.0.2.{n}") for n in range(1, 60)]
targets, subnet = Targets.parse(["192.0.2.0/24"]), IPv4Network("192.0.2.0/24")
begun = roster.db.execute("SELECT count(*) FROM scan").fetchone()[0]
for number in range(begun, begun + 10_000):
    at = NOON + timedelta(minutes=number)
    with roster.transaction():
        scan = begin_scan(roster, targets, subnet, "eth0", "arp", at)
        seen = [Observation(MacAddress(bytes([16, 192, 222, 0, 0, n])), everywhere[n], at, Source.ARP)
                for n in range(1, 50) if (n + number) % 7]
        fold(roster, seen, everywhere, at, scan=scan)
        end_scan(roster, scan, at, asked=59, answered=len(seen), rounds=1, completed=True)
    print(scan, flush=True)
"""


class Killed(FolderTest):
    def test_killed_at_any_point(self) -> None:
        """However a process dies while folding, no committed scan is lost, and the roster is sound."""
        chance = random.Random(27)
        committed = 0
        for _ in range(12):
            process = subprocess.Popen(
                [sys.executable, "-c", FOLDER, str(self.folder)],
                stdout=subprocess.PIPE,
                text=True,
                cwd=ROOT,
            )
            assert process.stdout is not None
            first = process.stdout.readline()  # it has begun to fold
            time.sleep(chance.uniform(0, 0.12))
            process.send_signal(signal.SIGKILL)
            told = [int(first), *map(int, process.stdout.read().split())]
            process.wait(10)
            process.stdout.close()
            self.assertGreater(told[-1], committed)
            committed = told[-1]
            with closing(Roster.open(self.folder)) as roster:
                kept = {row[0] for row in roster.db.execute("SELECT id FROM scan WHERE outcome = 'complete'")}
                self.assertLessEqual(set(told), kept)
                self.assertEqual(unsound(roster, NOON + timedelta(days=400)), [])


class Copies(FolderTest):
    def test_one_a_day_for_a_week(self) -> None:
        """One copy a day, made once, whole, and the eldest goes after a week."""
        with closing(Roster.open(self.folder)) as roster:
            for day in range(10):
                self.assertIsNotNone(keep_daily_copy(roster.path, date(2026, 1, 1) + timedelta(days=day)))
                self.assertIsNone(keep_daily_copy(roster.path, date(2026, 1, 1) + timedelta(days=day)))
            names = sorted(copy.path.name for copy in copies(roster.path))
            self.assertEqual((len(names), names[0]), (DAYS_KEPT, "roster-2026-01-04.sqlite"))
            self.assertEqual({copy.schema for copy in copies(roster.path)}, {VERSION})

    def test_an_old_roster_is_copied_before_it_is_changed(self) -> None:
        """A migration leaves what was there beside it; on a disk that cannot be written it is read all the same."""
        path = self.folder / FILE
        with closing(sqlite3.connect(path)) as db:
            db.executescript((ROOT / "tests/data/roster-schema-8.sql").read_text(encoding="utf-8"))
        with closing(sqlite3.connect(self.folder / "older")) as db:
            db.execute(f"PRAGMA user_version = {OLDEST - 1}")
            db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
        self.assertIsNone(schema_of(self.folder / "older"))
        (self.folder / "dropped").mkdir()
        (self.folder / "older").rename(self.folder / "dropped" / FILE)
        with self.assertRaisesRegex(StorageFailed, "no release had"):
            Roster.open(self.folder / "dropped")
        as_it_was = path.read_bytes()
        shutil.copy(path, self.folder / "keep")
        with closing(Roster.open(self.folder)) as roster, closing(Roster.open(self.folder / "new")) as new:
            self.assertEqual([device.label for device in all_devices(roster)], ["till", "", ""])
            self.assertEqual((unsound(roster, NOON), foreign_schema(roster)), ([], []))
            self.assertEqual(_columns(roster), _columns(new))
            (before,) = latest_changes(roster, 1)
            with changing(roster, "undo", "", at=NOON, who=""):
                take_back(roster, before)
            self.assertEqual([device.label for device in all_devices(roster)], ["", "", ""])
        copy = self.folder / "copies" / f"roster-schema-{OLDEST}.sqlite"
        self.assertEqual(schema_of(copy), OLDEST)
        shutil.rmtree(self.folder / "copies")
        for each in self.folder.glob(f"{FILE}*"):
            each.unlink()
        path.write_bytes(as_it_was)
        (self.folder / "copies").write_text("a file where the folder should be")  # as if nothing could be written
        with closing(Roster.open_for_reading(self.folder)) as reading:
            self.assertEqual([device.label for device in all_devices(reading)], ["till", "", ""])
        self.assertEqual(schema_of(path), OLDEST)

    def test_what_is_old_goes(self) -> None:
        """Scans but for one a day, events, past stays but the latest, traits, changes: each after its own time."""
        with closing(Roster.open(self.folder)) as roster:
            with roster.transaction() as db:
                db.execute("INSERT INTO device (id, first_seen) VALUES (1, 0)")
                db.execute(
                    "INSERT INTO adapter (mac, device, first_seen, last_seen) VALUES ('10:c0:de:00:00:01', 1, 0, 0)"
                )
                for day in range(30):
                    for hour in (8, 12, 16):
                        at = to_ms(NOON - timedelta(days=day)) + hour * 3_600_000
                        scan = db.execute(
                            "INSERT INTO scan (targets, subnet, interface, method, started, ended, outcome) "
                            "VALUES ('x', '192.0.2.0/24', 'eth0', 'arp', ?, ?, 'complete')",
                            (at, at),
                        ).lastrowid
                        db.execute("INSERT INTO event (at, kind, device, mac, address, scan) " + EVENT, (at, MAC, scan))
                        db.execute("INSERT INTO stay (mac, address, since, until, present) " + STAY, (MAC, at, at))
            with changing(roster, "label", "said", at=NOON - timedelta(days=20)):
                set_description(roster, all_devices(roster)[0], label="till")
            removed = remove_old(
                roster, Keep(scans=10, events=20, stays=5, traits=1, changes=10), NOON + timedelta(days=1)
            )
            self.assertEqual(
                {name: count > 0 for name, count in removed.items() if "stays " not in name and name != "usage"},
                {"scans": True, "events": True, "stays": True, "traits": False, "changes": True},
            )
            days = roster.db.execute(
                "SELECT count(*), count(DISTINCT started / 86400000) FROM scan WHERE started < ?",
                (to_ms(NOON - timedelta(days=10)),),
            ).fetchone()
            self.assertEqual(days[0], days[1])
            self.assertEqual(unsound(roster, NOON + timedelta(days=2)), [])
            self.assertEqual(
                remove_old(roster, Keep(0, 0, 0, 0, 0), NOON + timedelta(days=9_999)), dict.fromkeys(removed, 0)
            )
            remove_old(roster, Keep(1, 1, 1, 1, 1), NOON + timedelta(days=9_999))
            self.assertEqual(len(all_devices(roster)[0].stays), 1)  # where it was last is always known


class Restoring(ProgramTest):
    def test_back_to_a_copy(self) -> None:
        """A restore brings the copy's state, keeps what it replaced, and that can be restored in turn."""
        self.begin()
        self.run_ok("scan", "--no-names")  # the first change of the day: its copy is of an empty roster
        self.assertEqual(self.run_program("roster", "check").returncode, 0)
        self.run_ok("label", "192.0.2.50", "till")
        copy_roster(self.site / FILE, self.site / "copies" / "roster-2026-09-13.sqlite")
        self.run_ok("label", "till", "cash desk")
        self.assertIn("add --yes", self.run_program("roster", "restore", "2026-09-13").stderr)
        told = self.run_program("roster", "restore", "2026-09-13", "--yes").stderr
        self.assertEqual([row["name"] for row in self.run_json("devices", "till")], ["till"])
        replaced = told.split("kept as ")[1].strip(" .\n")
        self.run_ok("roster", "restore", replaced, "--yes")
        self.assertEqual([row["name"] for row in self.run_json("devices", "cash")], ["cash desk"])
        self.assertIn("there is no copy 'yesteryear'", self.refused(3, "roster", "restore", "yesteryear", "--yes"))
        broken = self.site / "copies" / "roster-2026-09-12.sqlite"
        broken.write_bytes((self.site / FILE).read_bytes()[:5000])
        self.assertIn("is damaged", self.refused(1, "roster", "restore", "2026-09-12", "--yes"))
        self.assertIn(None, [row["schema"] for row in self.run_json("roster", "restore")])

    def test_the_first_day_has_no_empty_copy(self) -> None:
        """The copy of the first day knows who was found; one that knows fewer is asked about by its numbers."""
        self.begin()
        self.run_ok("scan")
        self.assertEqual(self.run_json("roster", "restore"), [])
        self.run_ok("label", "192.0.2.50", "till")
        (copy,) = self.run_json("roster", "restore")
        self.assertEqual((copy["devices"], copy["because"]), (14, "the day's copy"))
        self.run_ok("demo", "--next", str(self.site))
        self.run_ok("scan")
        _, shown = self.in_terminal("roster", "restore", "latest", answers=[("Put roster-", "n")])
        self.assertRegex(" ".join(shown.split()), r"It knows 14 devices, the roster \d+ devices now\. Put roster-")

    def test_a_damaged_roster_is_restored(self) -> None:
        """Where the roster itself cannot be read, a copy puts it right, and the damaged one is kept aside."""
        self.begin()
        self.run_ok("scan", "--no-names")
        self.run_ok("label", "192.0.2.50", "till")
        copy_roster(self.site / FILE, self.site / "copies" / "roster-2026-09-13.sqlite")
        # In the second case not even SQLite's header is left, so that nothing can be copied.
        for number, (place, octets) in enumerate([(4096, os.urandom(20_000)), (0, b"no roster" * 10)], 1):
            with self.subTest(place=place):
                for tail in ("-wal", "-shm"):
                    (self.site / (FILE + tail)).unlink(missing_ok=True)
                with (self.site / FILE).open("r+b") as file:
                    file.seek(place)
                    file.write(octets)
                self.assertEqual(self.run_program("devices", "till").returncode, 1)
                self.run_ok("roster", "restore", "2026-09-13", "--yes")
                self.assertEqual([row["name"] for row in self.run_json("devices", "till")], ["till"])
                self.assertEqual(len(list(self.site.glob(f"{FILE}.damaged-*[0-9]"))), number)

    def test_check_tells_what_is_wrong(self) -> None:
        """Rows that break a rule are named, with exit code 3; compact removes those that belong to no device."""
        self.begin()
        self.run_ok("scan", "--no-names")
        with closing(sqlite3.connect(self.site / FILE)) as db:
            db.execute("INSERT INTO trait VALUES ('10:c0:de:99:99:99', '', 'name', 'ghost', 'dns', 0, 0)")
            db.execute("UPDATE stay SET until = since - 1 WHERE id = 1")
            db.commit()
        ended = self.run_program("roster", "check")
        self.assertEqual(ended.returncode, 3)
        self.assertIn("a stay that ends before it begins", ended.stderr)
        self.assertIn("a trait of no adapter: 10:c0:de:99:99:99", ended.stderr)
        self.run_ok("roster", "compact")
        self.assertNotIn("a trait of no adapter", self.run_program("roster", "check").stderr)

    def test_what_breaks_a_command_is_told(self) -> None:
        """Octets in place of a text, where no reader of the row looks for them: a command says so, and what helps."""
        self.begin()
        self.run_ok("scan", "--no-names")
        self.run_ok("label", "192.0.2.50", "till")
        with closing(sqlite3.connect(self.site / FILE)) as db:
            db.execute("UPDATE change SET says = X'FFFE'")
            db.commit()
        for form in ("table", "json"):
            said = self.refused(1, "undo", "--list", "--format", form)
            self.assertRegex(
                said, rf"^scopion: \S+{FILE} is damaged: the says of a row of change: .*; scopion roster check "
            )
        with closing(sqlite3.connect(self.site / FILE)) as db:
            db.execute("UPDATE adapter SET last_seen = 9e18 WHERE mac = (SELECT min(mac) FROM adapter)")
            db.commit()
        self.assertRegex(self.refused(1, "devices"), "9000000000000000000 is not a moment; scopion roster check ")
        ended = self.run_program("roster", "check")
        self.assertEqual(ended.returncode, 3)
        self.assertIn("the says of a row of change: ", ended.stderr)
        self.assertIn("the last_seen of a row of adapter: 9000000000000000000 is not a value", ended.stderr)

    def test_a_schema_that_is_no_text(self) -> None:
        """What SQLite quotes of a damaged file cannot be decoded: it is damaged, and moved aside as others are."""
        self.begin()
        self.run_ok("scan", "--no-names")
        with closing(sqlite3.connect(self.site / FILE)) as db:
            db.execute("PRAGMA writable_schema = ON")
            db.execute("UPDATE sqlite_schema SET name = CAST(X'92' AS TEXT), sql = 'x' WHERE name = 'mute'")
            db.commit()
        for command in (("devices",), ("roster", "check")):
            self.assertRegex(self.refused(1, *command), rf"^scopion: \S+{FILE} is damaged: scopion scan moves it aside")
        self.assertIn("damaged", self.run_program("scan", "--no-names").stderr)
        self.run_ok("devices")

    def test_what_cannot_be_an_address_is_named(self) -> None:
        """Never taken for another address, never a traceback: which text it is, in which file, and what to do."""
        self.begin()
        self.run_ok("scan", "--no-names")
        for text in ("192.0.2", "192.0.2.999", "fe80::zz"):
            with self.subTest(text):
                with closing(sqlite3.connect(self.site / FILE)) as db:
                    db.execute("UPDATE stay SET address = ? WHERE id = 1", (text,))
                    db.commit()
                for command in (["devices"], ["mark", "till", "known"], ["scan"]):
                    ended = self.run_program(*command)
                    self.assertEqual((ended.returncode, ended.stdout), (1, ""))
                    self.assertRegex(
                        ended.stderr, rf"^scopion: \S+{FILE}: '{text}' is not an address; scopion roster check .*\n$"
                    )
                checked = self.run_program("roster", "check")
                self.assertEqual(checked.returncode, 3)
                self.assertIn(f"the address of a row of stay: '{text}' is not an address", checked.stderr)


@unittest.skipUnless(sys.platform == "linux" and os.geteuid() == 0, "it mounts a folder read-only: root on Linux only")
class ReadOnlyDisk(ProgramTest):
    def test_looking_goes_on(self) -> None:
        """On a disk that has become read-only, with changes still in the log, everything that only looks works."""
        self.begin()
        self.run_ok("scan", "--no-names")
        with closing(sqlite3.connect(self.site / FILE)) as open_elsewhere:  # it keeps the log from being folded in
            open_elsewhere.execute("SELECT * FROM device").fetchone()
            self.run_ok("label", "192.0.2.50", "till")
            self.assertGreater((self.site / f"{FILE}-wal").stat().st_size, 0)
            shutil.copytree(self.site, self.folder / "copy")
        looking = ("devices till", "show till", "events", "undo --list", "roster check", "export -")
        script = "; ".join(
            [
                'mount --bind "$1" "$1" && mount -o remount,bind,ro "$1" || exit 8',
                *(f'"$2" --site "$1" {command} || exit 9' for command in looking),
                '"$2" --site "$1" label till x',
            ]
        )
        ended = subprocess.run(
            ["unshare", "--mount", "sh", "-c", script, "sh", str(self.folder / "copy"), PROGRAM],
            capture_output=True, text=True, check=False, env={**os.environ, "SCOPION_LIVE": "namespaces"},
        )  # fmt: skip
        self.assertEqual(ended.returncode, 1, ended.stderr)
        self.assertIn("till", ended.stdout)
        self.assertIn("cannot be written", ended.stderr.splitlines()[-1])
        self.assertNotIn("Traceback", ended.stderr)


class WrongClock(ProgramTest):
    def test_what_a_wrong_clock_has_dated_is_brought_back(self) -> None:
        """Rows of the year 2099: check tells them, compact brings them back to now, and silence counts again."""
        self.begin()
        self.run_ok("scan", "--no-names")
        ahead = 4_070_908_800_000
        with closing(sqlite3.connect(self.site / "roster.sqlite")) as db:
            for table, columns in PAST.items():
                for column in columns:
                    db.execute(f"UPDATE {table} SET {column} = ? WHERE {column} IS NOT NULL", (ahead,))
            db.commit()
        said = self.run_program("roster", "check")
        self.assertEqual(said.returncode, 3)
        self.assertIn("rows of stay in the future: scopion roster compact brings them back", said.stderr)
        self.assertIn("2099", self.run_ok("devices", "--format", "json"))
        told = self.run_program("roster", "compact").stderr
        self.assertRegex(told, r"\d+ rows had a time in the future, by a wrong clock: it is the present time now")
        self.run_ok("roster", "check")
        self.assertNotIn("2099", self.run_ok("devices", "--format", "json"))
        # It may be the clock of now that was wrong: nothing of the past is lost by that.
        kept = {each["because"]: each["name"] for each in self.run_json("roster", "check")["copies"]}
        self.run_ok("roster", "restore", kept["with its old times"], "--yes")
        self.assertIn("2099", self.run_ok("devices", "--format", "json"))


def _columns(roster: Roster) -> dict[str, list[tuple[object, ...]]]:
    """The columns of each table, as SQLite describes them."""
    names = [row[0] for row in roster.rows("SELECT name FROM sqlite_schema WHERE type = 'table'")]
    return {name: list(roster.rows(f"SELECT * FROM pragma_table_info('{name}') ORDER BY name")) for name in names}
