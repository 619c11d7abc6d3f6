"""Channels and rules set up by commands: asked, written with the comments kept, tried; and a rehearsal of all of it."""

from __future__ import annotations

import json
import tomllib
import unittest
from datetime import date
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from scopion.alerts.reminders import Dates, RemindSettings, reminders_due
from scopion.operations.site.edit_settings import quoted, with_block_before, with_value, without_block
from scopion.operations.site.load_settings import TEMPLATE
from tests.receivers import PASSWORD, MailServer, WebServer, free_port
from tests.support import ProgramTest


class Telling(ProgramTest):
    """The made-up site, whose settings have comments and one channel of type file, the owner's."""

    def setUp(self) -> None:
        super().setUp()
        self.begin()
        self.run_ok("scan")
        self.settings = self.site / "site.toml"
        self.before = self.settings.read_text(encoding="utf-8")

    def read(self) -> dict[str, Any]:
        """What the settings say; every line of comment that was there still is."""
        text = self.settings.read_text(encoding="utf-8")
        for line in self.before.splitlines():
            if line.lstrip().startswith("#"):
                self.assertIn(line, text)
        return tomllib.loads(text)

    def test_a_mail_about_newcomers_takes_one_command_and_four_questions(self) -> None:
        """The answers are written, the password into a file of its own, and a test arrives at a real server."""
        server = MailServer(self, security="plain")
        answers = [
            ("To which address?", "owner@kilnhaven.example"),
            ("By which server?", f"127.0.0.1:{server.port}"),
            ("As which user?", "owner"),
            ("Its password", PASSWORD),
        ]
        code, shown = self.in_terminal("alerts", "add", "mail", "--security", "plain", answers=answers)
        self.assertEqual(code, 0, shown)
        self.assertIn("It works", shown)
        self.assertIn("what joins is told once a day. scopion alerts learning --end ends that", shown)
        self.assertIn("Alerts are sent while a watch runs, and none does", shown)
        self.assertNotIn(PASSWORD, shown + self.settings.read_text())
        self.assertEqual((self.site / "mail-password").stat().st_mode & 0o777, 0o600)
        self.assertEqual([str(each["Subject"])[:5] for each in server.mails], ["Test:"])
        channel = self.read()["channel"][1]
        self.assertEqual(
            (channel["name"], channel["to"], channel["user"]), ("mail", ["owner@kilnhaven.example"], "owner")
        )
        self.assertEqual(len(self.run_json("alerts", "rules", "try")), 2)
        ended = self.run_program("alerts", "remove", "mail", "--yes")
        self.assertIn("Its secret is still in", ended.stderr)
        self.assertEqual(tomllib.loads(self.before), self.read())

    def test_what_does_not_work_can_be_left_again(self) -> None:
        """A test that fails is explained; a no leaves the settings as they were; exit code 3 without a terminal."""
        server = f"127.0.0.1:{free_port()}"
        answers = [("Keep it all the same?", "n")]
        given = ("alerts", "add", "mail", "--to", "a@kilnhaven.example", "--server", server, "--user", "-")
        code, shown = self.in_terminal(*given, answers=answers)
        self.assertEqual((code, tomllib.loads(self.before)), (0, self.read()), shown)
        ended = self.run_program(*given)
        self.assertEqual(ended.returncode, 3)
        self.assertIn("is set, and does not work yet", ended.stderr)
        self.assertEqual([each["name"] for each in self.read()["channel"]], ["owner", "mail"])

    def test_each_kind_without_questions(self) -> None:
        """Every kind is written by options alone; what is missing, taken or wrong is one line and changes nothing."""
        server = WebServer(self)
        address = f"http://127.0.0.1:{server.port}/hook/secret"
        self.run_ok("alerts", "add", "chat", "--url", address)
        self.run_ok("alerts", "add", "push", "--url", address, "--name", "phone")
        self.run_ok("alerts", "add", "file", "--path", "book.jsonl")
        self.run_ok("alerts", "add", "program", "--program", "true --loud", "--set", "timeout_s=5")
        self.run_ok("alerts", "add", "log", "--server", "127.0.0.1:5514", "--no-test")
        broker = ("--server", "broker.kilnhaven.example", "--to", "home/alerts", "--user", "scopion")
        self.run_ok("alerts", "add", "mqtt", *broker, "--password", "file:broker-password", "--no-test")
        self.run_ok(
            "alerts", "add", "mqtt", "--name", "plain", "--server", "127.0.0.1", "--to", "home/alerts", "--user", "-",
            "--security", "plain", "--no-test",
        )  # fmt: skip
        for kind in ("sound", "bell", "desktop"):
            self.run_ok("alerts", "add", kind, "--no-test")
        said = [(body, headers["Content-Type"]) for headers, body in server.posts]
        self.assertIn("Test: ", json.loads(said[0][0])["text"])
        self.assertTrue(said[1][0].startswith(b"Test: ") and said[1][1].startswith("text/plain"))
        channels = {each["name"]: each for each in self.read()["channel"]}
        self.assertEqual(channels["program"]["command"][1:], ["--loud"])
        self.assertEqual((channels["program"]["timeout_s"], channels["log"]["port"]), (5, 5514))
        self.assertEqual(channels["phone"]["url_secret"], "file:phone-url")
        mqtt, plain = channels["mqtt"], channels["plain"]
        self.assertEqual(
            (mqtt["topic"], mqtt["user"], mqtt["password"]), ("home/alerts", "scopion", "file:broker-password")
        )
        self.assertEqual((plain["tls"], plain["port"], "user" in plain, "tls" in mqtt), (False, 1883, False, False))
        self.assertEqual({channels[each]["type"] for each in ("sound", "bell", "screen")}, {"sound", "bell", "desktop"})
        kept = self.settings.read_text()
        for words, line in (
            ("--url is needed", ("alerts", "add", "chat")),
            ("say what kind of channel", ("alerts", "add")),
            ("is no setting", ("alerts", "add", "file", "--name", "x", "--set", "nonsense")),
            ("nothing was written", ("alerts", "add", "file", "--name", "x", "--set", "colour=red")),
            ("nothing was written", ("alerts", "add", "mail", "--to", "no address", "--server", "x", "--user", "-")),
        ):
            self.assertIn(words, self.refused(2, *line))
        self.assertIn("there is a channel 'owner' already", self.refused(1, "alerts", "add", "file", "--name", "owner"))
        self.assertEqual(self.settings.read_text(), kept)

    def test_rules_are_added_tried_and_removed(self) -> None:
        """The first rule leaves all the rest as it was; a trial says for each channel whether, when and why."""
        self.run_ok("alerts", "learning", "--end")
        self.run_ok("alerts", "add", "file", "--name", "book", "--no-test")
        self.run_ok("alerts", "rules", "add", "--event", "joined", "--kind", "phone or tablet", "--silent")
        self.run_ok("alerts", "rules", "add", "--channel", "book", "--event", "joined", "--severity", "high")
        self.assertEqual([each["number"] for each in self.run_json("alerts", "rules")], [1, 2, 3])

        def told(*which: str) -> list[tuple[str, bool, str | None, str]]:
            rows = self.run_json("alerts", "rules", "try", *which)
            return [(each["channel"], each["told"], each["severity"], each["why"]) for each in rows]

        self.assertEqual(
            told(), [("owner", True, "normal", "rule 3 says so"), ("book", True, "high", "rule 1 says so")]
        )
        self.run_ok("scan", "--method", "listen", "--for", "60s")  # now the tablet is known to be one
        self.assertEqual(told("192.0.2.61")[0], ("owner", False, None, "rule 2 keeps it silent"))
        self.assertEqual(told("--event", "left")[0][3], "no rule fits")
        self.run_ok("alerts", "mute", "192.0.2.70", "--for", "2h")
        self.assertIn("it is muted", told("192.0.2.70")[0][3])
        self.assertEqual(told("10:c0:de:00:00:99")[0][:3], ("owner", True, "normal"))
        self.run_ok("alerts", "remove", "book", "--yes")
        self.assertEqual(len(self.read()["rule"]), 2)  # the one that was for it alone is gone
        self.run_ok("alerts", "rules", "remove", "1")
        self.assertEqual(self.read()["rule"], [{"silent": False}])
        self.assertIn("there is no rule 2", self.refused(3, "alerts", "rules", "remove", "2"))
        self.assertIn("fits everything", self.refused(2, "alerts", "rules", "add"))
        self.assertIn("does not exist", self.refused(2, "alerts", "rules", "add", "--channel", "nowhere"))

    def test_a_rehearsal_goes_through_rules_wording_and_delivery(self) -> None:
        """The message is that of a newcomer, marked; nothing is remembered; a channel that fails is named."""
        devices, alerts = self.run_json("devices"), self.run_json("alerts")
        ended = self.run_program("alerts", "rehearse")
        self.assertEqual(ended.returncode, 0, ended.stderr)
        self.assertIn("it would be told at Tuesday 08:00, and is sent now", ended.stderr)
        (line,) = (self.site / "told-to-owner.jsonl").read_text(encoding="utf-8").splitlines()
        message = json.loads(line)
        self.assertTrue(message["subject"].startswith("Rehearsal: New on 192.0.2.0/24"))
        self.assertTrue(message["test"] and message["text"].startswith("This is a rehearsal"))
        self.assertEqual([each["kind"] for each in message["events"]], ["joined"])
        self.assertEqual((self.run_json("devices"), self.run_json("alerts")), (devices, alerts))
        self.run_ok("alerts", "add", "push", "--url", f"http://127.0.0.1:{free_port()}/", "--no-test")
        ended = self.run_program("alerts", "rehearse")
        self.assertEqual(ended.returncode, 3)
        self.assertIn("the rehearsal could not be delivered by push", ended.stderr)
        self.run_ok("alerts", "rules", "add", "--event", "joined", "--silent")
        ended = self.run_program("alerts", "rehearse")
        self.assertEqual((ended.returncode, ended.stderr.count("rule 1 keeps it silent")), (0, 2))


class Reminders(ProgramTest):
    def test_each_is_told_once(self) -> None:
        """A passphrase of last year is told by the watch, once; after it was changed it counts anew."""
        self.begin()
        self.run_ok("scan")
        told = self.site / "told-to-owner.jsonl"

        def reminders() -> list[str]:
            self.run_ok("watch", "--for", "2h")
            lines = told.read_text(encoding="utf-8").splitlines() if told.exists() else []
            found = [json.loads(line) for line in lines]
            return [each["subject"] for each in found if each["thread"] == "reminder"]

        self.assertEqual(reminders(), [])
        self.run_ok("wifi", "audit", "Kilnhaven", "--passphrase-changed", "2025-09-01")
        subjects = reminders()
        self.assertEqual(subjects, ["Reminder: The passphrase of Kilnhaven is 12 months old"])
        self.assertEqual(reminders(), subjects)
        self.run_ok("wifi", "audit", "Kilnhaven", "--passphrase-changed", "2026-09-10")
        self.assertEqual(reminders(), subjects)
        self.run_ok("wifi", "audit", "Kilnhaven", "--passphrase-changed", "2025-09-10")
        self.assertEqual(len(reminders()), 2)
        settings = self.site / "site.toml"
        settings.write_text(settings.read_text().replace("\n[remind]", '\n[remind]\nchannels = ["nowhere"]', 1))
        self.assertIn("what [remind] is about goes to channel 'nowhere'", self.refused(2, "status"))

    def test_when_each_is_due(self) -> None:
        """By its own number of days; 0 is never, and what is not known is not due."""
        today = date(2026, 9, 14)
        dates = Dates(today, {"Kiln": date(2025, 9, 14), "Yard": date(2025, 9, 15)}, date(2026, 3, 1), date(2025, 1, 1))
        due = list(reminders_due(dates, RemindSettings(list_days=100)))
        self.assertEqual([each.key.split()[0] for each in due], ["passphrase", "list", "vendors"])
        self.assertIn("'Kiln'", due[0].says)
        self.assertEqual(list(reminders_due(dates, RemindSettings(passphrase_days=0, list_days=0, vendors_days=0))), [])
        self.assertEqual(list(reminders_due(Dates(today), RemindSettings())), [])


TEXTS = st.text(st.characters(exclude_categories=["C", "Zl", "Zp"]), max_size=20)
BLOCKS = st.lists(
    st.tuples(st.sampled_from(["channel", "rule", "subnet"]), TEXTS, st.booleans()), min_size=1, max_size=6
)


class Editing(unittest.TestCase):
    @given(BLOCKS, st.data())
    @settings(suppress_health_check=[HealthCheck.too_slow])  # characters of every script are slow to load at first
    def test_only_what_is_meant_is_changed(self, blocks: list[tuple[str, str, bool]], data: st.DataObject) -> None:
        """Whatever names hold and wherever comments stand: the table that is taken out, put in or changed is the one
        that is meant, all others stay, and so does every comment.
        """
        text = TEMPLATE.read_text(encoding="utf-8")
        for name, value, remark in blocks:
            text += f"\n{'# about it' if remark else ''}\n[[{name}]]\nname = {quoted(value)}  # here\n"
            text += "channels = ['a']\n"
        which = data.draw(st.sampled_from(sorted({name for name, _, _ in blocks})))
        wanted = tomllib.loads(text)
        number = data.draw(st.integers(0, len(wanted[which]) - 1))
        comments = [line for line in text.splitlines() if line.startswith("#")]
        changed = with_value(text, which, number, "channels", ["b", 'c"'])
        self.assertEqual(tomllib.loads(changed)[which][number]["channels"], ["b", 'c"'])
        first = with_block_before(changed, which, f"[[{which}]]\nname = 'x'")
        self.assertEqual(tomllib.loads(first)[which][0], {"name": "x"})
        self.assertEqual(tomllib.loads(without_block(first, which, 0)), tomllib.loads(changed))
        del wanted[which][number]
        left = without_block(text, which, number)
        self.assertEqual(tomllib.loads(left), {key: value for key, value in wanted.items() if value != []})
        for edited in (changed, first, left):
            self.assertEqual([line for line in edited.splitlines() if line.startswith("#")], comments)
