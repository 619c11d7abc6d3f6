"""What passed between two counts, and the history that it becomes: by their values."""

from __future__ import annotations

import unittest
from contextlib import closing
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from scopion.model.usage import Count, Passed, UsageSource, passed, spoken_rate
from scopion.operations.usage.live_counter import LiveCounter
from scopion.roster.store.open_roster import Roster
from scopion.roster.usage.counters import CountRead, note_counts, rates_since
from scopion.roster.usage.history import DAY, HOUR, MINUTE, remove_old_usage, steps_of, used_since
from tests.support import FolderTest

NOON = datetime(2026, 9, 16, 12, 0, tzinfo=UTC)
MBIT_100, GBIT = 100e6, 1e9
MAC = "54:b1:a3:7c:00:50"


def count(up: int, down: int = 0, own: float | None = 0.0, **more: object) -> Count:
    return Count(up, down, own, **more)  # type: ignore[arg-type]  # as the tests name them


class Between(unittest.TestCase):
    def test_what_is_sure(self) -> None:
        """Octets and rates, by the counter's own time."""
        found = passed(count(1_000, 5_000, 10.0), count(76_000, 755_000, 70.0), 60.5)
        self.assertEqual(found, Passed(75_000, 750_000, 60.0))
        assert found is not None
        self.assertEqual((found.up_bps, found.down_bps), (10_000, 100_000))

    def test_no_figure_is_better_than_a_wrong_one(self) -> None:
        """What went back, went too far, or was read by a clock that was set tells nothing."""
        for why, before, after, elapsed, most in (
            ("it began again", count(10**9, 0, 10.0), count(5_000, 0, 70.0), 60.0, GBIT),
            ("its switch was restarted", count(1_000, 0, 900.0), count(5_000, 0, 20.0), 60.0, GBIT),
            ("faster than its link", count(0, 0, 10.0), count(10**9, 0, 70.0), 60.0, MBIT_100),
            ("our clock was set on", count(0, 0, 10.0), count(9, 0, 70.0), 4000.0, GBIT),
            ("our clock was set back", count(0, 0, 10.0), count(9, 0, 70.0), -4000.0, GBIT),
            ("no time passed", count(0, 0, 10.0), count(9, 0, 10.0), 0.0, GBIT),
            ("it has no time, and our clock went back", count(0, 0, None), count(9, 0, None), -1.0, GBIT),
            ("another counter", count(0, 0, 10.0, mark="a"), count(9, 0, 70.0, mark="b"), 60.0, GBIT),
            ("too long ago", count(0, 0, 10.0), count(9, 0, 90_010.0), 90_000.0, GBIT),
            (
                "32 bits may go round twice",
                count(0, 0, 10.0, bits=32),
                count(9, 0, 70.0, bits=32),
                60.0,
                GBIT,
            ),
        ):
            with self.subTest(why):
                self.assertIsNone(passed(before, after, elapsed, most))
                fine = passed(count(0, 0, 10.0, bits=after.bits), count(9, 0, 70.0, bits=after.bits), 60.0, MBIT_100)
                self.assertEqual(fine, Passed(9, 0, 60.0))  # the same kind, as it should be

    def test_a_narrow_counter_goes_on_with_nothing(self) -> None:
        """32 bits end at 4,294,967,295, and at 100 Mbit/s not twice in a minute."""
        found = passed(count(2**32 - 1_000, 7, 10.0, bits=32), count(500, 9, 70.0, bits=32), 60.0, MBIT_100)
        self.assertEqual(found, Passed(1_500, 2, 60.0))

    def test_a_station_that_comes_again(self) -> None:
        """Its counts begin with 0 when it associates: what it used since is known, however often it was read."""
        first = passed(None, count(800, 0, 40.0, from_zero=True), 0.0)
        self.assertEqual(first, Passed(800, 0, 40.0))
        again = passed(count(10**6, 0, 600.0, from_zero=True), count(300, 0, 25.0, from_zero=True), 60.0)
        self.assertEqual(again, Passed(300, 0, 25.0))
        self.assertIsNone(passed(None, count(800, 0, 40.0), 0.0))  # a port has counted since no one knows when
        told_twice = count(300, 0, 25.0, from_zero=True)
        self.assertIsNone(passed(told_twice, told_twice, 60.0))

    @given(
        st.lists(st.tuples(st.integers(0, 10**9), st.integers(1, 3_000)), min_size=1, max_size=20),
        st.integers(0, 2**32 - 1),
    )
    def test_any_narrow_counter(self, steps: list[tuple[int, int]], start: int) -> None:
        """Of a 32-bit counter all that is told passed, and what is left out could not be told."""
        at, own, told, real = start, 0.0, 0, 0
        for octets, seconds in steps:
            before = count(at % 2**32, 0, own, bits=32)
            at, own = at + octets, own + seconds
            found = passed(before, count(at % 2**32, 0, own, bits=32), seconds, MBIT_100)
            if octets * 8 <= seconds * MBIT_100 and seconds * MBIT_100 / 8 < 2**32:
                self.assertEqual(found, Passed(octets, 0, seconds))
            told, real = told + (found.up if found is not None else 0), real + octets
        self.assertLessEqual(told, real)

    def test_rates_in_words(self) -> None:
        """A unit that people read, and nothing for next to nothing."""
        said = [spoken_rate(each) for each in (0, 900, 45_000, 1_250_000, 12_400_000, 2.5e9)]
        self.assertEqual(said, ["", "", "45 kbit/s", "1.2 Mbit/s", "12 Mbit/s", "2.5 Gbit/s"])


class Live(unittest.TestCase):
    @given(
        st.floats(0.5, 4.0), st.floats(0.0, 4.0), st.lists(st.floats(0.9, 1.4), min_size=60, max_size=60),
        st.integers(1, 10**7),
    )  # fmt: skip
    def test_an_agent_that_looks_by_itself(self, period: float, begun: float, gaps: list[float], a_second: int) -> None:
        """Its answers are older than they look: the rate is wrong by no more than one reading in all of the time."""
        lazy, exact = LiveCounter(30.0), LiveCounter(30.0)
        now = 100.0
        for gap in gaps:
            now += gap
            looked = now - (now + begun) % period
            for counter, at in ((lazy, looked), (exact, now)):
                counter.take(now, CountRead(UsageSource.PORT, "1", "port 1", Count(round(a_second * at), 0)))
        rates = [counter.rate(now) for counter in (lazy, exact)]
        assert rates[0] is not None and rates[1] is not None
        self.assertAlmostEqual(rates[0].up_bps / 8, a_second, delta=a_second * 1.5 / 25)
        self.assertAlmostEqual(rates[1].up_bps / 8, a_second, delta=1)
        for counter in (lazy, exact):
            counter.take(now + 15.0, counter.changes[-1].read)
            still = counter.rate(now + 15.0)
            assert still is not None
            self.assertLess(still.up_bps, rates[1].up_bps)
            self.assertIsNone(counter.rate(now + 40.0))


class History(FolderTest):
    def setUp(self) -> None:
        super().setUp()
        self.roster = self.enterContext(closing(Roster.open(self.folder)))
        self.zone = ZoneInfo("Europe/Lisbon")

    def local(self, moment: datetime) -> datetime:
        return moment.astimezone(self.zone)

    def note(self, at: datetime, up: int, down: int, own: float, *, port: str = "", subject: str = MAC) -> None:
        """A reading of a station, or of a port at which the station hangs alone."""
        source = UsageSource.PORT if port else UsageSource.STATION
        read = CountRead(source, port or subject, "there", Count(up, down, own), also=subject if port else "")
        note_counts(self.roster, [read], at, self.local)

    def steps(self, step: int) -> list[tuple[datetime, int, int]]:
        """What is kept of the station, step by step."""
        key = (UsageSource.STATION, MAC)
        kept = steps_of(self.roster, [key], NOON - timedelta(days=100), step)
        return [(each.at, each.up, each.down) for each in kept]

    def test_an_hour_over_a_full_hour(self) -> None:
        """Octets are put into the minutes, hours and days of the site's clock in which they passed, none twice."""
        begin = datetime(2026, 9, 15, 22, 50, tzinfo=UTC)  # ten to midnight in Lisbon
        self.note(begin, 0, 0, 100.0)
        self.note(begin + timedelta(minutes=20), 1_200, 2_400, 1_300.0)
        before, full = (datetime(2026, 9, 15, hour, tzinfo=UTC) for hour in (22, 23))
        self.assertEqual(self.steps(HOUR), [(before, 600, 1_200), (full, 600, 1_200)])
        self.assertEqual(self.steps(DAY), [(full - timedelta(days=1), 600, 1_200), (full, 600, 1_200)])
        minutes = self.steps(MINUTE)
        self.assertEqual((len(minutes), sum(up for _, up, _ in minutes)), (20, 1_200))

    def test_the_hour_that_comes_twice(self) -> None:
        """On the night when clocks go back there are 25 hours: none of them is counted twice, and none is left out."""
        begin = datetime(2026, 10, 24, 23, 0, tzinfo=UTC)  # midnight in Lisbon, where clocks go back at 1 UTC
        self.note(begin, 0, 0, 0.0)
        self.note(begin + timedelta(hours=20), 20_000, 0, 72_000.0)
        self.assertEqual([up for _, up, _ in self.steps(HOUR)], [1_000] * 20)
        self.assertEqual(self.steps(DAY), [(begin, 20_000, 0)])

    @given(st.integers(1, 80_000), st.integers(0, 10**9), st.integers(0, 86_400))
    def test_nothing_is_lost_between_steps(self, seconds: int, octets: int, after: int) -> None:
        """However long the time between two readings was, hours and days have all of its octets."""
        with self.roster.transaction() as db:
            for table in ("counter", "meter", "usage"):
                db.execute(f"DELETE FROM {table}")
        begin = NOON + timedelta(seconds=after)
        self.note(begin, 0, 0, 0.0)
        self.note(begin + timedelta(seconds=seconds), octets, 0, float(seconds))
        for step in (HOUR, DAY):
            used = used_since(self.roster, begin - timedelta(days=2), step)
            self.assertEqual(sum(each.up for each in used), octets)

    def test_a_port_with_one_device(self) -> None:
        """What its port counts is its own; the port keeps its own sum. The rate is that of the last two readings."""
        self.note(NOON, 0, 0, 50.0, port="7")
        self.note(NOON + timedelta(minutes=1), 7_500_000, 750_000, 110.0, port="7")
        known = used_since(self.roster, NOON - timedelta(hours=1))
        used = {(each.source, each.subject): (each.up, each.down) for each in known}
        sums = (7_500_000, 750_000)
        self.assertEqual(used, {(UsageSource.PORT, "7"): sums, (UsageSource.CABLE, MAC): sums})
        rates = {each.source: (each.up_bps, each.down_bps) for each in rates_since(self.roster, NOON)}
        self.assertEqual(rates, dict.fromkeys((UsageSource.PORT, UsageSource.CABLE), (1e6, 1e5)))

    def test_it_is_kept_for_a_time(self) -> None:
        """Minutes for an hour, hours for a month, days for years; nothing in the future."""
        for days in (0, 40, 1_200):
            at = NOON - timedelta(days=days)
            self.note(at, 0, 0, 0.0, subject=f"02:00:00:00:00:{days % 100:02}")
            self.note(at + timedelta(seconds=60), 60, 0, 60.0, subject=f"02:00:00:00:00:{days % 100:02}")
        remove_old_usage(self.roster, NOON + timedelta(hours=2))
        kept = {
            step: [row[0] for row in self.roster.db.execute("SELECT up FROM usage WHERE step = ?", (step,))]
            for step in (MINUTE, HOUR, DAY)
        }
        self.assertEqual(kept, {MINUTE: [], HOUR: [60], DAY: [60, 60]})
        remove_old_usage(self.roster, NOON - timedelta(days=60))
        self.assertEqual(self.roster.db.execute("SELECT count(*) FROM usage").fetchone()[0], 0)


if __name__ == "__main__":
    unittest.main()
