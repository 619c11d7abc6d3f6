"""What matters is missed: once, with what it has in common with others, and not while it may be away."""

from __future__ import annotations

import json
import subprocess
import sys
import unittest
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from scopion.alerts.missing import AccessPoint, Expected, ExpectSettings, away_as_planned, back, missed
from scopion.model.device import Adapter, Device, EventKind, Standing, Stay
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.operations.edit.edit_devices import label_device
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices
from scopion.roster.wifi.associations import Association, note_associations
from tests.watch.test_watch import GATEWAY_MAC, NOON, SceneWatch, host, usual

AP, TILL, BAR, PHONES = 2, 50, 51, range(60, 64)
PAGE = '[[enforcer]]\ntype = "page"\nname = "workshop"\nnetwork = "Kilnhaven"\npage = "http://192.0.2.2/wlan"\n'
# The same box, for another network.
BOTH = PAGE + PAGE.replace('"workshop"', '"guests"').replace("Kilnhaven", "Guests")
OUT = ("-12:30", "13:00-")


class Missed(SceneWatch):
    """A till, a bar till and an access point, over an afternoon."""

    def site_with(
        self, hosts: str, said: str = "", *, essential: tuple[int, ...] = (TILL,), others: str = usual()
    ) -> None:
        """Watch until all are known; then label those that must be here, and put all but the access point on it."""
        self.begin(others + hosts, f"[watch]\ninterval_s = 120\n{said}")
        self.watch(minutes=2)
        site = Site(self.site)
        called = {AP: "workshop box", TILL: "front till", BAR: "bar till"}
        for device in all_devices(site.roster):
            number = int(str(device.addresses[0]).rpartition(".")[2])
            if number in called:
                label_device(site, str(device.addresses[0]), called[number], essential=number in essential)
            if "enforcer" in said and number >= TILL:
                where = "guests" if number > PHONES[0] and said == BOTH else "workshop"
                seen = Association(device.macs[0], "Kilnhaven", where, "5", None, NOON + timedelta(minutes=29))
                note_associations(site.roster, [seen])
        site.close()

    def scopion(self, *words: str) -> str:
        """Run the program on the site; its standard output."""
        program = [sys.executable, "-m", "scopion", "--site", str(self.site), *words]
        return subprocess.run(program, check=False, capture_output=True, text=True).stdout

    def test_one_that_must_be_here_is_missed_once(self) -> None:
        """And told when it is back; a restart meanwhile, and devices that nobody needs, tell nothing."""
        self.site_with(host(TILL, *OUT) + host(70, "-12:20", "13:10-"))
        self.watch(minutes=40)
        self.watch(minutes=60)
        self.assertEqual(len(self.subjects()), 2, self.subjects())
        self.assertRegex(" | ".join(self.subjects()), r"^Missing: front till \| Back: front till, after 3\d minutes$")
        told, came = self.book()
        self.assertEqual((told["severity"], came["severity"]), ("high", "high"))
        self.assertLessEqual(datetime.fromisoformat(told["at"]) - (NOON + timedelta(minutes=30)), timedelta(minutes=7))
        self.assertIn("scopion alerts mute 'front till' --until 18:00", told["text"])

    def test_its_own_patience_and_severity(self) -> None:
        """What ``site.toml`` says of a device counts, also if it is not labelled essential."""
        expect = '[[expect]]\ndevices = ["FRONT till"]\npatience_s = 1200\nseverity = "normal"\n'
        self.site_with(host(TILL, *OUT) + host(BAR, "-12:30", "12:45-"), expect, essential=(BAR,))
        self.watch(hours=2)
        self.assertEqual(
            [(each["subject"].partition(",")[0], each["severity"]) for each in self.book()],
            [("Missing: bar till", "high"), ("Back: bar till", "high"),
             ("Missing: front till", "normal"), ("Back: front till", "normal")],
        )  # fmt: skip

    def test_an_access_point_and_the_devices_on_it_are_one_message(self) -> None:
        """What was on it, on any of its networks, is listed with it. What does not come back after it is missed by
        itself.
        """
        others = "".join(host(number, *OUT) for number in (AP, TILL, *PHONES)) + host(BAR, "-12:30")
        self.site_with(others, BOTH, essential=(AP, TILL, BAR))
        self.watch(hours=2)
        subjects = self.subjects()
        self.assertEqual(len(subjects), 3, subjects)
        self.assertTrue(subjects[0].startswith("Missing: workshop box, with the 6 devices on it, "), subjects)
        self.assertTrue(subjects[1].startswith("Back: workshop box, after "), subjects)
        self.assertEqual(subjects[2], "Missing: bar till")

    def test_what_is_missed_together_is_told_together(self) -> None:
        """An access point that is silent too is named, though it need not be here itself; so is their return."""
        self.site_with("".join(host(number, *OUT) for number in (AP, TILL, BAR)), PAGE, essential=(TILL, BAR))
        self.watch(hours=2)
        common = "(in common: the access point workshop box)"
        subjects = self.subjects()
        self.assertEqual(len(subjects), 2, subjects)
        for subject, word in zip(subjects, ("Missing", "Back"), strict=True):
            self.assertIn(subject, [f"{word}: {', '.join(names)} {common}" for names in ORDERS])
        self.assertIn("as is the access point workshop box, with 2 devices on it.", self.book()[0]["text"])
        self.assertIn("What they have in common: the access point workshop box.", self.book()[0]["text"])

    def test_without_a_daemon_the_moment_tells_what_belongs_together(self) -> None:
        """No access point says what was on it: what else fell silent at the same time is counted all the same."""
        hosts = "".join(host(number, *OUT) for number in (AP, *PHONES))
        self.site_with(hosts + host(70, "-12:20"), essential=(AP,))
        self.watch(hours=2)
        same = "as are 4 other devices that fell silent at the same time"
        self.assertEqual(self.subjects()[0], f"Missing: workshop box, {same}")
        self.assertEqual(len(self.subjects()), 2)

    def test_a_group_that_comes_and_goes_is_told_together(self) -> None:
        """A loose plug for an hour: a message each half hour at most, and none for each device."""
        loose = [f"{12 + at // 60}:{at % 60:02}-{12 + (at + 4) // 60}:{(at + 4) % 60:02}" for at in range(20, 100, 16)]
        hosts = "".join(host(number, "-12:15", *loose, "13:45-") for number in (TILL, BAR))
        self.site_with(hosts, essential=(TILL, BAR))
        self.watch(hours=3)
        subjects = self.subjects()
        self.assertLessEqual(len(subjects), 7, subjects)
        self.assertTrue(all("front till" in each and "bar till" in each for each in subjects), subjects)

    def test_elsewhere_nothing_is_missed(self) -> None:
        """The watch's machine is on another network with the same addresses: what it does not see there is no news."""
        self.site_with(host(TILL, "-12:02"), essential=(TILL,))
        self.scopion("scan")  # by hand: it has left, and no watch has told that
        scene = self.folder / "scene.toml"
        others = scene.read_text().replace(GATEWAY_MAC, "24:d3:a1:00:00:99").replace("10:c0:de:00", "24:d3:a1:01")
        scene.write_text(others)
        self.watch(hours=1)
        self.assertEqual(self.subjects(), [])

    def test_planned_absences_are_silent(self) -> None:
        """Out of its hours nothing is told; with a pause nothing until its end, and then what is still missing."""
        hours = '[[expect]]\ndevices = ["front till"]\nhours = "08:00-12:20"\n'
        self.site_with(host(TILL, *OUT) + host(BAR, "-12:30"), hours, essential=(TILL, BAR))
        self.scopion("alerts", "mute", "bar till", "--until", "14:00")
        self.watch(minutes=110)
        self.assertEqual(self.subjects(), [])
        status = json.loads(self.scopion("status", "--format", "json"))
        self.assertEqual(
            {each["name"]: (each["here"], each["planned"]) for each in status["essential"]},
            {"front till": (True, "at this hour"), "bar till": (False, "until Mon 14:00")},
        )
        self.watch(minutes=15)
        self.assertEqual(self.subjects(), ["Missing: bar till"])

    def test_a_network_that_is_down_says_it_all(self) -> None:
        """Nobody is missed while no device answers; who does not come back after it is."""
        self.site_with(host(TILL, *OUT) + host(BAR, "-12:30"), essential=(TILL, BAR), others=usual(*OUT))
        self.watch(hours=2)
        self.assertEqual(
            self.subjects(),
            ["The network 192.0.2.0/24 is down", "The network 192.0.2.0/24 is back", "Missing: bar till"],
        )


ORDERS = (("front till", "bar till"), ("bar till", "front till"))
NOW = datetime(2026, 9, 14, 15, tzinfo=UTC)
POINTS = ("", "north", "south")


def device(number: int, seen: datetime, *, here: bool, place: str = "") -> Device:
    """A device at an address, seen last then."""
    mac = MacAddress.parse(f"10:c0:de:00:00:{number:02x}")
    stay = Stay(mac, IPv4Address(f"192.0.2.{number}"), NOW - timedelta(days=9), seen, here)
    adapter = Adapter(mac, Medium.UNKNOWN, stay.since, seen, (stay,))
    return Device(number, Standing.KNOWN, stay.since, f"d{number}", place=place, adapters=(adapter,))


def is_due(each: Expected) -> bool:
    """Whether a device by itself is to be told as missing."""
    silent = NOW - each.silent_since >= each.patience
    return each.is_missing and each.told is None and not each.planned and silent


moments = st.integers(0, 40).map(lambda minutes: NOW - timedelta(minutes=minutes))


@st.composite
def sites(draw: st.DrawFn) -> tuple[list[Expected], list[AccessPoint]]:
    """Devices that must be here, and one or two access points, each of which may be among them."""
    expected, points = list[Expected](), list[AccessPoint]()
    for names in draw(st.sampled_from([({"north"}, {"south"}), ({"north", "south"},)])):
        box, seen = draw(st.booleans()), draw(moments)
        of_it = device(len(points) + 1, seen, here=box)
        points.append(AccessPoint(frozenset(names), of_it, seen, draw(st.integers(0, 9))))
        if draw(st.booleans()):
            told = draw(st.sampled_from([None, NOW - timedelta(minutes=1)]))
            expected.append(Expected(of_it, seen, timedelta(minutes=5), told=told))
    for number in range(3, draw(st.integers(3, 12))):
        seen = draw(moments)
        thing = device(number, seen, here=draw(st.booleans()), place=draw(st.sampled_from(["", "bar"])))
        planned, told = draw(st.sampled_from(["", "", "at this hour"])), draw(st.sampled_from([None, None, NOW]))
        expected.append(Expected(thing, seen, timedelta(minutes=5), planned, draw(st.sampled_from(POINTS)), told))
    return expected, points


class Grouped(unittest.TestCase):
    """The decision alone, over any site."""

    @settings(suppress_health_check=[HealthCheck.too_slow])  # the machine may have other work beside
    @given(sites())
    def test_each_is_told_once_or_stands_behind_its_access_point(
        self, site: tuple[list[Expected], list[AccessPoint]]
    ) -> None:
        """Nothing that is here, planned, told or within its patience is missed; what is missed is in one group."""
        expected, points = site
        groups = missed(expected, points, NOW)
        told = [each.device.id for group in groups for each in group.missing]
        self.assertEqual(len(told), len(set(told)))
        heads = {point.device.id: point.names for point in points}
        gone = {each.device.id for each in expected if each.told is not None and not each.device.present}
        behind = {name for number, names in heads.items() if number in {*told, *gone} for name in names}
        for each in expected:
            due = is_due(each)
            if each.device.id in told:
                on_it = [other for other in expected if other.access_point in heads.get(each.device.id, ())]
                self.assertTrue(due or any(is_due(other) for other in on_it))
                self.assertFalse(each.planned or each.told)
            elif due:
                self.assertTrue(each.device.id in told or each.access_point in behind, each)
        for group in groups:
            self.assertTrue(group.common or len(group.missing) == 1)

    def test_hours_begin_with_patience(self) -> None:
        """Who is switched on at eight has its patience from eight on."""
        till = ExpectSettings(hours="mon-fri 08:00-18:00")
        patience = timedelta(minutes=10)
        for hour, minute, planned in ((7, 0, True), (8, 5, True), (8, 10, False), (17, 59, False), (18, 0, True)):
            moment = datetime(2026, 9, 14, hour, minute, tzinfo=UTC)
            self.assertEqual(away_as_planned(till, patience, moment, lambda at: at), planned, (hour, minute))

    def test_back_is_who_was_heard_since(self) -> None:
        """A device that a scan calls here because it was so before is not back yet."""
        told = NOW - timedelta(minutes=5)
        for seen, found in ((NOW - timedelta(minutes=6), 0), (NOW, 1)):
            each = Expected(device(3, seen, here=True), seen, timedelta(minutes=5), told=told)
            self.assertEqual(len(back([each])), found)
        self.assertEqual(EventKind("missing-back"), EventKind.MISSING_BACK)
