"""Hours and the wanted list: pure, held against an oracle that looks at the clock each minute."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from functools import cache, partial
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.model.errors import UsageError
from scopion.model.mac import MacAddress
from scopion.model.week import WEEK, Week
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.coverage import Line
from scopion.wireless.list_policy import (
    ListPolicy,
    ListRule,
    admits,
    admitted_week,
    next_change,
    policy_document,
    read_policy,
    wanted,
)
from tests.support import ProgramTest

LISBON = ZoneInfo("Europe/Lisbon")
LORD_HOWE = ZoneInfo("Australia/Lord_Howe")  # half an hour of summer time
MINUTE = timedelta(minutes=1)
DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


def minute_texts() -> st.SearchStrategy[str]:
    return st.builds(lambda minute: f"{minute // 60:02}:{minute % 60:02}", st.integers(0, 1439))


def window_texts() -> st.SearchStrategy[str]:
    day = st.sampled_from(DAYS)
    days = st.one_of(day, st.builds(lambda first, last: f"{first}-{last}", day, day))
    spans = st.tuples(minute_texts(), minute_texts()).filter(lambda span: span[0] != span[1])
    return st.builds(lambda named, span: f"{named} {span[0]}-{span[1]}", days, spans)


weeks = st.lists(window_texts(), min_size=1, max_size=4).map(lambda parts: Week.parse(", ".join(parts)))


@cache
def said(text: str) -> list[tuple[set[int], int, int]]:
    """The words as days, beginning and end in minutes."""
    found = []
    for part in text.split(", "):
        named, span = part.split(" ")
        first, _, last = named.partition("-")
        begin, end = (int(each[:2]) * 60 + int(each[3:]) for each in span.split("-"))
        day, until = DAYS.index(first), DAYS.index(last or first)
        days = {day}
        while day != until:
            day = (day + 1) % 7
            days.add(day)
        found.append((days, begin, end))
    return found


def said_to_hold(text: str, wall: datetime) -> bool:
    """The oracle: what the words say, window by window and day by day, for one look at the clock on the wall."""
    minute, day = wall.hour * 60 + wall.minute, wall.weekday()
    for days, begin, end in said(text):
        if begin < end:
            if day in days and begin <= minute < end:
                return True
        elif (day in days and minute >= begin) or ((day - 1) % 7 in days and minute < end):
            return True
    return False


class Weeks(unittest.TestCase):
    def test_a_year_minute_by_minute(self) -> None:
        """Windows hold as the words say on every minute of a year, days on which the clock is set included."""
        text = "mon-fri 08:00-18:00, sat 10:00-14:00, sat-sun 22:30-02:15, sun 01:10-01:50"
        week = Week.parse(text)
        # The whole year in one zone; in the other the half-years' ends, where half an hour is skipped and repeated.
        for zone, months in ((LISBON, range(1, 13)), (LORD_HOWE, (4, 10))):
            local = partial(datetime.astimezone, tz=zone)
            turns = 0
            for month in months:
                moment = datetime(2026, month, 1, tzinfo=UTC)
                expected = week.next_change(moment, local)
                before = week.holds(moment.astimezone(zone))
                while moment.month == month:
                    moment += MINUTE
                    wall = moment.astimezone(zone)
                    holds = said_to_hold(text, wall)
                    self.assertEqual(week.holds(wall), holds, wall)
                    if holds != before:
                        self.assertEqual(expected, moment)
                        expected = week.next_change(moment, local)
                        before, turns = holds, turns + 1
            self.assertGreater(turns, len(months) * 4 * 16)

    @given(parts=st.lists(window_texts(), min_size=1, max_size=4), minutes=st.lists(st.integers(0, WEEK - 1)))
    def test_any_windows(self, parts: list[str], minutes: list[int]) -> None:
        """Any windows hold when the words say so; what is written of them reads back as the same."""
        text = ", ".join(parts)
        week = Week.parse(text)
        for minute in minutes:
            wall = datetime(2026, 9, 14) + minute * MINUTE  # a Monday
            self.assertEqual(week.holds(wall), said_to_hold(text, wall), (text, wall))
            self.assertEqual((~week).holds(wall), not week.holds(wall))
        self.assertEqual(Week.parse(str(week)), week)

    @given(week=weeks, start=st.integers(0, 366 * 1440))
    @settings(max_examples=40)
    def test_the_next_change_is_the_first(self, week: Week, start: int) -> None:
        """Nothing changes before it, and at it something does."""
        moment = datetime(2026, 1, 1, tzinfo=UTC) + start * MINUTE + timedelta(seconds=17)

        def local(at: datetime) -> datetime:
            return at.astimezone(LORD_HOWE)

        found = week.next_change(moment, local)
        at = moment.replace(second=0)
        before = week.holds(local(moment))
        for _ in range(8 * 1440):
            at += MINUTE
            if week.holds(local(at)) != before:
                self.assertEqual(found, at)
                return
        self.assertIsNone(found)

    def test_what_are_no_hours(self) -> None:
        """Each mistake is said in words."""
        for text in (
            *("", "mon", "08:00", "mon 8-18", "mon 25:00-26:00", "moon 08:00-18:00", "mon 08:00-08:00", "x" * 999),
            *("mon 24:00-08:00", "mon 08:61-09:00", ",", "mo 08:00-18:00"),
        ):
            with self.assertRaises(UsageError, msg=text):
                Week.parse(text)
        self.assertEqual(str(Week.parse("fri 22:00-06:00, sunday 20:00-24:00")), "fri 22:00-06:00, sun 20:00-24:00")


MACS = [MacAddress(bytes([0x7C, 0xA4, 0xB1, 0, 0, number])) for number in range(4)]
moments = st.integers(0, 20 * 1440).map(lambda minute: datetime(2026, 3, 20, tzinfo=UTC) + minute * MINUTE)


def rules() -> st.SearchStrategy[ListRule]:
    return st.builds(
        ListRule,
        st.sampled_from([ListMode.ALLOW, ListMode.DENY]),
        st.sampled_from(MACS[:3]).map(lambda mac: Line(mac, str(mac), False)),
        st.one_of(st.none(), weeks),
        st.one_of(st.none(), moments),
    )


def policies() -> st.SearchStrategy[ListPolicy]:
    return st.builds(
        ListPolicy,
        st.just("Kilnhaven"),
        st.sampled_from(list(ListMode)),
        st.lists(rules(), max_size=5).map(tuple),
        st.one_of(st.none(), weeks),
        st.sampled_from([(), (Line(MACS[0], "till", False),)]),
        st.one_of(st.none(), moments),
    )


def local(moment: datetime) -> datetime:
    return moment.astimezone(LISBON)


class WantedLists(unittest.TestCase):
    @given(rules=st.lists(rules(), max_size=5), at=moments, mac=st.sampled_from(MACS))
    def test_allow_and_deny_are_complements(self, rules: list[ListRule], at: datetime, mac: MacAddress) -> None:
        """The same entries on the other list admit exactly the devices that they refuse on this one."""
        turned = {ListMode.ALLOW: ListMode.DENY, ListMode.DENY: ListMode.ALLOW}
        for mode, other in turned.items():
            ours = ListPolicy("K", mode, tuple(rules))
            theirs = ListPolicy(
                "K", other, tuple(ListRule(turned[each.list], each.line, each.hours, each.until) for each in rules)
            )
            self.assertNotEqual(wanted(ours, at, local).admits(mac), wanted(theirs, at, local).admits(mac))

    @given(policy=policies(), at=moments)
    @settings(max_examples=30, deadline=None)
    def test_nothing_changes_before_the_next_change(self, policy: ListPolicy, at: datetime) -> None:
        """The wanted list stays what it is until then, and is another at it; a kept policy says the same."""
        again = read_policy(policy_document(policy))
        change = next_change(policy, at, local)
        now = wanted(policy, at, local)
        self.assertEqual(wanted(again, at, local).macs, now.macs)
        end = min(change or at + timedelta(days=9), at + timedelta(days=9))
        moment = at
        while moment < end:
            found = wanted(policy, moment, local)
            self.assertEqual((found.mode, found.macs), (now.mode, now.macs), moment)
            moment += timedelta(minutes=17)
        if change is not None:
            then = wanted(policy, change, local)
            self.assertNotEqual((then.mode, then.macs), (now.mode, now.macs))

    @given(policy=policies(), at=moments, mac=st.sampled_from([None, *MACS[:3]]))
    @settings(max_examples=200, deadline=None)
    def test_the_drawn_week_is_what_is_wanted(self, policy: ListPolicy, at: datetime, mac: MacAddress | None) -> None:
        """The week of a device is when the wanted list admits it, for policies without ends."""
        endless = ListPolicy(
            policy.ssid,
            policy.mode,
            tuple(ListRule(each.list, each.line, each.hours) for each in policy.rules),
            policy.others,
        )
        macs = (mac,) if mac else ()
        drawn = admitted_week(endless, macs)
        self.assertEqual(drawn.holds(local(at)), admits(wanted(endless, at, local), macs))


class Commands(ProgramTest):
    def test_hours_through_the_program(self) -> None:
        """Timetables are shared by name, an entry ends by itself, a network is for some alone, lists are shared."""
        self.begin()
        self.run_ok("scan")
        self.run_ok("label", "192.0.2.61", "door tablet")
        self.run_ok("label", "192.0.2.50", "till", "--essential")
        self.refused(3, "wifi", "allow", "Kilnhaven", "door", "--hours", "opening")
        self.run_ok("wifi", "timetable", "opening", "mon-sat 08:00-18:00")
        self.run_ok("wifi", "allow", "Kilnhaven", "door", "--hours", "opening")
        self.refused(2, "wifi", "timetable", "opening", "--remove")
        self.assertIn("essential", self.refused(1, "wifi", "deny", "Kilnhaven", "till"))
        self.run_ok("wifi", "allow", "Kilnhaven", "this-machine")
        self.assertIn("till is essential", self.refused(1, "wifi", "mode", "Kilnhaven", "allow"))
        self.run_ok("wifi", "allow", "Kilnhaven", "till", "--hours", "opening")
        self.assertIn("at all times", self.refused(1, "wifi", "mode", "Kilnhaven", "allow"))
        self.run_ok("wifi", "allow", "Kilnhaven", "till", "--hours", "always")
        said = self.run_program("wifi", "mode", "Kilnhaven", "allow").stderr
        self.assertRegex(
            said, r"only 3 addresses may associate.*Of \d+ devices here that may be on the air, \d+ are refu"
        )
        (row,) = self.run_json("wifi", "hours", "door")
        self.assertEqual(
            (row["admitted"], row["now"], row["next_change"][:16]), ("mon-sat 08:00-18:00", True, "2026-09-14T18:00")
        )
        self.run_ok("wifi", "timetable", "opening", "mon-fri 09:00-17:00")
        self.assertFalse(self.run_json("wifi", "hours", "door")[0]["now"])
        sheet = " ".join(self.run_ok("wifi", "sheet", "Kilnhaven").split())
        self.assertIn("holds until Monday 2026-09-14, 09:00", sheet)
        self.assertIn("In the coming week it changes 10 times", sheet)
        self.assertIn("till is essential", self.refused(1, "wifi", "only", "Kilnhaven", "this-machine", "door"))
        self.run_ok("wifi", "only", "Kilnhaven", "till", "this-machine", "--for", "2h")
        self.run_ok("wifi", "only", "Kilnhaven", "--end")
        self.run_ok("wifi", "deny", "Attic", "192.0.2.81", "--for", "30m")
        self.assertEqual(self.run_json("wifi", "entries", "Attic")[0]["until"], "2026-09-14T08:40:01Z")
        self.run_ok("wifi", "mode", "Attic", "--lists-of", "Kilnhaven")
        self.assertEqual(len(self.run_json("wifi", "entries", "Attic")), 3)
        self.refused(2, "wifi", "mode", "Kilnhaven", "--lists-of", "Attic")

    def test_lists_from_files(self) -> None:
        """Mixed notations, comments and duplicates are read; what is not an address is named by its line."""
        self.begin()
        self.run_ok("scan")
        path = self.folder / "list.txt"
        path.write_text(
            "# the old router's list\n7C-A4-B1-33-02-61  door tablet\n7ca4.b133.0262;the window\n"
            '7c:a4:b1:33:2:61\n"aabbccddeeff",spare\nnonsense\nff:ff:ff:ff:ff:ff\n',
            encoding="utf-8",
        )
        ended = self.run_program("wifi", "deny", "Kilnhaven", "--from", str(path))
        self.assertEqual(ended.returncode, 0, ended.stderr)
        self.assertIn("line 6 ('nonsense'), line 7", ended.stderr)
        self.assertIn("1 line repeat", ended.stderr)
        macs = {row["macs"][0] for row in self.run_json("wifi", "entries", "Kilnhaven")}
        self.assertEqual(macs, {"7c:a4:b1:33:02:61", "7c:a4:b1:33:02:62", "aa:bb:cc:dd:ee:ff"})
        self.run_ok("wifi", "entries", "--lift", "aa:bb:cc:dd:ee:ff")
        self.assertEqual(len(self.run_json("wifi", "entries")), 2)
        self.run_ok("undo", "--yes")
        self.assertEqual(len(self.run_json("wifi", "entries")), 3)


if __name__ == "__main__":
    unittest.main()
