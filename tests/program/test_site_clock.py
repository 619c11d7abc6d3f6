"""One clock, the site's: what is shown, read and decided by the hour follows ``timezone``, wherever the machine is."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from scopion.operations.site.site_clock import SiteClock
from scopion.scenes.scene_clock import SceneClock
from tests.support import NOON, PreparedTest, ProgramTest

AUCKLAND = "Pacific/Auckland"  # twelve hours ahead in September: 08:10 UTC is ten past eight in the evening
moments = st.datetimes(datetime(2000, 1, 1), datetime(2037, 1, 1), timezones=st.just(UTC))


class Clock(unittest.TestCase):
    @given(moments, st.sampled_from([AUCKLAND, "Europe/Lisbon", "Australia/Lord_Howe", "America/St_Johns"]))
    def test_the_wall_is_the_zones(self, moment: datetime, name: str) -> None:
        """Shown and read again a moment is the same, but in the hour that is repeated; spans are real ones."""
        clock = SiteClock(SceneClock(NOON), lambda: ZoneInfo(name))
        wall = clock.local(moment)
        self.assertEqual(wall, moment)
        self.assertEqual(wall.replace(tzinfo=None), moment.astimezone(ZoneInfo(name)).replace(tzinfo=None))
        again = clock.from_local(wall.replace(tzinfo=None))
        self.assertIn(moment - again, (timedelta(0), timedelta(hours=1), timedelta(minutes=30)))
        self.assertEqual(clock.local(moment + timedelta(days=200)) - wall, timedelta(days=200))


class OneClock(PreparedTest):
    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        site.begin()
        site.run_ok("scan")
        settings = site.site / "site.toml"
        text = settings.read_text(encoding="utf-8")
        settings.write_text(f'timezone = "{AUCKLAND}"\n{text}', encoding="utf-8")

    def test_display_and_what_people_say(self) -> None:
        """The card, the log, an entry's end and a guest's day are on the site's wall, not on the machine's."""
        self.assertIn("Mon 2026-09-14 20:10", self.run_ok("show", "till", "--format", "table"))
        self.run_ok("wifi", "deny", "Attic", "192.0.2.61", "--until", "today 23:00")
        (entry,) = self.run_json("wifi", "entries", "Attic")
        self.assertEqual(entry["until"], "2026-09-14T11:00:00Z")
        shown = self.run_program("wifi", "entries", "Attic", "--format", "table", COLUMNS="160").stdout
        self.assertIn("until Mon 2026-09-14 23:00", shown)
        self.run_ok("wifi", "done", "Attic")
        self.assertIn("2026-09-14 20:10", self.run_ok("wifi", "revert", "Attic", "--list", "--format", "table"))
        self.run_ok("demo", "--next", str(self.site))  # the story moves on, past noon: there it is Tuesday
        self.run_ok("mark", "192.0.2.62", "guest", "--until", "today")
        until = next(row["guest_until"] for row in self.run_json("devices") if row["addresses"] == ["192.0.2.62"])
        self.assertEqual(until, self.opened().clock.local(self.opened().clock.now()).date().isoformat())

    def test_night_and_digests(self) -> None:
        """Night hours hold an alert back by the site's clock: at ten past eight UTC it is evening there."""
        clock = self.opened().clock
        wall = clock.local(clock.now())
        self.assertEqual((wall.hour, wall.utcoffset()), (20, timedelta(hours=12)))
        settings = self.site / "site.toml"
        text = settings.read_text(encoding="utf-8")
        night = text.replace("[alerts]", '[alerts]\nnight = "20:00-06:00"\nlearning_days = 0', 1)
        settings.write_text(night, encoding="utf-8")
        self.run_ok("forget", "192.0.2.62", "--yes")
        self.run_ok("scan")
        (alert,) = self.run_json("alerts", "list")
        self.assertEqual(alert["due"], "2026-09-14T18:00:00Z")  # six in the morning there

    def test_a_wrong_zone_is_told_with_its_line(self) -> None:
        """A mistake in the zone is one line with its place; a mistake elsewhere does not stop commands that read."""
        settings = self.site / "site.toml"
        text = settings.read_text(encoding="utf-8")
        settings.write_text(text.replace(AUCKLAND, "Europe/Kilnhaven"), encoding="utf-8")
        said = self.refused(2, "show", "till")
        self.assertRegex(said, r"site\.toml, line 1: timezone: 'Europe/Kilnhaven' is not a time zone")
        settings.write_text(text.replace("[scan]", "[scan]\npace = -1"), encoding="utf-8")
        self.assertIn("20:10", self.run_ok("show", "till", "--format", "table"))


if __name__ == "__main__":
    unittest.main()
