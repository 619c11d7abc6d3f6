"""The installed program on the made-up site: what a person at the desk types, and what comes back."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import shlex
import shutil
import subprocess
import unittest
from contextlib import redirect_stderr, redirect_stdout
from unittest.mock import patch

from scopion.cli.main import run
from scopion.roster.store.open_roster import FILE
from tests.support import PROGRAM, ProgramTest

KILN, PRINTER, STRANGER = "48:d0:c4:01:22:31", "24:d3:a1:20:7e:14", "a0:b4:d7:66:19:04"


class TheStory(ProgramTest):
    def test_scan_remember_notice(self) -> None:
        """The first scan is a silent baseline; later ones tell who joined, moved, left and came back, once."""
        self.begin()
        first = self.run_json("scan")
        self.assertTrue(first["scan"]["baseline"])
        self.assertEqual((first["events"], first["scan"]["answered"]), ([], 13))
        self.assertEqual(self.run_json("scan")["events"], [])
        self.run_ok("label", "192.0.2.31", "kiln controller")

        self.run_ok("demo", "--next", str(self.site))
        second = self.run_json("scan")
        told = {(event["kind"], event["mac"]): event for event in second["events"]}
        self.assertEqual(set(told), {("joined", "da:31:7f:0c:52:e9"), ("readdressed", KILN), ("contested", KILN)})
        self.assertEqual(told["readdressed", KILN]["was_address"], "192.0.2.31")
        holders = {row["mac"] for row in second["hosts"] if row["address"] == "192.0.2.20"}
        self.assertEqual(holders, {KILN, PRINTER})
        self.assertEqual([row["news"] for row in second["hosts"][:3]], ["joined", "readdressed", None])

        self.run_ok("demo", "--next", str(self.site))
        night = self.run_program("scan")
        self.assertEqual(night.stderr.count("is gone from"), 5)
        self.assertRegex(
            night.stderr,
            rf"joined: {STRANGER} \(Mistle Radio Modules, Tianmu Zhejiang, China\) is here for the first time",
        )
        self.assertRegex(night.stderr, r"\n1 joined, 5 gone - 192\.0\.2\.0/24 on enp3s0: 253 asked, 9 answered in")

        self.run_ok("demo", "--next", str(self.site))
        morning = self.run_program("scan")
        self.assertIn("kiln controller moved from 192.0.2.20 to 192.0.2.31", morning.stderr)
        self.assertIn("is back after 18 hours, at 192.0.2.81", morning.stderr)
        present = {row["macs"][0] for row in self.run_json("devices", "--present")}
        self.assertNotIn(STRANGER, present)
        self.assertIn(KILN, present)

    def test_the_same_story_gives_the_same_bytes(self) -> None:
        """Nothing in a scene depends on the machine or the day."""
        told = []
        for _ in range(2):
            shutil.rmtree(self.site, ignore_errors=True)
            self.begin()
            ended = self.run_program("scan", "--format", "json")
            told.append((ended.stdout, ended.stderr))
        self.assertEqual(told[0], told[1])

    def test_fail_on(self) -> None:
        """For cron: 0 while nothing joins, 3 when somebody does, and the scan is remembered all the same."""
        self.begin()
        self.run_ok("scan", "--fail-on", "joined")
        self.run_ok("demo", "--next", str(self.site))
        ended = self.run_program("scan", "--fail-on", "joined")
        self.assertEqual(ended.returncode, 3)
        self.assertRegex(ended.stderr, r"scopion: joined: .* is here for the first time")
        self.assertEqual(self.run_program("scan", "--fail-on", "joined").returncode, 0)


class Sites(ProgramTest):
    def test_another_network_is_shown_and_not_folded(self) -> None:
        """On a network that is not the site's, a scan shows, says so, and remembers only when told to."""
        self.begin()
        self.run_ok("scan")
        before = self.run_ok("devices", "--format", "json")
        guest = self.run_program("scan", "--interface", "wlp2s0")
        self.assertEqual(guest.returncode, 0)
        self.assertIn("Not remembered: this is not one of the networks of Kilnhaven Pottery", guest.stderr)
        self.assertIn("only the gateway answered: clients may be isolated", guest.stderr)
        self.assertIn("0c:be:11:00:00:03", guest.stdout)
        after = json.loads(self.run_ok("devices", "--format", "json"))
        self.assertEqual(after, json.loads(before))
        asked = self.run_program("scan", "--interface", "wlp2s0", "--fail-on", "joined")
        self.assertEqual((asked.returncode, "not one of the site's networks" in asked.stderr), (1, True))
        self.run_ok("scan", "--interface", "wlp2s0", "--remember")
        self.assertEqual(len(self.run_json("devices")), len(after) + 1)
        self.assertTrue(self.run_json("scan", "--interface", "wlp2s0")["scan"]["remembered"])

    def test_part_scans_and_options(self) -> None:
        """A part asks only its addresses, makes no device gone, and pace and rounds are obeyed."""
        self.begin()
        self.run_ok("scan")
        self.run_ok("demo", "--next", str(self.site))
        part = self.run_json("scan", "192.0.2.16-39", "192.0.2.20", "--exclude", "192.0.2.32", "--rounds", "1")
        self.assertEqual(
            (part["scan"]["asked"], part["scan"]["requests"], part["scan"]["rounds"]), (23, 23 + 2, 1)
        )  # two were known
        self.assertEqual([event["kind"] for event in part["events"]], ["contested"])
        self.run_ok("demo", "--next", str(self.site))
        alone = self.run_json("scan", "192.0.2.61")["events"]
        self.assertEqual([(event["kind"], event["address"]) for event in alone], [("left", "192.0.2.61")])
        slow = self.run_json("scan", "192.0.2.0/25", "--pace", "50")
        self.assertGreater(slow["scan"]["seconds"], 126 / 50)

    def test_a_large_range_spares_the_air(self) -> None:
        """Access points repeat each request: a large range is asked slowly, which is said, unless a pace was given."""
        self.begin()
        for more, spares in ((), True), (("--pace", "700"), False):
            said = io.StringIO()
            with patch("scopion.discovery.probing.LARGE", 200), redirect_stderr(said), redirect_stdout(io.StringIO()):
                self.assertEqual(run(["--site", str(self.site), "scan", "--no-names", *more]), 0)
            asked = "253 addresses take 3 seconds a round at 90 a second, because access points repeat"
            self.assertEqual(asked in " ".join(said.getvalue().split()), spares, said.getvalue())
        self.assertNotIn("a second", self.run_program("scan", "--no-names").stderr)

    def test_here(self) -> None:
        """Which interface and why, which site, and what this user may do - before and after the first scan."""
        self.begin()
        before = self.run_json("here")
        self.assertEqual((before["scan_takes"], before["site"]["verdict"]), ("enp3s0", "founding"))
        self.assertFalse((self.site / FILE).exists())  # looking makes nothing
        self.run_ok("scan")
        after = self.run_json("here")
        self.assertEqual((after["site"]["verdict"], after["raw_frames"]), ("ours", True))
        chosen = next(row for row in after["interfaces"] if row["chosen"])
        self.assertEqual((chosen["gateway"], chosen["gateway_mac"]), ("192.0.2.1", "0c:be:11:00:00:01"))
        self.assertEqual({row["state"] for row in after["interfaces"]}, {"up", "down"})

    def test_settings_are_checked_with_file_line_and_key(self) -> None:
        """A mistake in site.toml is one line that says where."""
        self.begin()
        path = self.site / "site.toml"
        for text, where in (
            ("[scan]\npace = 'fast'\n", r"site\.toml, line 2: scan\.pace: "),
            ("name = 'x'\n\n[scan]\nspeed = 3\n", r"line 4: scan\.speed: there is no such setting"),
            ("[[subnet]]\nrange = '192.0.2.0/24'\n[[subnet]]\nrange = 'here'\n", r"line 4: subnet\.2\.range: "),
            ("name = \n", r"site\.toml: not TOML: .*line 1"),
        ):
            path.write_text(text)
            with self.subTest(text=text):
                self.assertRegex(self.refused(2, "scan"), where)
        path.write_text("name = 'Attic'\n[[subnet]]\nrange = '192.0.2.0/24'\npace = 100\n")
        self.assertGreater(self.run_json("scan")["scan"]["seconds"], 7.5)  # three rounds of 2.5 s

    def test_memory_that_was_lost_is_told(self) -> None:
        """A damaged roster is kept under the name that is told, and the next scan is no first baseline."""
        self.begin()
        self.run_ok("scan")
        (self.site / FILE).write_bytes(b"\xa5" * 20_000)
        self.assertIn("damaged", self.refused(1, "devices"))
        failing = self.run_program("scan", "--fail-on", "joined")
        self.assertEqual(failing.returncode, 1)
        self.assertIn("memory of earlier devices was lost", failing.stderr)
        name = re.search(r"kept as (roster\.sqlite\.damaged-\S+) in", failing.stderr)
        assert name is not None
        self.assertEqual((self.site / name[1]).read_bytes(), b"\xa5" * 20_000)
        again = self.run_program("scan")
        self.assertNotIn("memory", again.stderr)
        self.assertIn("No change", again.stderr)

    def test_a_change_on_a_damaged_roster_is_refused_and_told(self) -> None:
        """Only a scan goes on without the memory; what people say of a device is not written into an empty roster."""
        self.begin()
        self.run_ok("scan")
        (self.site / FILE).write_bytes(b"\xa5" * 20_000)
        told = self.refused(1, "label", "192.0.2.31", "kiln controller")
        self.assertRegex(told, r"damaged and is kept as \S+roster\.sqlite\.damaged-")
        self.assertIn("memory of earlier devices was lost", self.run_program("scan").stderr)

    def test_a_silent_segment_makes_nobody_left(self) -> None:
        """When no device at all answers, a plug was pulled: this is no baseline, and no device has left."""
        self.begin()
        path = self.folder / "quiet.toml"
        hosts = "".join(
            f"[[host]]\nname='h{number}'\nmac='10:c0:de:0:0:{number:x}'\n"
            f"at=[{{address='192.0.2.{number}', from=2026-01-02T00:00:00Z, until=2026-01-03T00:00:00Z}}]\n"
            for number in (20, 21, 22)
        )
        moments = "".join(f"[[moment]]\nat=2026-01-0{day}T12:00:00Z\ntells='{day}'\n" for day in (1, 2, 3))
        interface = "[[interface]]\nname='w'\nindex=2\nmac='60:f2:a7:10:00:0a'\naddresses=['192.0.2.10/24']\n"
        path.write_text(interface + hosts + moments)
        story = {"scene": str(path), "at": "2026-01-01T12:00:00+00:00", "moment": 0}
        (self.site / "story.json").write_text(json.dumps(story))
        self.assertFalse(self.run_json("scan")["scan"]["baseline"])
        self.run_ok("demo", "--next", str(self.site))
        full = self.run_json("scan")
        self.assertEqual((full["scan"]["baseline"], full["scan"]["answered"], full["events"]), (True, 3, []))
        self.run_ok("demo", "--next", str(self.site))
        silent = self.run_program("scan")
        self.assertEqual((silent.returncode, "gone from" in silent.stderr), (0, False))
        self.assertIn("no device counts as gone", silent.stderr)
        self.assertEqual(len(self.run_json("devices", "--present")), 4)  # with this machine


class Describing(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.begin()
        self.run_ok("scan")

    def test_labels_and_standings(self) -> None:
        """What people say is kept; ambiguity, reserved words and labels in use are refused and change nothing."""
        self.run_ok(
            "label", "192.0.2.31", "kiln one", "--owner", "the potter", "--place", "kiln room", "--note", "0815"
        )
        self.run_ok("label", "192.0.2.32", "kiln two")
        self.assertRegex(self.refused(2, "mark", "kiln", "known"), "fits 2 devices: kiln one .*, kiln two")
        self.refused(2, "label", "192.0.2.5", "Kiln One")
        self.refused(2, "label", "192.0.2.5", "192.0.2.77")
        self.refused(3, "mark", "kiln one", "nobody", "known")
        self.run_ok("mark", "kiln one", "gateway", "known")
        self.run_ok("mark", "kiln two", "guest", "--until", "2026-12-31")
        self.refused(2, "mark", "kiln two", "known", "--until", "2026-12-31")
        rows = {row["name"]: row for row in self.run_json("devices")}
        self.assertEqual(rows["kiln one"]["standing"], "known")
        self.assertEqual(
            [rows["kiln one"][key] for key in ("owner", "place", "note")], ["the potter", "kiln room", "0815"]
        )
        self.assertEqual((rows["kiln two"]["standing"], rows["kiln two"]["guest_until"]), ("guest", "2026-12-31"))
        self.assertEqual(len(self.run_json("devices", "--standing", "known")), 2)

    def test_hostile_text_cannot_act(self) -> None:
        """Terminal escapes go, a spreadsheet formula is text, a tab or a line end breaks no column."""
        self.run_ok("label", "192.0.2.31", "=1+1\x1b[31m\t\n|x", "--owner", "@sum")
        self.run_ok("mark", "192.0.2.31", "known")
        for name in ("table", "tsv", "csv", "json", "jsonl"):
            self.assertNotIn("\x1b", self.run_ok("devices", "--format", name))
        row = next(csv.DictReader(io.StringIO(self.run_ok("devices", "--standing", "known", "--format", "csv"))))
        self.assertEqual((row["name"], row["owner"]), ("'=1+1[31m |x", "'@sum"))
        lines = self.run_ok("devices", "--format", "tsv").splitlines()
        self.assertEqual({line.count("\t") for line in lines}, {lines[0].count("\t")})

    def test_sorting(self) -> None:
        """Addresses sort as numbers, names before nameless."""
        addresses = [row["addresses"][0] for row in self.run_json("devices", "--sort", "address")]
        self.assertEqual(addresses, sorted(addresses, key=lambda text: [int(part) for part in text.split(".")]))
        self.run_ok("label", "192.0.2.90", "a phone")
        self.assertEqual(self.run_json("devices", "--sort", "name")[0]["name"], "a phone")


class BadInput(ProgramTest):
    def test_one_clear_line_and_the_right_code(self) -> None:
        """What is wrong, where, and what to do; 2 for wrong usage, 1 for what failed, 3 for what is not there."""
        self.refused(3, "label", "192.0.2.31", "nothing is there yet")
        self.begin()
        self.run_ok("scan")
        for code, text, *arguments in (
            (2, "192.0.2.300", "scan", "192.0.2.300"),
            (2, "before its start", "scan", "192.0.2.9-5"),
            (2, "in no attached subnet", "scan", "10.0.0.0/24"),
            (2, "outside 192.0.2.0/24", "scan", "192.0.2.1-192.0.3.1"),
            (2, "every target is excluded", "scan", "192.0.2.7", "--exclude", "192.0.2.0/24"),
            (2, "requests a second", "scan", "--pace", "0"),
            (1, "there is no interface 'eth9'", "scan", "--interface", "eth9"),
            (1, "is down or has no carrier", "scan", "--interface", "enp4s0"),
            (3, "no device is called 'nobody'", "label", "nobody", "x"),
            (2, "2026-13-01", "mark", "gateway", "guest", "--until", "2026-13-01"),
            (2, "see scopion scan --help", "scan", "--nonsense"),
            (2, "no such command", "nonsense"),
        ):
            with self.subTest(arguments=arguments):
                self.assertIn(text, self.refused(code, *arguments))
        wrong = self.run_program("devices", SCOPION_FORMAT="xml")
        self.assertEqual((wrong.returncode, "SCOPION_FORMAT" in wrong.stderr), (2, True))

    def test_broken_streams(self) -> None:
        """A full disk, a gone reader, a closed output, a narrow encoding, bytes that are no text: no traceback."""
        self.begin()
        self.run_ok("scan")
        program = shlex.quote(PROGRAM)
        for command, code, said in (
            (f"{program} devices >/dev/full", 1, "No space left"),
            (f"{program} devices >&-", 0, "14 devices"),
            (f"{program} devices | head -1; exit ${{PIPESTATUS[0]}}", 0, "14 devices"),
            (f"PYTHONIOENCODING=latin-1 {program} here --format table", 0, "This is Kilnhaven Pottery"),
            (f"printf '\\xff\\xfe\\n286fb9\\n' | {program} vendor", 2, "line 1"),
            (f"{program} label 192.0.2.31 $'caf\\xff'", 0, "'caf'"),
        ):
            ended = subprocess.run(
                ["bash", "-c", command],
                env={**os.environ, "SCOPION_SITE": str(self.site)},
                capture_output=True,
                text=True,
                errors="replace",
                check=False,
            )
            with self.subTest(command=command):
                self.assertEqual(ended.returncode, code, ended.stderr)
                self.assertIn(said, ended.stderr)
                self.assertNotIn("Traceback", ended.stderr)
                self.assertNotIn("Exception ignored", ended.stderr)

    def test_many_addresses_need_a_yes(self) -> None:
        """More than 65,536 addresses are not asked by accident."""
        self.begin()
        path = self.folder / "wide.toml"
        path.write_text(
            "[[interface]]\nname='w'\nindex=2\nmac='60:f2:a7:10:00:0a'\naddresses=['10.0.0.5/12']\n"
            "[[moment]]\nat=2026-01-01T00:00:00Z\ntells='x'\n"
        )
        story = {"scene": str(path), "at": "2026-01-01T00:00:00+00:00", "moment": 0}
        (self.site / "story.json").write_text(json.dumps(story))
        self.assertIn("add --yes", self.refused(2, "scan"))
        self.assertIn("add --yes", self.refused(2, "scan", "10.0.0.0/15"))
        self.assertEqual(self.run_json("scan", "10.0.1.0/24")["scan"]["asked"], 256)


class Everyday(ProgramTest):
    def test_quiet_for_cron_says_who_and_nothing_else(self) -> None:
        """Nothing if no device joined; else one line each on standard output, exit code 3, and no other word."""
        self.begin()
        self.run_ok("scan")
        calm = self.run_program("--quiet", "scan", "--fail-on", "joined")
        self.assertEqual((calm.returncode, calm.stdout, calm.stderr), (0, "", ""))
        self.run_ok("forget", "192.0.2.62", "--yes")
        told = self.run_program("--quiet", "scan", "--fail-on", "joined")
        self.assertEqual((told.returncode, told.stderr), (3, ""))
        self.assertRegex(told.stdout, r"^joined: 7c:a4:b1:33:02:62 \(.*\) is here for the first time, at 192.0.2.62\n$")
        self.run_ok("forget", "192.0.2.62", "--yes")
        loud = self.run_program("scan", "--fail-on", "joined")
        self.assertIn("scopion: joined: 7c:a4:b1:33:02:62", loud.stderr)

    def test_subnets_by_name_and_all_of_them(self) -> None:
        """A target may be a name of site.toml's; --all scans every subnet, and tells which one cannot be scanned."""
        self.begin()
        with (self.site / "site.toml").open("a", encoding="utf-8") as file:
            file.write('\n[[subnet]]\nrange = "192.0.2.0/24"\nname = "workshop"\n')
        self.assertEqual(self.run_json("scan", "Workshop")["scan"]["subnet"], "192.0.2.0/24")
        self.assertTrue(self.run_json("spare", "workshop", "--count", "1"))
        everything = self.run_json("scan", "--all")["scans"]
        self.assertEqual([each["scan"]["subnet"] for each in everything], ["192.0.2.0/24"])
        self.refused(2, "scan", "--all", "192.0.2.1")
        with (self.site / "site.toml").open("a", encoding="utf-8") as file:
            file.write('\n[[subnet]]\nrange = "198.18.7.0/24"\nname = "far"\n')
        ended = self.run_program("scan", "--all", "--method", "arp")
        self.assertEqual(ended.returncode, 1)
        self.assertIn("192.0.2.0/24 on enp3s0", ended.stderr)
        self.assertIn("198.18.7.0/24 was not scanned", ended.stderr)
        self.assertIn("scopion: 1 subnet of the site could not be scanned", ended.stderr)
        self.run_ok("demo", "--next", str(self.site))
        ended = self.run_program("--quiet", "scan", "--all", "--method", "arp", "--fail-on", "joined")
        self.assertEqual(ended.returncode, 3)  # somebody came; what could not be scanned is told all the same
        self.assertIn("198.18.7.0/24 was not scanned", ended.stderr)

    def test_words_that_are_said(self) -> None:
        """The gateway is not marked unwanted in silence, nor a label given that another one calls itself; and more."""
        self.begin()
        self.run_ok("scan")
        self.assertRegex(
            self.run_program("mark", "gateway", "unwanted").stderr, "Caution: .* is the gateway: everything"
        )
        alike = self.run_program("label", "192.0.2.31", "label-printer").stderr
        self.assertIn("label-printer (24:d3:a1:20:7e:14 at", alike)
        self.assertIn("calls itself 'label-printer', too", alike)
        report = self.run_json("report")
        self.assertEqual(report["site"], "Kilnhaven Pottery")
        self.assertTrue(report["summary"] and report["attention"][0]["says"])
        self.assertIn("Probably a storage device", self.run_ok("show", "192.0.2.5", "--format", "table"))
        several = self.run_program("wifi", "deny", "Attic", "192.0.2.61", "192.0.2.62", "192.0.2.70").stderr
        self.assertEqual(several.count("Caution:"), 1)

    def test_this_machines_ipv6_addresses_are_its_own(self) -> None:
        """They are paired with its adapter like those of all others."""
        self.begin()
        interfaces = {each.name: each for each in self.opened().attachment.interfaces()}
        own = {str(each.ip) for each in interfaces["enp3s0"].ipv6}
        self.assertTrue(own)
        self.run_ok("scan")
        self.assertLessEqual(own, set(self.run_json("show", "this-machine")["addresses"]))


if __name__ == "__main__":
    unittest.main()
