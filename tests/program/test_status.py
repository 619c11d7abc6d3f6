"""Whether the site is looked after, on one screen: true before and after each thing that goes wrong."""

from __future__ import annotations

import json
import os
import pty
import re
import select
import signal
import time
import unittest
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from typing import Any

import jsonschema

from scopion.reports.site_status import (
    ChannelStatus,
    DueStatus,
    EssentialStatus,
    FollowedStatus,
    ListingStatus,
    ListStatus,
    RosterStatus,
    SensorStatus,
    SiteStatus,
    SubnetStatus,
    TroubleStatus,
    WatchStatus,
)
from scopion.reports.status_lines import State, for_page, status_lines
from tests.support import PROGRAM, ROOT, ProgramTest

NOW = datetime(2026, 9, 14, 12, tzinfo=UTC)
FINE = SiteStatus(
    site="Kilnhaven",
    folder="/site",
    at=NOW,
    watch=WatchStatus(True, 4711, "desk", "keeper", raw_frames=True, since=NOW - timedelta(days=2)),
    subnets=(SubnetStatus("192.0.2.0/24", "workshop", "", 60, NOW, NOW, None, None),),
    sensors=(SensorStatus("pit", "clay pit", "here", NOW, 20.0, 0, 0.1, 0, ()),),
    essential=(EssentialStatus("front till", "front till", True, NOW, 300, "", None),),
    channels=(ChannelStatus("owner", "email", NOW - timedelta(hours=2), None, 0, None, 0, None, ""),),
    followed=(),
    lists=(
        ListStatus(
            ssid="Kilnhaven", enforcer="ap", by_hand=False, mode="deny", pushed_at=NOW - timedelta(days=1),
            push_problem="", pending=False, to_type="", due_since=None, read_at=NOW, read_problem="",
            verified_at=NOW - timedelta(days=1), works=True, unmet=(),
        ),
    ),
    due=(),
    roster=RosterStatus("/site/roster.sqlite", 2_400_000, 18, 13, 0, NOW, NOW - timedelta(hours=4), 2_300_000, ()),
    listing=ListingStatus(date(2026, 6, 25), 81),
    free_octets=80_000_000_000,
)  # fmt: skip
HOUR = timedelta(hours=1)


def of_list(listed: ListStatus, **changes: Any) -> SiteStatus:
    """A site whose only list is otherwise."""
    return replace(FINE, lists=(replace(listed, **changes),))


class Lines(unittest.TestCase):
    """What each state of a site is said to be."""

    def said(self, status: SiteStatus) -> dict[str, list[str]]:
        """The lines of each state: part, words and what to do."""
        found: dict[str, list[str]] = {each: [] for each in State}
        for line in status_lines(status, lambda moment: moment):
            found[line.state].append(f"{line.part}: {line.says} -> {line.do}".removesuffix(" -> "))
        return found

    def test_nothing_is_said_against_a_site_that_is_looked_after(self) -> None:
        """All is fine, in one line each; what is fine with the machine's files is no news on a report's page."""
        said = self.said(FINE)
        self.assertEqual((said["trouble"], said["note"], len(said["fine"])), ([], [], 9))
        self.assertIn(
            "watch: runs since Sat 12 Sep, 12:00: process 4711 on desk, by keeper, hears raw frames", said["fine"]
        )
        self.assertIn(
            "'Kilnhaven', ap: mode deny; pushed 1 day ago; verified 1 day ago: works; read just now", said["fine"]
        )
        self.assertEqual(len(for_page(status_lines(FINE, lambda moment: moment))), 6)

    def test_each_thing_that_goes_wrong_is_one_line_with_what_to_do(self) -> None:
        """Each alone makes exactly one line of trouble, or a note where nobody has to do anything at once."""
        subnet, channel, listed, roster = FINE.subnets[0], FINE.channels[0], FINE.lists[0], FINE.roster
        page = replace(listed, by_hand=True, enforcer="", read_at=None)
        till, sensor = FINE.essential[0], FINE.sensors[0]
        old, over = NOW - 3 * HOUR, replace(FINE.watch, running=False, ended=NOW - HOUR)
        wrong = [
            (replace(FINE, watch=replace(FINE.watch, troubles=(TroubleStatus("sweeping", "no carrier", old),))),
             "watch: sweeping: no carrier (since 09:00)"),
            (replace(FINE, watch=over), "no watch runs; the last ended 1 hour ago: alerts are not sent"),
            (replace(FINE, watch=replace(over, ended=None)), "which began Sat 12 Sep, 12:00, was ended from outside"),
            (replace(FINE, subnets=(replace(subnet, looked_at=old, completed_at=old),)),
             "workshop: looked at 3 hours ago, though a sweep is set every 1 minute -> scopion here"),
            (replace(FINE, subnets=(replace(subnet, completed_at=None),)), "workshop: was never scanned completely"),
            (replace(FINE, subnets=(replace(subnet, down_since=old),)), "down since 09:00: no device answers"),
            (replace(FINE, sensors=(replace(sensor, state="silent", heard=old),)),
             "sensor pit, clay pit: silent since 09:00: nothing there counts as gone, and nothing is told -> scopion "),
            (replace(FINE, sensors=(replace(sensor, state="never-heard", heard=None),)), "pit: was never heard"),
            (replace(FINE, sensors=(replace(sensor, kept=3),)), "a later version: 3 documents kept until this machine"),
            (replace(FINE, sensors=(replace(sensor, troubles=("eth1: no carrier",)),)), "clay pit: eth1: no carrier"),
            (replace(FINE, essential=(replace(till, here=False, seen_at=old, told_at=old + HOUR),)),
             "essential: front till is missing: last seen 09:00; you were told 10:00 -> scopion show 'front till'"),
            (replace(FINE, followed=(FollowedStatus(7, "Missing: front till", old, None, "", ""),)),
             "alert: no one has taken on 7, Missing: front till, told 3 hours ago -> scopion alerts seen 7"),
            (replace(FINE, subnets=()), "subnets: none was scanned yet -> scopion scan"),
            (replace(FINE, channels=(replace(channel, failed_at=NOW - HOUR, problem="refused"),)),
             "owner: last sent 2 hours ago; given up 1 hour ago; refused -> scopion alerts test owner"),
            (replace(FINE, channels=(replace(channel, waiting=2, waiting_since=old, problem="no route"),)),
             "owner: last sent 2 hours ago; 2 alerts wait since 09:00; no route -> scopion alerts test owner"),
            (of_list(listed, works=False, unmet=("ap: another list",)),
             "does not work; read just now; ap: another list -> scopion wifi verify Kilnhaven"),
            (of_list(listed, read_problem="timed out"), "cannot be reached: timed out"),
            (of_list(listed, push_problem="the last push failed"), "-> scopion wifi push Kilnhaven"),
            (of_list(listed, pending=True), "changed since it was pushed -> scopion wifi push Kilnhaven"),
            (of_list(page, pending=True, pushed_at=None),
             "'Kilnhaven', the page: mode deny; verified 1 day ago: works; never typed in -> scopion wifi sheet"),
            (of_list(page, to_type="1 to remove", due_since=old), "to type in since 09:00: 1 to remove"),
            (replace(FINE, roster=replace(roster, copied_at=NOW - timedelta(days=5))), "-> scopion roster check"),
            (replace(FINE, free_octets=1_000_000), "disk: 1.0 MB free where the roster is: too little"),
        ]  # fmt: skip
        for status, words in wrong:
            with self.subTest(words):
                said = self.said(status)
                self.assertEqual(len(said["trouble"]), 1, said)
                self.assertIn(words, said["trouble"][0])
        notes = [
            (replace(FINE, sensors=(replace(sensor, lag_s=7200.0, waiting=90),)),
             "is 2 hours behind: 90 batches still to come -> scopion sensors"),
            (replace(FINE, sensors=(replace(sensor, offset_s=-3600.0),)), "its clock is 1 hour slow: what it tells is"),
            (replace(FINE, subnets=(replace(subnet, learning_until=NOW + 30 * HOUR),)),
             "until Tue 15 Sep, 18:00: what joins is told once a day -> scopion alerts learning --end"),
            (replace(FINE, channels=(replace(channel, gathering=1, next_at=NOW + HOUR),)), None),
            (replace(FINE, essential=(replace(till, here=False, seen_at=old, planned="until Mon 18:00"),)),
             "essential: front till is away, as it may be until Mon 18:00; last seen 09:00"),
            (replace(FINE, essential=(replace(till, here=False, seen_at=NOW),)), None),
            (replace(FINE, subnets=(replace(subnet, looked_at=old, completed_at=old),), watch=WatchStatus(False),
                     channels=()),
             "essential: 1 device must be here, and it was when it was looked at last, 3 hours ago"),
            (replace(FINE, followed=tuple(
                FollowedStatus(number, f"Missing: d{number}", None, old, "Edda", "") for number in range(9))),
             "alert: 4 more that are older -> scopion alerts list"),
            (replace(FINE, followed=(FollowedStatus(7, "Missing: front till", None, old, "Edda", "ordered"),)),
             "alert: Edda has taken on 7, Missing: front till, 3 hours ago: ordered"),
            (replace(FINE, channels=()), "alerts: no channel is set"),
            (replace(FINE, due=(DueStatus(NOW + HOUR, "Kilnhaven", "hours"),)), "next: 13:00"),
            (replace(FINE, roster=replace(roster, new=3)), "devices: 3 devices of 18 are new"),
            (replace(FINE, roster=replace(roster, damaged=("roster.sqlite.damaged-1",))), "1 damaged file kept aside"),
            (replace(FINE, listing=ListingStatus(date(2025, 6, 25), 446)), "-> scopion vendor --refresh URL"),
            (replace(FINE, channels=(), watch=WatchStatus(running=False)), "watch: no watch runs: what comes and goes"),
        ]  # fmt: skip
        for status, note in notes:
            with self.subTest(note):
                said = self.said(status)
                self.assertEqual(said["trouble"], [])
                self.assertTrue(note is None or any(note in each for each in said["note"]), said)

    def test_who_calls_a_round_from_cron_has_a_watch(self) -> None:
        """A round that ended lately counts; one of the day before yesterday does not."""
        once = replace(FINE.watch, running=False, once=True, ended=NOW - HOUR)
        self.assertEqual(self.said(replace(FINE, watch=once))["trouble"], [])
        late = replace(once, ended=NOW - 40 * HOUR)
        self.assertEqual(len(self.said(replace(FINE, watch=late))["trouble"]), 1)


class Status(ProgramTest):
    """The command on the made-up site."""

    def status(self) -> dict[str, object]:
        """As JSON, which is as the published schema says; the exit code agrees with it."""
        ended = self.run_program("status", "--format", "json")
        found = json.loads(ended.stdout)
        schema = json.loads((ROOT / "docs/schemas/status.schema.json").read_text(encoding="utf-8"))
        jsonschema.Draft202012Validator.check_schema(schema)
        jsonschema.validate(found, schema)
        self.assertEqual(ended.returncode, 3 if found["needs"] else 0)
        return dict(found)

    def needs(self) -> list[str]:
        """What needs a person."""
        return [f"{each['part']}: {each['says']}" for each in self.status()["needs"]]  # type: ignore[attr-defined]

    def test_it_follows_what_happens(self) -> None:
        """From an empty folder to a site that is looked after, and through what goes wrong with it."""
        self.assertEqual(self.needs(), ["subnets: none was scanned yet"])
        self.begin()
        self.run_ok("scan")
        self.assertEqual(self.needs(), ["watch: no watch runs: alerts are not sent"])
        self.run_ok("watch", "--once")
        self.assertEqual(self.needs(), [])
        self.assertIn("All is looked after", self.run_program("status").stderr)
        shown = self.run_ok("status", "--format", "tsv")
        self.assertRegex(
            shown, r"192\.0\.2\.0/24\tnote\tbeing learnt until Mon 21 Sep, 08:1\d: what joins is told once a day"
        )
        self.run_ok("wifi", "deny", "Kilnhaven", "192.0.2.90")
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")
        self.assertEqual(self.needs(), ["'Kilnhaven', workshop access point: mode deny; read just now; never pushed"])
        self.run_ok("wifi", "push", "Kilnhaven", "--yes")
        self.run_ok("wifi", "deny", "Café", "192.0.2.90", "--for", "2h", "--router", "203.0.113.1")
        self.run_ok("wifi", "mode", "Café", "deny")
        self.run_ok("wifi", "push", "Café")
        self.assertEqual(self.needs(), ["'Café', the page: mode deny; to type in: 1 to add and mode deny"])
        self.run_ok("wifi", "done", "Café")
        found = self.status()
        self.assertEqual(found["needs"], [])
        self.assertEqual([each["ssid"] for each in found["due"]], ["Café"])  # type: ignore[attr-defined]
        self.run_ok("report", "--html", str(self.folder / "page.html"))
        page = (self.folder / "page.html").read_text(encoding="utf-8")
        self.assertLess(page.index("Is it looked after?"), page.index("What needs attention</h2>"))
        self.assertIn("hours or an end change the list", page)

    def test_a_watch_that_runs_is_told_and_one_that_was_killed(self) -> None:
        """Process, account and beginning of the one that runs; that one was ended from outside, not when it ended."""
        self.begin()
        self.run_ok("scan")
        environment = {**os.environ, "SCOPION_SITE": str(self.site), "TERM": "xterm", "COLUMNS": "120", "LINES": "40"}
        child, terminal = pty.fork()
        if child == 0:
            os.execve(PROGRAM, [PROGRAM, "watch"], environment)
        found, deadline = self.status(), time.monotonic() + 30
        while not found["watch"]["since"] and time.monotonic() < deadline:  # type: ignore[index]
            if select.select([terminal], [], [], 0.1)[0]:
                os.read(terminal, 65_536)
            found = self.status()
        watch = found["watch"]
        assert isinstance(watch, dict)
        self.assertEqual((watch["running"], watch["process"], watch["ended"]), (True, child, None))
        self.assertEqual((watch["raw_frames"], watch["troubles"]), (True, []))
        self.assertTrue(watch["account"] and watch["host"] and watch["version"])
        self.assertEqual(found["needs"], [])
        self.assertRegex(self.refused(1, "watch", "--log"), rf"watched already by process {child}: scopion status says")
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        with suppress(OSError):
            while os.read(terminal, 65_536):
                pass
        os.close(terminal)
        (said,) = [each for each in self.needs() if each.startswith("watch: ")]
        self.assertTrue(re.search(r"no watch runs; the last, which began .*, was ended from outside", said), said)
