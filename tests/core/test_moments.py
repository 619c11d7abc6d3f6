"""Moments as people say them, and the days and hours of a device: over midnight, summer time, the turn of a year."""

from __future__ import annotations

import unittest
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.model.clock import Clock
from scopion.model.moments import parse_day, parse_moment
from scopion.operations.devices.rhythm import DAYS, DayMark, Rhythm, rhythm

# A zone with summer time: clocks went forward on 2026-03-29 at 01:00 UTC, and back on 2026-10-25 at 01:00 UTC.
ZONE = ZoneInfo("Europe/Vienna")


class WallClock:
    """A clock that stands still, in a zone with summer time."""

    def __init__(self, wall: str) -> None:
        self._now = datetime.fromisoformat(wall).replace(tzinfo=ZONE).astimezone(UTC)

    def now(self) -> datetime:
        return self._now

    def monotonic(self) -> float:
        return 0.0

    def local(self, moment: datetime) -> datetime:
        return moment.astimezone(ZONE)

    def from_local(self, wall: datetime) -> datetime:
        return wall.replace(tzinfo=ZONE).astimezone(UTC)


class Moments(unittest.TestCase):
    def test_what_people_say(self) -> None:
        """Each way of saying a moment means the one that a person would mean, at a quarter to one on a Wednesday."""
        clock: Clock = WallClock("2026-01-07 00:45")
        for text, wall in {
            "now": "2026-01-07 00:45",
            "today": "2026-01-07 00:00",
            "yesterday": "2026-01-06 00:00",
            "Yesterday 14:00": "2026-01-06 14:00",
            "yesterday at 9:05": "2026-01-06 09:05",
            "monday": "2026-01-05 00:00",
            "wed": "2026-01-07 00:00",
            "thursday": "2026-01-01 00:00",
            "last friday 17:30": "2026-01-02 17:30",
            "14:00": "2026-01-06 14:00",  # not the one that is still to come
            "00:30": "2026-01-07 00:30",
            "2025-12-31": "2025-12-31 00:00",
            "2025-12-31 23:59": "2025-12-31 23:59",
            "2025-12-31T23:59": "2025-12-31 23:59",
            "2025-12-31T22:59:00Z": "2025-12-31 23:59",
            "3 days": "2026-01-04 00:45",
            "a week ago": "2025-12-31 00:45",
            "90m": "2026-01-06 23:15",
            "1.5 h": "2026-01-06 23:15",
        }.items():
            with self.subTest(text=text):
                self.assertEqual(f"{clock.local(parse_moment(text, clock)):%Y-%m-%d %H:%M}", wall)
        self.assertEqual(
            f"{clock.local(parse_moment('yesterday', clock, end=True)):%Y-%m-%d %H:%M}", "2026-01-07 00:00"
        )

    def test_coming_days(self) -> None:
        """Of a guest a weekday is the next one, and a span lies ahead."""
        clock = WallClock("2025-12-31 10:00")
        for text, day in {
            "friday": (2026, 1, 2),
            "tomorrow": (2026, 1, 1),
            "2 weeks": (2026, 1, 14),
            "wednesday": (2025, 12, 31),
        }.items():
            with self.subTest(text=text):
                self.assertEqual(parse_day(text, clock), date(*day))

    def test_days_are_counted_on_the_wall(self) -> None:
        """Three days ago is the same time of day in spite of summer time; three hours ago is three hours."""
        clock = WallClock("2026-03-30 10:00")
        self.assertEqual(clock.local(parse_moment("3 days", clock)).hour, 10)
        self.assertEqual(clock.now() - parse_moment("3 days", clock), timedelta(days=3) - timedelta(hours=1))
        self.assertEqual(clock.now() - parse_moment("30 hours", clock), timedelta(hours=30))
        autumn = WallClock("2026-10-25 12:00")
        self.assertEqual(autumn.now() - parse_moment("today", autumn), timedelta(hours=13))

    def test_what_is_none_is_said(self) -> None:
        """An impossible date, a time that there is none, a word: refused with how to write it."""
        clock = WallClock("2026-01-07 12:00")
        for text, says in {
            "2026-02-30": "there is no day",
            "2026-13-01": "there is no day",
            "25:00": "no time of day",
            "monday 12": "write it as 14:00",
            "soon": "write it as 2026-09-14",
            "": "not a moment",
            "99999 weeks": "too far from now",
            "in 3 days": "a past moment is needed",
        }.items():
            with self.subTest(text=text), self.assertRaisesRegex(ValueError, says):
                parse_moment(text, clock)
        with self.assertRaisesRegex(ValueError, "a coming moment"):
            parse_moment("3 days ago", clock, ahead=True)

    @given(st.text(max_size=24))
    @settings(max_examples=300, deadline=None)
    def test_it_is_total(self, text: str) -> None:
        """Any text is a moment in the past or a ValueError."""
        clock = WallClock("2026-01-07 12:00")
        try:
            self.assertIsNotNone(parse_moment(text, clock).tzinfo)
        except ValueError as error:
            self.assertTrue(str(error))


def of(stays: list[tuple[str, str]], now: str, *, since: str = "2026-01-01 00:00") -> Rhythm:
    """The rhythm of wall-clock stays, looked at each day at noon."""
    clock = WallClock(now)

    def moment(wall: str) -> datetime:
        return clock.from_local(datetime.fromisoformat(wall))

    today = clock.local(clock.now()).date()
    noons = [datetime.combine(today - timedelta(days=back), datetime.min.time().replace(hour=12)) for back in range(40)]
    looked = [(clock.from_local(noon), clock.from_local(noon)) for noon in noons]
    spans = [(moment(begin), moment(end)) for begin, end in stays]
    return rhythm(spans, looked, moment(since), clock.now(), clock.local)


class Rhythms(unittest.TestCase):
    def test_working_days(self) -> None:
        """Who is here from eight to four on working days has that rule, and no other day."""
        days = [date(2026, 3, 2) + timedelta(days=number) for number in range(29)]
        stays = [(f"{day} 08:10", f"{day} 15:50") for day in days if day.weekday() < 5]
        found = of(stays, "2026-03-31 12:30")
        self.assertEqual(found.sentence, "Monday to Friday, 8 to 16 o'clock")
        self.assertEqual((found.usual_days, found.usual_hours[7:17]), ("Tuesdays", (0.0, *(1.0,) * 8, 0.0)))
        self.assertEqual([mark for day, mark in found.days if day.weekday() > 4 and day > days[0]], [DayMark.AWAY] * 8)

    def test_over_midnight_and_summer_time(self) -> None:
        """A night shift touches both days; the hour that summer time skips and the one that it repeats lose none."""
        night = of([("2026-03-28 22:00", "2026-03-29 04:30")], "2026-03-29 12:00")
        self.assertEqual([mark for _, mark in night.days[-2:]], [DayMark.HERE, DayMark.HERE])
        self.assertEqual([hour for hour, here in enumerate(night.today) if here], [0, 1, 2, 3, 4])
        autumn = of([("2026-10-25 00:30", "2026-10-25 03:30")], "2026-10-25 12:00")
        self.assertEqual([hour for hour, here in enumerate(autumn.today) if here], [0, 1, 2, 3])
        self.assertEqual(autumn.today[13:], (None,) * 11)

    def test_over_the_year(self) -> None:
        """The last thirty days go back into the old year; before it was first seen nothing is known."""
        found = of([("2025-12-30 09:00", "2026-01-02 10:00")], "2026-01-05 08:00", since="2025-12-30 09:00")
        self.assertEqual((len(found.days), found.days[-1][0], found.days_here), (DAYS, date(2026, 1, 5), 4))
        self.assertEqual(found.days[0][1], DayMark.NOT_KNOWN)
        self.assertEqual([mark for _, mark in found.days[-3:]], [DayMark.AWAY] * 3)

    def test_nobody_looked(self) -> None:
        """A day without a scan is no absence."""
        clock = WallClock("2026-01-20 12:00")
        begin = clock.now() - timedelta(days=12)
        found = rhythm([(begin, begin)], [(begin, begin)], begin, clock.now(), clock.local)
        self.assertEqual({mark for _, mark in found.days[-12:]}, {DayMark.NOT_LOOKED})
