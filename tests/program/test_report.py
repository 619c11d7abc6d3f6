"""Looking back: hours and addresses against slow counting, a site of which all is known, figures, tables, the mail."""

from __future__ import annotations

import json
import math
import shutil
import sys
import tempfile
from datetime import UTC, date, datetime, timedelta
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.alerts.channels.email import composed
from scopion.cli.report.report import FIGURES as OFFERED_FIGURES
from scopion.cli.report.report import TABLE_NAMES
from scopion.model.device import Standing, Stay
from scopion.model.errors import ScopionError
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, Trait, TraitKind
from scopion.model.targets import Targets
from scopion.operations.report.make_report import ReportRequest, report
from scopion.operations.report.send_weekly import make_weekly, next_report
from scopion.reports.address_use import Use, subnet_use
from scopion.reports.content import Part, Report, Weight
from scopion.reports.count_hours import DAY_HOURS, HOUR, HourSpan, bits, busy, hour_runs, week_of
from scopion.reports.figures import FIGURES, draw, figure_of
from scopion.reports.page import page
from scopion.reports.report_settings import latest_due, weekly_of
from scopion.reports.tables import TABLES
from scopion.roster.folding.fold_observations import fold
from scopion.roster.read_devices import all_devices
from scopion.roster.write_descriptions import set_standing
from tests.made_past import NOW, make_past, opened_at
from tests.support import ROOT, FolderTest, PreparedTest, ProgramTest

FIRST = date(2026, 8, 3)
WALL = st.integers(0, 14 * 24 * 60 - 1).map(lambda minute: datetime(2026, 8, 3) + timedelta(minutes=minute))
STAYS = st.lists(
    st.tuples(WALL, st.integers(0, 3000)).map(lambda each: (each[0], each[0] + timedelta(minutes=each[1])))
)
MAC = MacAddress.parse("10:c0:de:00:00:01")


class Counting(FolderTest):
    @settings(max_examples=60, deadline=None)
    @given(devices=st.lists(STAYS, min_size=1, max_size=4), end=WALL)
    def test_hours_are_those_that_a_slow_count_finds(self, devices: list[Any], end: datetime) -> None:
        """An hour counts if any stay touches it; how many are here at a time is the mean over days of a weekday."""
        span = HourSpan(FIRST, end)
        runs = [hour_runs(stays, span) for stays in devices]
        for stays, found in zip(devices, runs, strict=True):
            number = bits(found)
            for hour in range(span.hours):
                begin = span.midnight + hour * HOUR
                here = any(since < begin + HOUR and until >= begin for since, until in stays)
                self.assertEqual(bool(number >> hour & 1), here, begin)
        shown = busy(runs, span, lambda day: day.day % 5 != 0, datetime(2026, 8, 4))
        for weekday in range(7):
            for hour in range(DAY_HOURS):
                counts = [
                    sum(bits(found) >> number & 1 for found in runs)
                    for number in range(24, span.hours)
                    for day in [FIRST + timedelta(days=number // 24)]
                    if day.weekday() == weekday and number % 24 == hour and day.day % 5
                ]
                if counts:
                    self.assertAlmostEqual(shown[weekday][hour], sum(counts) / len(counts))
                else:
                    self.assertTrue(math.isnan(shown[weekday][hour]))

    def test_the_usual_is_told_from_comparable_days(self) -> None:
        """Two Tuesdays say what is usual on a Tuesday; with one, working days do; a first day that is not whole says
        nothing.
        """
        span = HourSpan(FIRST, datetime(2026, 8, 23, 23))
        office = [(datetime(2026, 8, day, 9), datetime(2026, 8, day, 16, 59)) for day in range(3, 22) if
                  date(2026, 8, day).weekday() < 5]  # fmt: skip
        night = (datetime(2026, 8, 20, 3), datetime(2026, 8, 20, 3, 59))
        week = week_of(bits(hour_runs([*office, night], span)), span, FIRST, lambda day: True)
        self.assertEqual([week.usual[hour] for hour in (8, 9, 16, 17)], [0, 1, 1, 0])
        self.assertEqual(week.usual[6 * 24 + 12], 0)
        self.assertEqual(week.unusual, [3 * 24 + 3])
        self.assertEqual(week.missed, [])
        stayed_away = bits(hour_runs([each for each in office if each[0].day != 19], span))
        self.assertEqual(week_of(stayed_away, span, FIRST, lambda day: True).missed, [2 * 24 + n for n in range(9, 17)])
        newcomer = week_of(bits(hour_runs(office, span)), span, date(2026, 8, 16), lambda day: True)
        self.assertEqual(set(newcomer.usual), {None})

    @settings(max_examples=60, deadline=None)
    @given(
        stays=st.lists(st.tuples(st.integers(1, 3), st.integers(0, 1023), st.booleans(), st.integers(0, 60))),
        prefix=st.integers(22, 30),
    )
    def test_each_address_has_the_use_that_weighs_most(self, stays: list[Any], prefix: int) -> None:
        """Contested before used, used before lately, lately before what settings say; folding loses none."""
        subnet = IPv4Network(f"192.0.0.0/{prefix}")
        made = [
            (device, Stay(MAC, IPv4Address(0xC0000000 + at), NOW, NOW - timedelta(days=days), here))
            for device, at, here, days in stays
        ]
        pool, reserved = Targets.parse(["192.0.0.8-192.0.0.40"]), Targets.parse(["192.0.0.30-192.0.0.50"])
        use = subnet_use(subnet, made, NOW - timedelta(days=30), pool, reserved)
        self.assertEqual(len(use.addresses), subnet.num_addresses)
        for place in use.addresses:
            here = {device for device, stay in made if stay.address == place.address and stay.present}
            past = [stay for _, stay in made if stay.address == place.address]
            if here:
                self.assertIs(place.use, Use.CONTESTED if len(here) > 1 else Use.NOW)
            elif place.address in (subnet.network_address, subnet.broadcast_address):
                self.assertIs(place.use, Use.EDGE)
            elif any(stay.until > NOW - timedelta(days=30) for stay in past):
                self.assertIs(place.use, Use.LATELY)
            else:
                kept = Use.POOL if place.address in pool else Use.FREE
                self.assertIs(place.use, Use.RESERVED if place.address in reserved else kept)
        cells = list(use.cells())
        self.assertLessEqual(len(cells), 256)
        self.assertEqual(sum(cell.now for cell in cells), use.in_use)
        self.assertEqual((cells[0].first, cells[-1].last), (use.addresses[0].address, use.addresses[-1].address))

    def test_when_a_weekly_report_is_due(self) -> None:
        """By its latest weekday and time on the wall, also on the day itself before and after the time."""
        self.assertEqual(weekly_of(" Mon 7:05 "), (0, datetime(2026, 1, 1, 7, 5).time()))
        for wall, due in ((28, 21), (29, 28)):
            self.assertEqual(latest_due("monday 07:00", datetime(2026, 9, wall, 6, 59)), datetime(2026, 9, due, 7))
        self.assertEqual(latest_due("monday 07:00", datetime(2026, 9, 28, 7)), datetime(2026, 9, 28, 7))
        for wrong in ("someday 07:00", "monday", "07:00", "monday 25:00"):
            with self.assertRaises(ValueError):
                weekly_of(wrong)


class LookedBack(FolderTest):
    """On a past that is made, so that what has to be told is known."""

    past: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.past = Path(holder.name)
        make_past(cls.past)

    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(self.past, self.folder, dirs_exist_ok=True)
        self.site = opened_at(self.folder, NOW)
        self.addCleanup(self.site.close)

    def test_what_needs_attention(self) -> None:
        """The unwanted that is here, the essential that is not, the contest, the new, the missed, the odd hour."""
        made = report(self.site)
        said = {each.says: each for each in made.attention}
        weights = [each.weight for each in made.attention]
        self.assertEqual(weights, sorted(weights, key=list(Weight).index))
        for weight, part, command in (
            (Weight.HIGH, "stranger is unwanted and here, at 192.0.2.66", "scopion block stranger"),
            (Weight.HIGH, "till is essential and not here: seen last on Saturday, 26 September", "scopion show till"),
            (Weight.HIGH, "192.0.2.20 is used by printer and scanner", "scopion spare 192.0.2.0/24"),
            (Weight.MEDIUM, "newcomer is new, and has not been reviewed yet", "scopion review"),
            (Weight.MEDIUM, "server is nearly always here at this hour and is not", "scopion show server"),
            (Weight.LOW, "office was here at hours at which it never is: Sunday 3 to 4 o'clock", "scopion show office"),
            (Weight.LOW, "no channel is set", "scopion alerts add"),
        ):
            found = [each for says, each in said.items() if part in says]
            self.assertEqual([(each.weight, each.command) for each in found], [(weight, command)], part)

    def test_a_command_names_one_device(self) -> None:
        """Of two that go by the same name each is named by its MAC address: what a report proposes can be typed."""
        name = (Trait(TraitKind.NAME, "twin", Source.DNS),)
        macs = [MacAddress(bytes([0x10, 0xC0, 0xDE, 0, 1, number])) for number in (1, 2)]
        places = (IPv4Address("192.0.2.101"), IPv4Address("192.0.2.102"))
        seen = [Observation(mac, at, NOW, Source.ARP, traits=name) for mac, at in zip(macs, places, strict=True)]
        fold(self.site.roster, seen, (), NOW)
        for device in all_devices(self.site.roster):
            if device.macs[0] in macs:
                set_standing(self.site.roster, device, Standing.UNWANTED, NOW)
        proposed = [each.command for each in report(self.site).attention if each.says.startswith("twin")]
        self.assertEqual(proposed, [f"scopion block {mac}" for mac in macs])

    def test_parts_are_what_was_put_in(self) -> None:
        """Devices, days, weeks, busy hours and addresses agree with the past that was made."""
        made = report(self.site, ReportRequest(happenings=None))
        self.assertEqual(made.summary[0], "8 devices were here in this time: 6 known and 1 unwanted; 6 at its end.")
        self.assertIn("1 device joined for the first time; it is not reviewed yet.", made.summary)
        lines = {each.name: each for each in made.devices}
        self.assertEqual(lines["office"].usually, "Monday to Friday, 9 to 17 o'clock")
        self.assertEqual((lines["office"].days_here, lines["gateway box"].days_here), (21, 28))
        self.assertEqual(lines["till"].last_seen, datetime(2026, 9, 26, 12))
        self.assertEqual([week.total for week in made.new], [0, 0, 0, 1, 0])
        self.assertEqual(made.new[3].by_standing, {"new": 1, "known": 0, "guest": 0, "unwanted": 0})
        # On four Sundays at noon: gateway, server, printer, scanner and stranger; on the last one the newcomer, too.
        self.assertEqual(made.busy[6][12], 5.25)
        (subnet,) = made.subnets
        self.assertEqual(subnet.use.counts[Use.CONTESTED], 1)
        self.assertEqual(sum(day.joined for day in made.days), 1)
        self.assertEqual(len(made.days), 28)
        earlier = report(self.site, ReportRequest(until=datetime(2026, 9, 26, 11, tzinfo=UTC)))
        self.assertTrue(next(each for each in earlier.devices if each.name == "till").present)

    def test_too_few_days_tell_no_busy_hours(self) -> None:
        """Seven days with scans do; six say that it is too early, in the summary, on the page and in the figure."""
        for days, told in ((7, True), (6, False)):
            made = report(self.site, ReportRequest(since=NOW - timedelta(days=days)))
            self.assertEqual(any(each.startswith("Busiest are") for each in made.summary), told, made.summary)
            self.assertEqual("too early to tell" not in page(made, NOW), told)
            title = figure_of(made, "busy-hours").axes[0].get_title(loc="left")
            self.assertEqual("fewer than 7 days" not in title, told)

    def test_tables_have_the_keys_of_the_manual(self) -> None:
        """Each table gives its keys and no other, and each key is in docs/formats.md."""
        made = report(self.site, ReportRequest(happenings=None))
        section = (ROOT / "docs/formats.md").read_text(encoding="utf-8").split("### report\n")[1].split("\n### ")[0]
        self.assertEqual(tuple(TABLES), TABLE_NAMES)
        for name, table in TABLES.items():
            rows = list(table.rows(made))
            for row in rows:
                self.assertEqual(set(row), set(table.keys))
            self.assertTrue(rows or name in ("wires", "usage", "wireless", "audit", "places"), name)
            if name not in ("addresses", "audit"):  # as of map, and of wifi audit
                for key in table.keys:
                    self.assertIn(f"`{key}`", section, name)

    def test_figures_show_what_the_report_holds(self) -> None:
        """Each has a title and labelled axes; the numbers drawn are the report's; hostile names are text."""
        made = report(self.site)
        self.assertEqual(tuple(FIGURES), OFFERED_FIGURES)
        for name in FIGURES:
            axes = figure_of(made, name).axes[0]
            self.assertIn(made.site, axes.get_title(loc="left"), name)
            self.assertTrue(axes.get_xlabel(), name)
            self.assertTrue(axes.get_ylabel() or name in ("vendors", "kinds"), name)
        shown = figure_of(made, "busy-hours").axes[0].images[0].get_array()
        assert shown is not None
        self.assertEqual([list(row) for row in shown], [list(hours) for hours in made.busy])
        heights = [bar.get_height() for bar in figure_of(made, "new-devices").axes[0].patches]  # type: ignore[attr-defined]
        self.assertEqual(sum(heights), 1)
        (line,) = figure_of(made, "presence").axes[0].lines
        self.assertEqual(list(line.get_ydata()), [day.present for day in made.days])  # type: ignore[arg-type]
        widths = [bar.get_width() for bar in figure_of(made, "vendors").axes[0].patches]  # type: ignore[attr-defined]
        self.assertEqual(sum(widths), len(made.devices))
        names = [label.get_text() for label in figure_of(made, "hours").axes[0].texts]
        self.assertIn(r"\$\frac{a}{b}\$", [name.removeprefix("scanner ") for name in names])
        for suffix in ("svg", "png"):
            first, second = (self.folder / f"{number}.{suffix}" for number in (1, 2))
            for path in (first, second):
                draw(made, "hours", path)
            self.assertEqual(first.read_bytes(), second.read_bytes())
        self.assertIn("gateway box", (self.folder / "1.svg").read_text(encoding="utf-8"))

    def test_figures_hold_five_devices_and_many(self) -> None:
        """None grows beyond reason, and none fails for want of data."""
        made = report(self.site)
        for devices in (made.devices[:0], made.devices * 40):
            many = _with(made, devices=devices)
            for name in FIGURES:
                width, height = figure_of(many, name).get_size_inches()
                self.assertLessEqual(width, 10.0, name)
                self.assertLessEqual(height, 80.0, name)

    def test_without_the_part_that_draws_it_says_what_to_install(self) -> None:
        """Figures are an extra; the page needs none of it."""
        made = report(self.site)
        with mock.patch.dict(sys.modules, {"matplotlib": None}):
            with self.assertRaisesRegex(ScopionError, "the pip that installed Scopion can install it"):
                figure_of(made, "hours")
            self.assertIn("Kilnhaven", page(made, NOW))

    def test_the_page_is_no_larger_for_a_name(self) -> None:
        """Names are escaped wherever they stand, in text and in attributes alike."""
        text = page(report(self.site), NOW)
        self.assertNotIn("<img src=x", text)
        self.assertIn("&lt;img src=x onerror=alert(1)&gt;", text)
        self.assertNotIn("http://", text.replace("http://www.w3.org", ""))

    def test_the_weekly_report_goes_once_and_is_made_up_for_once(self) -> None:
        """The first week has to be over; what was missed is one report; the page stays and goes with the mail."""
        (self.folder / "site.toml").write_text(
            'name = "Kilnhaven"\ntimezone = "Europe/Lisbon"\n'
            '[report]\nweekly = "wed 12:00"\nkeep_weeks = 2\n[[channel]]\nname = "owner"\n'
            'type = "email"\nto = ["owner@kilnhaven.example"]\nsender = "s@kilnhaven.example"\nhost = "192.0.2.5"\n'
        )
        site = opened_at(self.folder, NOW)
        self.addCleanup(lambda: site.close())
        self.assertIsNone(make_weekly(site))
        due = next_report(site)
        self.assertEqual(due, datetime(2026, 10, 7, 11, tzinfo=UTC))  # noon in Lisbon in summer
        for week, pages in ((1, 1), (4, 2), (5, 2)):
            site.close()
            site = opened_at(self.folder, NOW + timedelta(weeks=week, hours=1))
            message = make_weekly(site)
            assert message is not None
            self.assertIsNone(make_weekly(site))
            self.assertEqual(len(list((self.folder / "reports").glob("*.html"))), pages)
        assert message is not None
        mail = composed(message, "s@kilnhaven.example", ("owner@kilnhaven.example",), self.folder)
        (attached,) = mail.iter_attachments()
        self.assertEqual(attached.get_content_type(), "text/html")
        self.assertIn("Kilnhaven", attached.get_content())
        waiting = site.roster.db.execute("SELECT identity, message FROM alert WHERE state = 'waiting'").fetchall()
        self.assertEqual(len(waiting), 3)
        for row in waiting:
            self.assertEqual(json.loads(row["message"])["id"], row["identity"])


def _with(made: Report, **changes: Any) -> Report:
    from dataclasses import replace

    return replace(made, **changes)


class Commands(PreparedTest):
    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        """Monday afternoon at Kilnhaven: the printer's address is contested."""
        site.begin()
        site.run_ok("scan", "--no-names")
        site.run_ok("demo", "--next", str(site.site))
        site.run_ok("scan", "--no-names")

    def test_the_map_shows_each_use_by_its_shape(self) -> None:
        """Used, lately used, contested, pool and reserved differ without colour; larger subnets are folded."""
        with (self.site / "site.toml").open("a") as file:
            file.write(
                '[[subnet]]\nrange = "192.0.2.0/24"\nname = "workshop"\ndhcp_pool = ["192.0.2.90-192.0.2.99"]\n'
                'reserved = ["192.0.2.250-192.0.2.254"]\n'
            )
        text = self.run_ok("map", "workshop", "--format", "table")
        rows = {line.split()[0]: line.split()[1:] for line in text.splitlines() if line.startswith("192.0.2.")}
        self.assertEqual(rows["192.0.2.16"][4], "!")
        self.assertEqual(rows["192.0.2.16"][15], "□")  # where the kiln controller was
        self.assertEqual("".join(rows["192.0.2.80"]), "·■········■■pppp")
        self.assertEqual("".join(rows["192.0.2.240"]), "··········rrrrr")
        self.assertIn("! 1 contested", text)
        self.assertLessEqual(max(map(len, text.splitlines())), 80)
        folded = self.run_ok("map", "192.0.0.0/16", "--format", "table")
        self.assertIn("each square 256 addresses", folded)
        self.assertEqual(folded.count("!"), 2)  # one square, and the legend
        by_address = {each["address"]: each for each in self.run_json("map", "192.0.2.0/24")}
        self.assertEqual(by_address["192.0.2.20"]["use"], "contested")
        self.assertEqual(len(by_address["192.0.2.20"]["devices"]), 2)
        self.assertIn("too large for a map", self.refused(2, "map", "192.0.0.0/8"))

    def test_one_look_back_gives_all_that_is_asked_for(self) -> None:
        """A page, tables and a figure at once; formulas in names stay text; a part alone leaves out the others."""
        self.run_ok("label", "192.0.2.50", "=cmd|till")
        out = self.folder / "out"
        out.mkdir()
        self.run_ok("report", "--html", str(out / "r.html"), "--csv", str(out / "t"), "--figure", "kinds",
                    str(out / "k.svg"))  # fmt: skip
        html = (out / "r.html").read_text(encoding="utf-8")
        for part in Part:  # without a switch, and without counts, there is nothing to say of them
            told = part not in (Part.WIRES, Part.USAGE)
            self.assertEqual(f'<section id="{part}"' in html, told, part)
        self.assertEqual({path.stem for path in (out / "t").iterdir()}, set(TABLE_NAMES) - {"wires", "usage"})
        self.assertIn("'=cmd|till", (out / "t/devices.csv").read_text(encoding="utf-8"))
        self.assertIn("Kinds", (out / "k.svg").read_text(encoding="utf-8"))
        only = self.run_ok("report", "--html", "-", "--part", "busy-hours")
        self.assertIn('<section id="busy-hours"', only)
        self.assertNotIn('<section id="devices"', only)
        self.assertIn("192.0.2.20 is used by", self.run_ok("report"))
        self.assertTrue(self.run_ok("report", "--send", "owner", "--part", "attention") == "")
        self.assertEqual(len(list((self.site / "reports").glob("*.html"))), 1)

    def test_mistakes_are_one_line(self) -> None:
        """What is wrong, and what to write instead; nothing is made."""
        for code, said, *arguments in (
            (2, "say where with --html", "report", "--open"),
            (2, "neither .png nor .svg", "report", "--figure", "kinds", "k.gif"),
            (2, "ends before it begins", "report", "--since", "tomorrow"),
            (3, "the roster begins on Monday, 14 September 2026", "report", "--until", "2026-09-01"),
            (3, "there is no channel 'nobody'", "report", "--send", "nobody"),
        ):
            self.assertIn(said, self.refused(code, *arguments))
        path = self.site / "site.toml"
        path.write_text(path.read_text().replace("[report]", '[report]\nweekly = "someday 07:00"'))
        self.assertIn("write a weekday and a time as monday 07:00", self.refused(2, "report"))


class Nothing(ProgramTest):
    def test_without_memory_there_is_nothing_to_look_back_on(self) -> None:
        """Exit code 3, and how one begins."""
        self.begin()
        for command in ("report", "map"):
            self.assertIn("scopion scan looks for devices first", self.refused(3, command))
