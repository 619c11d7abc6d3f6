"""Who uses the line, through the installed program on the made-up site: figures, limits, pasted lists, findings."""

from __future__ import annotations

import csv
import os
import re
import unittest
from contextlib import closing
from datetime import timedelta

from scopion.model.mac import MacAddress
from scopion.model.usage import Count, UsageSource
from scopion.model.wires import Learned, PortCounters, SwitchPort, SwitchReading
from scopion.operations.devices.list_devices import find_device
from scopion.operations.intake.count_octets import count_sessions
from scopion.operations.site.open_site import Site
from scopion.operations.usage.measure_live import pause
from scopion.operations.usage.tell_much import tell_much
from scopion.operations.wires.fold_wires import fold_wires
from scopion.roster.usage.counters import CountRead, note_counts
from scopion.roster.wifi.air_sessions import AirSession
from scopion.roster.wifi.air_stays import AirReading, note_air
from tests.support import played
from tests.wires.test_where import PRINTER, SCALE, STORAGE, TILL, WithSwitch

HOUR = timedelta(hours=1)


def note_used(site: Site, mac: MacAddress, back: timedelta, up: int, down: int = 0, **more: object) -> None:
    """An association of one hour that ended so long ago, and what was used in it."""
    at = site.clock.now() - back
    source = more.get("source", UsageSource.STATION)
    count = Count(up, down, HOUR.total_seconds(), from_zero=True)
    read = CountRead(source, str(mac), "attic access point", count, key=f"{mac} {at}")  # type: ignore[arg-type]
    note_counts(site.roster, [read], at, site.clock.local)


class Figures(WithSwitch):
    def test_now(self) -> None:
        """The rates of the scene, each with who counted it and what that cannot see; the largest first."""
        listed = self.run_json("usage", "--now")
        rows = {each["name"]: each for each in listed}
        told = {name: [rows[name][key] for key in ("down_bps", "up_bps", "counted_by")] for name in ("till", "storage")}
        # A station that answers more slowly sends more; a host on cable has the rates that all have.
        self.assertEqual(told, {"till": [139_440, 24_568, "station"], "storage": [20_000, 4_000, "cable"]})
        self.assertIn("all that passed its port", rows["storage"]["sees"])
        sums = [(each["up_bps"] or 0) + (each["down_bps"] or 0) for each in listed]
        self.assertEqual(sums, sorted(sums, reverse=True))
        self.assertRegex(
            self.run_ok("usage", "--now", "--format", "table"), r"till +139 kbit/s +25 kbit/s +workshop access point"
        )

    def test_live(self) -> None:
        """Piped, picture below picture; it ends by itself after its time."""
        text = self.run_ok("usage", "--live", "--for", "3s")
        first, second, *_ = text.split("in all, of the last seconds")[1:]
        self.assertIn("once everything was read twice", first)
        drawn = re.search(r"till +(█+)\S* +139 kbit/s", second)
        least = re.search(r"storage +(█+)\S* +20 kbit/s", second)
        assert drawn and least
        self.assertAlmostEqual(len(drawn[1]) / len(least[1]), 139 / 20, delta=3)  # in whole characters
        self.assertIn("read: workshop switch, access points", second)

    def test_nothing_counts(self) -> None:
        """Without anything that counts it says what to set up; what does not fit together is refused."""
        self.assertIn("nothing was counted yet", self.refused(3, "usage"))
        (self.site / "site.toml").write_text("", encoding="utf-8")
        self.assertIn("no one counts", self.refused(3, "usage"))
        self.assertIn("say one of", self.refused(2, "usage", "till", "--live"))
        self.assertIn("--for belongs", self.refused(2, "usage", "--for", "5s"))
        self.assertIn("attic", self.refused(3, "usage", "--set-up", "attic"))

    def test_the_counter_that_sees_it_best(self) -> None:
        """At the edge, unless the router saw far more; what two count of one association is not added up."""
        with closing(Site(self.site)) as site:
            for source, octets in (("station", 9_000), ("accounting", 8_000), ("flow", 5_000)):
                note_used(site, TILL, HOUR, octets, source=UsageSource(source))
            note_used(site, SCALE, HOUR, 1_000, source=UsageSource.STATION)
            note_used(site, SCALE, HOUR, 70_000, source=UsageSource.FLOW)
            note_used(site, PRINTER, HOUR, 3_000, source=UsageSource.CABLE)
            note_used(site, PRINTER, HOUR, 3_100, source=UsageSource.LIST)
        told = {each["macs"][0]: (each["counted_by"], each["week_up"]) for each in self.run_json("usage")}
        self.assertEqual(
            told, {str(TILL): ("station", 9_000), str(SCALE): ("flow", 70_000), str(PRINTER): ("cable", 3_000)}
        )

    def test_of_two_adapters(self) -> None:
        """By cable and by air: the steps add up what the sums do, and a router counts nothing twice."""
        other = MacAddress(bytes([0x10, 0xC0, 0xDE, 0x4A, 0x11, 0x99]))
        with closing(Site(self.site)) as site:
            for mac, source, octets in (
                (STORAGE, UsageSource.CABLE, 5_000), (STORAGE, UsageSource.LIST, 5_400),
                (other, UsageSource.STATION, 700), (other, UsageSource.ACCOUNTING, 690),
            ):  # fmt: skip
                note_used(site, mac, HOUR, octets, source=source)
            with site.roster.transaction() as db:
                device = find_device(site, "storage").id
                db.execute(
                    "INSERT INTO adapter (mac, device, first_seen, last_seen) VALUES (?, ?, 1, 1)", (str(other), device)
                )
        card = self.run_json("usage", "storage")
        self.assertEqual((card["counted_by"], card["week_up"]), ("cable", 5_700))
        self.assertEqual(sum(each["up"] for each in card["history"] if each["step"] == "hour"), 5_700)

    def test_what_is_forgotten(self) -> None:
        """With a device goes what it used and where it was; it may come back, and begins with nothing."""
        self.run_ok("where", "till", "--now")
        with closing(Site(self.site)) as site:
            note_used(site, TILL, HOUR, 5_000)
            note_used(site, STORAGE, HOUR, 3_000)
        self.run_ok("forget", "till", "--yes")
        with closing(Site(self.site)) as site:
            for table, column in (
                ("meter", "subject"), ("counter", "subject"), ("wire_stay", "mac"), ("air_stay", "mac"),
                ("air_session", "mac"),
            ):  # fmt: skip
                rows = site.roster.db.execute(f"SELECT 1 FROM {table} WHERE {column} = ?", (str(TILL),)).fetchall()
                self.assertEqual(rows, [], table)
            left = site.roster.db.execute("SELECT count(*) FROM usage WHERE meter NOT IN (SELECT id FROM meter)")
            self.assertEqual(left.fetchone()[0], 0)
        self.assertEqual([each["name"] for each in self.run_json("usage")], ["storage"])
        self.run_ok("undo", "--yes")
        self.assertIn("nothing was counted for till", self.refused(3, "usage", "till"))

    def test_by_accounting(self) -> None:
        """What reports of an association add to each other, whatever was told twice; a later one begins with 0."""
        with closing(Site(self.site)) as site:
            now = site.clock.now()
            for begun, minutes, octets in ((3, 10, 1_000), (3, 20, 4_000), (3, 20, 4_000), (1, 5, 500)):
                since = now - begun * HOUR
                until = since + timedelta(minutes=minutes)
                session = AirSession(TILL, "Kilnhaven", "attic access point", since, until, True, octets, 2 * octets)
                count_sessions(site, [session])
        (row,) = self.run_json("usage")
        told = (row["name"], row["counted_by"], row["week_up"], row["week_down"])
        self.assertEqual(told, ("till", "accounting", 4_500, 9_000))

    def test_the_card(self) -> None:
        """The steps of one device: an hour in minutes, a month in hours, years in days, each with its sums."""
        with closing(Site(self.site)) as site:
            note_used(site, TILL, timedelta(0), 36_000, 72_000)
            note_used(site, TILL, timedelta(days=3), 1_000)
            note_used(site, TILL, timedelta(days=50), 7_000)
        card = self.run_json("usage", "till")
        self.assertEqual((card["today_up"], card["today_down"], card["week_up"]), (36_000, 72_000, 37_000))
        ups: dict[str, list[int]] = {}
        for each in card["history"]:
            ups.setdefault(each["step"], []).append(each["up"])
        sums = {step: sum(those) for step, those in ups.items()}
        self.assertEqual((sums["hour"], sums["day"]), (37_000, 44_000))
        self.assertAlmostEqual(sums["minute"], 36_000, delta=600)  # the first minute has begun before the hour
        text = self.run_ok("usage", "till", "--format", "table")
        self.assertRegex(text, r"counted +at attic access point: all that it sent and got on the air")
        self.assertRegex(text, r"last hour +█{50,}")


class TooMuch(WithSwitch):
    def limits(self, *lines: str) -> None:
        path = self.site / "site.toml"
        text = "".join(f"\n[[much]]\n{each}\n" for each in lines)
        path.write_text(path.read_text(encoding="utf-8").partition("\n[[much]]")[0] + text, encoding="utf-8")

    def told(self) -> list[str]:
        """What is told now, as the watch would."""
        with closing(Site(self.site)) as site:
            return [event.name for event in tell_much(site).events]

    def test_more_than_a_limit(self) -> None:
        """It is told once in the time of the limit; the first limit that fits a device counts."""
        self.limits(f'devices = ["{TILL}"]\nmb = 2\nwithin_h = 2', "mb = 1")
        with closing(Site(self.site)) as site:
            note_used(site, TILL, timedelta(0), 900_000, 1_000_000)
            note_used(site, STORAGE, timedelta(0), 300_000, 600_000)
        self.assertEqual(self.told(), [])
        with closing(Site(self.site)) as site:
            note_used(site, TILL, timedelta(minutes=1), 200_000)
            note_used(site, PRINTER, timedelta(hours=20), 1_000_001)
        self.assertEqual(self.told(), ["2.1 MB, more than 2.0 MB, in 2 hours", "1.0 MB, more than 1.0 MB, in 24 hours"])
        self.assertEqual(self.told(), [])
        _, table, _ = played(self.site, ["events", "--kind", "uses-much"])
        self.assertIn("till (54:b1:a3:7c:00:50) uses much of the line: 2.1 MB, more than 2.0 MB, in 2 hours", table)
        self.assertIn("Uses much of the line: till", self.run_json("alerts")[0]["subject"])

    def test_far_beyond_what_is_usual(self) -> None:
        """So many times the most of any day of four weeks; with less than a week of history nothing is usual."""
        self.limits("times = 3")
        with closing(Site(self.site)) as site:
            for days in range(2, 20):
                note_used(site, TILL, timedelta(days=days), 100_000_000)
            for mac, octets in ((TILL, 290_000_000), (STORAGE, 900_000_000)):
                note_used(site, mac, timedelta(0), octets)
            note_used(site, STORAGE, timedelta(days=3), 1_000)
        self.assertEqual(self.told(), [])
        with closing(Site(self.site)) as site:
            note_used(site, TILL, timedelta(minutes=2), 20_000_000)
        self.assertEqual(self.told(), ["310.0 MB; before, it was never more than 100.0 MB, in 24 hours"])


class Pasted(WithSwitch):
    def test_two_lists(self) -> None:
        """Of a page that shows traffic, the second list tells what passed since the first; a reset tells nothing."""
        with closing(Site(self.site)) as site:
            now = site.clock.now()
        page = "MAC address\tIP address\tDownload (MB)\tUpload\n{}\t192.0.2.50\t{}\t{}\n{}\t192.0.2.5\t{}\t{}\n"
        for minute, cells in enumerate((("100", "7.5 MB", "50", "1 GB"), ("160", "9.5 MB", "2", "3 kB"))):
            file = self.folder / f"clients{minute}.txt"
            file.write_text(page.format(TILL, *cells[:2], STORAGE, *cells[2:]), encoding="utf-8")
            read_at = (now - timedelta(minutes=20 - 10 * minute)).timestamp()
            os.utime(file, (read_at, read_at))
            self.run_ok("import", str(file))
            if not minute:
                path = self.site / "site.toml"
                path.write_text(path.read_text(encoding="utf-8").partition("\n[[")[0], encoding="utf-8")
                self.assertIn("a list with amounts was pasted: paste it again later", self.refused(3, "usage"))
        (row,) = self.run_json("usage")
        told = (row["name"], row["counted_by"], row["week_down"], row["week_up"])
        self.assertEqual(told, ("till", "list", 60_000_000, 2_000_000))
        self.assertAlmostEqual(row["down_bps"], 60e6 * 8 / 600, delta=1)


class Findings(WithSwitch):
    def test_what_needs_attention(self) -> None:
        """A port with errors, a slow link, a station hardly heard: each with its device and socket."""

        def reading(errors: int, uptime: int) -> SwitchReading:
            ports = tuple(
                SwitchPort(
                    str(number), number, speed_mbit=10 if number == 4 else 1000, up=True,
                    counters=PortCounters(1_000 * uptime, 0, errors if number == 3 else 0),
                )
                for number in range(1, 9)
            )  # fmt: skip
            there = tuple(Learned(mac, port) for mac, port in ((STORAGE, "3"), (PRINTER, "4")))
            return SwitchReading("workshop switch", uptime=uptime, ports=ports, learned=there)

        with closing(Site(self.site)) as site:
            fold_wires(site, {"workshop switch": reading(10, 100)}, ["workshop switch"])
            pause(site, site.clock.monotonic() + 60)
            fold_wires(site, {"workshop switch": reading(90, 6_100)}, ["workshop switch"])
            begin = site.clock.now() - timedelta(days=2)
            for quarter in range(20):
                for mac, signal in ((TILL, -84 if quarter % 3 else -70), (SCALE, -79)):
                    read = AirReading(mac, "Kilnhaven", "workshop access point", "2.4", begin, signal)
                    note_air(site.roster, [read], begin + quarter * timedelta(minutes=15))
        self.run_ok("label", "storage", "--socket", "office 3, left")
        self.assertIn("80 damaged frames in the last day", self.run_ok("map", "--wires", "--format", "table"))
        tables, page = self.folder / "tables", self.folder / "report.html"
        self.run_ok("report", "--csv", str(tables), "--html", str(page))
        with (tables / "wires.csv").open(encoding="utf-8", newline="") as file:
            rows = list(csv.DictReader(file))
        told = [(each["port"], each["socket"], each["errors"], each["devices"]) for each in rows]
        self.assertEqual((len(told), told[2]), (8, ("3", "office 3, left", "80", "storage")))
        with (tables / "usage.csv").open(encoding="utf-8", newline="") as file:
            used = {each["name"]: (each["up"], each["down"], each["counted_by"]) for each in csv.DictReader(file)}
        self.assertEqual(used["storage"], ("6000000", "0", "cable"))
        self.assertRegex(page.read_text(encoding="utf-8"), r'(?s)<section id="wires".*<svg.*office 3, left')
        says = [each["says"] for each in self.run_json("report", "--format", "json")["attention"]]
        self.assertIn(
            "storage, at office 3, left (port 3 of workshop switch), has counted 80 damaged frames in the last day: a "
            "bad cable or plug, or two ends that do not agree about the speed.",
            says,
        )
        slow = [each for each in says if "10 Mbit/s" in each]
        weak = [each for each in says if "hardly heard" in each]
        self.assertEqual((len(slow), len(weak)), (1, 1))
        self.assertTrue(slow[0].startswith("label-printer, at port 4 of workshop switch, has a link of 10 Mbit/s"))
        self.assertTrue(weak[0].startswith("till is hardly heard by workshop access point, 2.4 GHz: below -80 dBm"))


if __name__ == "__main__":
    unittest.main()
