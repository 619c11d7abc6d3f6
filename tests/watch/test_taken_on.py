"""What is grave is told again until someone has seen it, by a second way if need be, and never as a storm."""

from __future__ import annotations

import json
import sqlite3
import subprocess
import sys
import unittest
from contextlib import closing
from datetime import datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from scopion.alerts.follow_up import due_again, due_second
from scopion.model.alert import AlertState
from scopion.operations.edit.edit_devices import label_device
from scopion.operations.site.open_site import Site
from scopion.roster.follow_alerts import Followed
from tests.watch.test_watch import BOOK, NOON, SceneWatch, host, usual

CHAT = BOOK.replace("book", "chat")
RULES = """
[[rule]]
channels = ["book"]
repeat_s = 1200
repeat_times = 3
second = "chat"
second_after_s = 600
[[rule]]
channels = ["chat"]
silent = true
"""


class TakenOn(SceneWatch):
    """A till that falls silent at half past twelve, with two tills that follow, and an owner who may be away."""

    def afternoon(self, *numbers: int, rules: str = RULES, until: str = "") -> None:
        """Watch a site in which these fall silent at half past twelve, until some other time or for good."""
        away = [f"-{12 + at // 60}:{at % 60:02}" for at in range(30, 30 + 20 * len(numbers), 20)]
        back = [f"{until}-"] if until else []
        hosts = "".join(host(number, each, *back) for number, each in zip(numbers, away, strict=True))
        self.begin(usual() + hosts, f"[watch]\ninterval_s = 120\n{CHAT}{rules}")
        self.watch(minutes=2)
        site = Site(self.site)
        for number in numbers:
            label_device(site, f"192.0.2.{number}", f"till {number}", essential=True)
        site.close()

    def scopion(self, *words: str) -> subprocess.CompletedProcess[str]:
        program = [sys.executable, "-m", "scopion", "--site", str(self.site), *words]
        return subprocess.run(program, check=False, capture_output=True, text=True)

    def chat(self) -> list[str]:
        path = self.site / "chat.jsonl"
        return [json.loads(line)["subject"] for line in path.read_text().splitlines()] if path.exists() else []

    def test_what_no_one_has_seen_is_told_again_so_often(self) -> None:
        """Three times, every twenty minutes, and once by the second way; then no more, however long it lasts."""
        self.afternoon(50)
        self.watch(hours=5)
        self.assertEqual(self.subjects(), ["Missing: till 50", *["Again: Missing: till 50"] * 3])
        self.assertEqual(self.chat(), ["Unseen: Missing: till 50"])
        told = [json.loads(line) for line in (self.site / "book.jsonl").read_text().splitlines()]
        self.assertEqual([each["actions"][0]["command"] for each in told[1:]], ["scopion alerts seen 1"] * 3)
        self.assertIn("scopion alerts seen 1", told[0]["text"])
        self.assertIn("It is not told again.", told[3]["text"])

    def test_who_takes_it_on_is_said_from_then_on(self) -> None:
        """By any number of it; nothing is told again, and status and the next message say who it is, and the note."""
        self.afternoon(50, until="15:00")
        self.watch(minutes=50)
        self.assertEqual(self.chat(), ["Unseen: Missing: till 50"])
        status = self.scopion("status")
        self.assertEqual(status.returncode, 3)
        self.assertIn("no one has taken on 1, Missing: till 50, told", status.stdout)
        number = json.loads(self.scopion("alerts", "list", "--channel", "chat", "--format", "json").stdout)[0]["id"]
        said = self.scopion("alerts", "seen", str(number), "--by", "Edda", "--note", "a new power supply\x1b[2J")
        self.assertIn("Edda took on alert 1 and 2", said.stderr)
        self.assertIn(
            "Edda has taken on 1, Missing: till 50, just now: a new power supply", self.scopion("status").stdout
        )
        listed = json.loads(self.scopion("alerts", "list", "--format", "json").stdout)
        self.assertEqual({(each["seen_by"], each["seen_note"]) for each in listed}, {("Edda", "a new power supply[2J")})
        self.watch(hours=3)
        self.assertEqual([each.partition(",")[0] for each in self.subjects()], ["Missing: till 50", "Back: till 50"])
        self.assertIn(
            "Edda has taken care of this since 12:52 on Monday, 14 September: a new power", self.book()[1]["text"]
        )
        self.assertNotIn("Edda", self.scopion("status").stdout)  # it is over

    def test_what_is_over_is_not_told_again(self) -> None:
        """The till is back before the first repeat: that needs no one any more."""
        self.afternoon(50, until="12:42")
        self.watch(hours=3)
        self.assertEqual([each.partition(",")[0] for each in self.subjects()], ["Missing: till 50", "Back: till 50"])
        self.assertEqual(self.chat(), [])

    def test_several_are_told_again_in_one_message(self) -> None:
        """Three tills, at different times: a message each, and then one for all that are unseen."""
        self.afternoon(50, 51, 52)
        self.watch(hours=6)
        subjects = self.subjects()
        self.assertEqual(sum(each.startswith("Missing") for each in subjects), 3)
        again = [each for each in self.book() if not each["subject"].startswith("Missing")]
        self.assertLessEqual(len(again), 6)
        self.assertIn("2 alerts that no one has seen", " ".join(subjects))

    def test_the_second_way_if_the_first_has_failed(self) -> None:
        """A channel that cannot deliver: the second gets it after the time, with what is wrong."""
        broken = RULES.replace('"book"', '"book", "lost"', 1).replace("repeat_s = 1200\nrepeat_times = 3\n", "")
        lost = '[[channel]]\nname = "lost"\ntype = "file"\npath = "no/such/folder/lost.jsonl"\n'
        self.afternoon(50, rules=lost + broken.replace('"book", "lost"', '"lost"'))
        self.watch(hours=1)
        self.assertEqual(self.chat(), ["Unseen: Missing: till 50"])
        self.assertIn("lost could not deliver this since", (self.site / "chat.jsonl").read_text())

    def test_a_damaged_message_does_not_stop_the_others(self) -> None:
        """It is told in plain words; what was sent before it, and what comes after, is told as well."""
        self.afternoon(50, 51)
        self.watch(minutes=36)
        with closing(sqlite3.connect(self.site / "roster.sqlite")) as db, db:
            db.execute("UPDATE alert SET message = '{}' WHERE id = 1")
        self.watch(hours=2)
        self.assertEqual(self.subjects()[:2], ["Missing: till 50", "Missing: till 51"])
        self.assertIn("missing: 10:c0:de:00:00:32", self.chat()[0])
        self.assertEqual(self.chat()[1], "Unseen: Missing: till 51")

    def test_a_rule_by_command(self) -> None:
        """What it asks for is in the list; a channel that does not exist is refused, and an alert as well."""
        self.afternoon(50, rules="")
        said = self.scopion("alerts", "rules", "add", "--event", "missing", "--repeat", "1h", "--second", "chat")
        self.assertIn("again every 1 hour until seen, 6 times at most, by chat too if that fails", said.stderr)
        tried = self.scopion("alerts", "rules", "try", "till 50", "--event", "missing", "--format", "json")
        why = "again every 1 hour until someone has seen it; by chat, too, after 15 minutes"
        self.assertIn(why, next(each["why"] for each in json.loads(tried.stdout) if each["channel"] == "book"))
        text = (self.site / "site.toml").read_text()
        self.assertEqual(
            self.scopion("alerts", "rules", "add", "--event", "missing", "--second", "nowhere").returncode, 2
        )
        self.assertEqual(self.scopion("alerts", "rules", "add", "--event", "left", "--repeat", "1m").returncode, 2)
        self.assertEqual((self.site / "site.toml").read_text(), text)
        self.assertEqual(self.scopion("alerts", "seen", "77").returncode, 3)
        self.assertEqual(self.scopion("alerts", "remove", "chat", "--yes").returncode, 0)
        rule = json.loads(self.scopion("alerts", "rules", "list", "--format", "json").stdout)[0]
        self.assertEqual((rule["second"], rule["repeat_s"]), (None, 3600))


class Bounded(unittest.TestCase):
    """The decision alone."""

    @given(st.lists(st.tuples(st.integers(0, 600), st.integers(1, 24), st.integers(5, 60)), min_size=1, max_size=8))
    def test_a_channel_gets_one_message_at_a_time(self, alerts: list[tuple[int, int, int]]) -> None:
        """Never two within the shortest time between repeats, and no alert more often than its times."""
        minute = timedelta(minutes=1)
        state = {
            number: Followed(
                number, "mail", AlertState.SENT, NOON, NOON + at * minute, False, "", "{}", every * minute, times, None,
                "", minute,
            )
            for number, (at, times, every) in enumerate(alerts)
        }  # fmt: skip
        told, counts = [], dict.fromkeys(state, 0)
        for passed in range(0, 24 * 60, 5):
            now = NOON + passed * minute
            sent = [each for each in state.values() if each.ended is not None and each.ended <= now]
            for each in (due := due_again(sent, now).get("mail", [])):
                counts[each.alert] += 1
                state[each.alert] = again(each, now)
            told += [now] if due else []
        shortest = min(every for _, _, every in alerts)
        self.assertLessEqual(len(told), 1 + 24 * 60 // shortest)
        for number, (_, times, _) in enumerate(alerts):
            self.assertLessEqual(counts[number], times)
        self.assertGreater(len(told), 0)

    def test_a_message_that_waits_for_the_morning_has_not_failed(self) -> None:
        """Only what was tried, or was sent and not seen, goes by the second channel."""
        minute = timedelta(minutes=1)
        for state, failed, ended, after, second in (
            (AlertState.WAITING, False, None, 60, 0), (AlertState.WAITING, True, None, 9, 0),
            (AlertState.WAITING, True, None, 10, 1), (AlertState.FAILED, True, NOON, 0, 1),
            (AlertState.SENT, False, NOON + 5 * minute, 14, 0), (AlertState.SENT, False, NOON + 5 * minute, 15, 1),
        ):  # fmt: skip
            each = Followed(1, "mail", state, NOON, ended, failed, "", "{}", None, 1, None, "chat", 10 * minute)
            self.assertEqual(len(due_second([each], NOON + after * minute)), second, (state, after))


def again(each: Followed, now: datetime) -> Followed:
    """The same after a repeat."""
    return Followed(
        each.alert, each.channel, each.state, each.due, each.ended, False, "", "{}", each.every, each.times - 1, now,
        "", each.after,
    )  # fmt: skip
