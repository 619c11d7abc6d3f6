"""Two weeks of the made-up site: going through its new devices at a real terminal, look-alikes, what has changed."""

from __future__ import annotations

import os
import pty
import re
import select
import shutil
import tempfile
import time
from datetime import datetime, timedelta
from pathlib import Path
from typing import ClassVar

from tests.support import PROGRAM, ProgramTest

PHONES = ["da:31:7f:0c:52:e9", "4e:08:b3:9d:61:20", "9a:c4:07:e1:3b:58"]
_ESCAPES = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]")


class Fortnight(ProgramTest):
    played: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.played = Path(holder.name) / "site"
        test = cls("run_program")
        test.site = cls.played
        ended = test.run_program("demo", "--fortnight", str(cls.played), within=900)
        assert ended.returncode == 0, ended.stderr

    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(self.played, self.site)

    def at_the_terminal(self, *keys: str) -> str:
        """Run review in a pseudo-terminal and press keys, each once its question has come; what the screen showed."""
        environment = {**os.environ, "SCOPION_SITE": str(self.site), "TERM": "xterm", "COLUMNS": "100", "LINES": "40"}
        child, terminal = pty.fork()
        if child == 0:
            os.execve(PROGRAM, [PROGRAM, "review"], environment)
        shown = self._until_quiet(terminal)
        for key in keys:
            os.write(terminal, key.encode())
            shown += self._until_quiet(terminal)
        _, status = os.waitpid(child, 0)
        os.close(terminal)
        self.assertEqual(os.waitstatus_to_exitcode(status), 0, shown[-2000:])
        self.assertNotIn("Traceback", shown)
        return shown

    def _until_quiet(self, terminal: int) -> str:
        """What comes until a question stands there (it ends with > or a colon), or the program has ended."""
        seen, deadline = b"", time.monotonic() + 20
        while time.monotonic() < deadline:
            ready, _, _ = select.select([terminal], [], [], 0.15)
            if ready:
                try:
                    part = os.read(terminal, 65536)
                except OSError:  # the program has ended
                    break
                if not part:
                    break
                seen += part
            elif _ESCAPES.sub("", seen.decode(errors="replace")).rstrip().endswith((">", "):", "?:")):
                break
        return _ESCAPES.sub("", seen.decode(errors="replace"))

    def test_eight_new_devices_in_a_minute(self) -> None:
        """One key or a few a device: known, joined, named, guest, unwanted and denied; each is saved at once."""
        new = self.run_json("devices", "--standing", "new")
        self.assertEqual(len(new), 10)
        keys = (
            "j", "a\r",  # the apprentice's telephone is the same as two others
            "l", "glaze pump\r", "k",
            "k", "u", "k",  # the camera: a slip, taken back
            "o", "the potter\r", "k",
            "k",
            "s",  # the telephone in the clay pit
            "s",  # the box in the yard, pulled out again
            "g", "2 weeks\r",  # the delivery tablet, whose time was over
            "j",  # the bookkeeper's computer on the air
            "x", "nobody knows whose it was\r", "Kilnhaven\r",
            "q",
        )  # fmt: skip
        self.assertLess(len("".join(keys)), 120)  # two a second
        shown = self.at_the_terminal(*keys)
        self.assertIn("1 of 11", shown)
        self.assertIn("both are called 'apprentices-telephone' (mdns)", shown)
        self.assertIn("Taken back: loading-door marked known", shown)
        after = {row["name"] or row["macs"][0]: row for row in self.run_json("devices")}
        self.assertEqual(sorted(after["apprentice telephone"]["macs"]), sorted(PHONES))
        self.assertEqual((after["glaze pump"]["standing"], after["loading-door"]["standing"]), ("known", "known"))
        self.assertEqual(after["roof-weather"]["owner"], "the potter")
        self.assertIn("60:f2:a7:55:01:82", after["bookkeeping"]["macs"])
        unwanted = [row for row in self.run_json("wifi", "entries", "Kilnhaven") if row["list"] == "deny"]
        self.assertEqual(len(unwanted), 2)
        self.run_ok("same", "--undo", "apprentice telephone")
        self.assertEqual(len([row for row in self.run_json("devices") if row["macs"][0] in PHONES]), 3)

    def test_leaving_changes_nothing_and_a_pipe_is_refused(self) -> None:
        """Ctrl-C leaves; without a terminal it says what else there is."""
        before = self.run_ok("devices", "--format", "json")
        shown = self.at_the_terminal("s", "\x03")
        self.assertIn("no changes saved; 11 devices left to look at", shown)
        self.assertEqual(self.run_ok("devices", "--format", "json"), before)
        self.assertIn("mark --all-present known", self.refused(2, "review"))

    def test_the_sensor_reports_while_it_is_watched(self) -> None:
        """Hours of a watch: afterwards it was just heard, and what is in its place was seen just now, too."""
        self.run_ok("watch", "--for", "3h")
        (sensor,) = self.run_json("sensors")
        self.assertEqual(sensor["state"], "here")
        gateway = self.run_json("show", "192.0.2.1@clay pit")
        self.assertTrue(gateway["present"])
        heard, seen = (datetime.fromisoformat(each) for each in (sensor["heard"], gateway["last_seen"]))
        self.assertLess(abs(heard - seen), timedelta(minutes=1))

    def test_the_phone_is_proposed_as_one(self) -> None:
        """Each of its three addresses names the two others, with evidence and confidence; nothing is joined."""
        for mac in PHONES:
            alike = self.run_json("show", mac)["look_alikes"]
            self.assertEqual({each["macs"][0] for each in alike}, set(PHONES) - {mac})
            self.assertTrue(all(each["confidence"] > 0.8 and each["evidence"] for each in alike))
        latest = self.run_json("show", PHONES[2])
        self.assertEqual([each["habit"] for each in latest["private"]], ["rotating"])
        self.assertEqual([each["sources"] for each in latest["address_history"]], [["arp"]])
        self.assertEqual(latest["usually"], "Monday to Friday, 13 to 18 o'clock")
        self.assertEqual(self.run_json("show", "f6:02:ad:93:5c:70")["look_alikes"], [])

    def test_changes_tell_the_story_in_ten_lines(self) -> None:
        """Since Monday: who came, came and went, moved, stayed too long; those who come and go daily in one line."""
        ended = self.run_program("changes", "--since", "monday", "--format", "table", COLUMNS="160")
        lines = ended.stdout.strip().splitlines()
        self.assertLessEqual(len(lines), 10)
        told = " ".join(lines)
        for words in (
            "delivery tablet was still here", "roof-weather", "joined Mon 10:00", "joined Tue 10:30",
            "gone since Tue 16:00",
            "moved from 192.0.2.70 to 192.0.2.71", "6 are back", "is gone from 192.0.2.32 since Tue 22:00",
        ):  # fmt: skip
            self.assertIn(words, told)
        self.assertIn("The roster begins", self.run_program("changes", "--since", "2020-01-01").stderr)
        between = self.run_json("changes", "--since", "2026-09-24 12:00", "--until", "2026-09-24 15:00")["differences"]
        self.assertEqual((between[0]["kind"], between[0]["address"]), ("joined", "192.0.2.82"))
        self.assertNotIn("left", {row["kind"] for row in between})
        number = self.run_json("changes", "--scans")[5]["scan"]
        self.assertEqual(self.run_program("changes", "--since", f"scan:{number}").returncode, 0)
        self.assertIn("no scan 999999", self.refused(3, "changes", "--since", "scan:999999"))

    def test_filters_and_the_log(self) -> None:
        """Every filter narrows, none invents; the log takes moments, kinds and devices."""

        def found(*words: str) -> set[str]:
            return {row["macs"][0] for row in self.run_json("devices", *words)}

        everybody = found()
        self.assertEqual(found("--present") | found("--absent"), everybody)
        self.assertEqual(found("--private"), {*PHONES, "f6:02:ad:93:5c:70"})
        self.assertEqual(found("--vendor", "ember"), {"48:d0:c4:01:22:31", "48:d0:c4:01:22:32"})
        self.assertEqual(found("--kind", "camera"), {"94:e1:7b:20:44:0c", "94:e1:7b:00:03:70"})
        unseen = {"54:b1:a3:7c:00:88", "7c:a4:b1:33:05:10"}  # known by what access points told only
        self.assertEqual(found("--place", "workshop") | found("--place", "clay pit"), everybody - unseen)
        self.assertEqual(found("--owner", "apprentice"), {PHONES[0]})
        self.assertEqual(found("--subnet", "192.0.2.64/30"), {"7c:a4:b1:33:02:65"} & set())
        self.assertEqual(found("--not-seen-since", "3 days") | found("--seen-since", "3 days"), everybody)
        self.assertEqual(found("kiln", "lwIP"), {"48:d0:c4:01:22:31", "48:d0:c4:01:22:32"})
        names = [row["name"] for row in self.run_json("devices", "--sort", "name", "--columns", "name") if row["name"]]
        self.assertEqual(names, sorted(names, key=str.casefold))
        self.assertIn("there is no column 'colour'", self.refused(2, "devices", "--columns", "colour"))
        events = self.run_json("events", "--since", "monday", "--kind", "joined", "--kind", "guest-overstayed")
        self.assertEqual([row["kind"] for row in events], ["joined", "guest-overstayed", "joined"])
        of_lights = self.run_json("events", "lights")
        self.assertEqual([row["kind"] for row in of_lights], ["left", "returned", "readdressed"])
        self.assertEqual(self.run_json("events", "--limit", "2")[-1]["at"], self.run_json("events")[-1]["at"])
        self.assertIn("is not a moment", self.refused(2, "events", "--since", "the day of the fire"))
