"""Where devices are, through the installed program on the made-up site, and what is remembered of it."""

from __future__ import annotations

import unittest
from contextlib import closing
from dataclasses import replace
from datetime import timedelta
from typing import Any

from scopion.model.mac import MacAddress
from scopion.model.wires import Learned, LldpNeighbour, SwitchPort, SwitchReading
from scopion.operations.site.open_site import Site
from scopion.operations.usage.measure_live import pause
from scopion.operations.wifi.open_enforcers import remember_stations
from scopion.operations.wires.find_place import find_place
from scopion.operations.wires.fold_wires import fold_wires
from scopion.roster.wifi.air_stays import AirReading, note_air
from scopion.roster.wires.switches import known_ports
from scopion.roster.wires.wire_stays import Hung, note_hanging, present_wire_stays
from scopion.wireless.enforcers.enforcer import Located, Station
from tests.support import ProgramTest, played

SWITCH = """
[[switch]]
name = "workshop switch"
address = "198.51.100.3"
version = "3"
user = "scopion"
"""
PRINTER, STORAGE, TILL, SCALE = (
    MacAddress.parse(text)
    for text in ("24:d3:a1:20:7e:14", "10:c0:de:4a:11:05", "54:b1:a3:7c:00:50", "ac:d3:e5:00:51:40")
)


class WithSwitch(ProgramTest):
    """The made-up site at its beginning, with its switch in site.toml, after a scan."""

    def setUp(self) -> None:
        super().setUp()
        self.begin()
        self.set_up()
        self.run_ok("scan")

    def set_up(self, more: str = "") -> None:
        """Write the switch into site.toml."""
        path = self.site / "site.toml"
        before = path.read_text(encoding="utf-8").partition("\n[[switch]]")[0]
        path.write_text(f"{before}{SWITCH}{more}", encoding="utf-8")


class Where(WithSwitch):
    def test_by_cable(self) -> None:
        """Switch, port, link and since when; a switch that was not read yet tells nothing, and it says what to do."""
        said = self.refused(3, "where", "storage")
        self.assertIn("--now reads them", said)
        (place,) = self.run_json("where", "storage", "--now")["places"]
        told = {key: place[key] for key in ("switch", "port", "speed_mbit", "here", "at_edge", "others", "socket")}
        self.assertEqual(
            told,
            {
                "switch": "workshop switch", "port": "3", "speed_mbit": 1000, "here": True, "at_edge": True,
                "others": 0, "socket": None,
            },
        )  # fmt: skip
        text = self.run_ok("where", "192.0.2.5")  # from the roster now
        self.assertRegex(text, r"cable +port 3 of workshop switch, 1 Gbit/s, since ")
        self.assertEqual(self.run_json("where", "this-machine")["places"][0]["port"], "5")

    def test_on_the_air(self) -> None:
        """The access point, the band and the signal in a word; and at which port that access point hangs."""
        text = self.run_ok("where", "till", "--now")
        self.assertRegex(text, r"on the air +workshop access point, 5 GHz, network Kilnhaven, since ")
        self.assertRegex(text, r"signal +strong \(-48 dBm\)")
        self.assertRegex(text, r"cable +the access point hangs at port 2 of workshop switch")
        (place,) = self.run_json("where", "till")["places"]
        self.assertEqual((place["access_point"], place["radio"], place["port"]), ("workshop access point", "5", None))

    def test_what_no_one_knows(self) -> None:
        """A MAC address that neither the roster nor a switch knows; a site without any switch or access point."""
        self.run_ok("where", "storage", "--now")
        self.assertIn("no device", self.refused(3, "where", "00:11:22:33:44:55"))
        path = self.site / "site.toml"
        path.write_text("", encoding="utf-8")
        self.assertIn("nothing can be asked", self.refused(3, "where", "storage", "--now"))
        self.assertIn("no switch is known", self.refused(3, "map", "--wires", "--now"))

    def test_a_switch_that_does_not_answer(self) -> None:
        """It is remembered with its reason; what it told before is shown with its age."""
        self.run_ok("where", "storage", "--now")
        self.set_up('\n[[switch]]\nname = "cellar"\naddress = "192.0.2.99"\nversion = "3"\nuser = "scopion"\n')
        self.assertRegex(self.run_ok("where", "storage", "--now"), "port 3 of workshop switch")
        path = self.site / "site.toml"
        path.write_text(path.read_text(encoding="utf-8").replace("198.51.100.3", "192.0.2.98"), encoding="utf-8")
        self.assertRegex(self.run_ok("where", "storage", "--now"), r"caution +as of .* does not answer SNMP")


class Sockets(WithSwitch):
    def test_a_socket_is_named_once(self) -> None:
        """It stands in the list, on the card and in the answer to where; it stays with the port, and can be undone."""
        self.run_ok("map", "--wires", "--now")
        self.run_ok("label", "storage", "--socket", "office 3, left")
        devices = {each["name"]: each for each in self.run_json("devices")}
        self.assertEqual((devices["storage"]["socket"], devices["storage"]["where"]), ("office 3, left",) * 2)
        self.assertIn("office 3, left (port 3 of workshop switch)", self.run_ok("show", "storage"))
        self.assertRegex(self.run_ok("where", "storage"), r"socket +office 3, left")
        _, table, _ = played(self.site, ["devices", "--format", "table"])  # in a wide terminal
        self.assertIn("office 3, left", table)
        again = self.refused(1, "label", "label-printer", "--socket", "Office 3, left")
        self.assertIn("port 3 of workshop switch has the socket", again)
        self.run_ok("undo", "--yes")
        self.assertIsNone(self.run_json("where", "storage")["places"][0]["socket"])

    def test_by_its_port(self) -> None:
        """A port at which nothing hangs has a socket, too; a wrong port is told with those that there are."""
        self.run_ok("map", "--wires", "--now")
        self.run_ok("label", "--port", "workshop switch/8", "--socket", "yard")
        (eighth,) = (each for each in self.run_json("map", "--wires") if each["port"] == "8")
        self.assertEqual((eighth["socket"], eighth["up"], eighth["alias"]), ("yard", False, "yard"))
        for code, arguments, said in (
            (3, ("--port", "workshop switch/9", "--socket", "x"), "1, 2, 3"),
            (3, ("--port", "attic/1", "--socket", "x"), "workshop switch"),
            (2, ("--port", "8", "--socket", "x"), "SWITCH/PORT"),
            (1, ("till", "--socket", "x"), "on the air"),
        ):
            with self.subTest(arguments=arguments):
                if arguments[0] == "till":
                    self.run_ok("where", "till", "--now")
                self.assertIn(said, self.refused(code, "label", *arguments))

    def test_the_map(self) -> None:
        """A tree: what hangs where, what is on the air behind a port, and which ports are free."""
        text = self.run_ok("map", "--wires", "--now", "--format", "table")
        self.assertRegex(text, r"workshop switch, 8 ports\n├─ 1  the gateway 192.0.2.1")
        self.assertRegex(text, r"├─ 2  ap-workshop 192.0.2.2 .*\n│ +\d devices on the air:\n│ +├ ")
        self.assertRegex(text, r"└─ free: 8\n")
        rows = self.run_json("map", "--wires")
        self.assertEqual([each["number"] for each in rows], list(range(1, 9)))
        self.assertIn("till", rows[1]["stations"])


class Remembering(ProgramTest):
    """What is folded of readings, one after the other."""

    def setUp(self) -> None:
        super().setUp()
        self.begin()
        path = self.site / "site.toml"
        fixed = f'[where]\nfixed = ["{PRINTER}"]\n'
        path.write_text(path.read_text(encoding="utf-8") + SWITCH + fixed, encoding="utf-8")
        self.run_ok("scan")

    def reading(
        self, *where: tuple[MacAddress, str], down: str = "", switch: str = "workshop switch", **told: Any
    ) -> SwitchReading:
        """What a switch tells: adapters at ports; a port without a link."""
        ports = tuple(SwitchPort(str(number), number, up=str(number) != down) for number in range(1, 9))
        return SwitchReading(switch, ports=ports, learned=tuple(Learned(*each) for each in where), **told)

    def fold(self, site: Site, reading: SwitchReading) -> list[str]:
        """Fold it; the events that came of it, with where each device is now."""
        return [event.name for event in fold_wires(site, {reading.switch: reading}, [reading.switch]).events]

    def test_one_that_does_not_move_was_moved(self) -> None:
        """It is told once with both places; another device may move, and so may one that was unplugged for a while."""
        with closing(Site(self.site)) as site:
            self.assertEqual(self.fold(site, self.reading((PRINTER, "4"), (STORAGE, "3"))), [])
            self.assertEqual(self.fold(site, self.reading((PRINTER, "4"), (STORAGE, "5"))), [])
            self.assertEqual(self.fold(site, self.reading((STORAGE, "5"), down="4")), [])
            self.assertNotIn(PRINTER, present_wire_stays(site.roster))
            self.assertEqual(self.fold(site, self.reading((PRINTER, "7"))), ["port 7 of workshop switch"])
            self.assertEqual(self.fold(site, self.reading((PRINTER, "7"))), [])
        (event,) = self.run_json("events", "--kind", "moved")
        self.assertEqual((event["name"], event["was_name"]), ("port 7 of workshop switch", "port 4 of workshop switch"))
        _, table, _ = played(self.site, ["events", "--kind", "moved"])
        self.assertIn("was moved: it is at port 7 of workshop switch now, it was at port 4", table)
        (alert, *_) = self.run_json("alerts")
        self.assertIn("Before, it was at port 4 of workshop switch.", self.run_ok("alerts", "show", str(alert["id"])))

    def test_a_switch_that_was_not_read_before(self) -> None:
        """What seemed to hang at the port towards it has not moved. What it hears by LLDP stays while it does not tell
        it; what led to a switch that site.toml no longer names leads nowhere.
        """
        path = self.site / "site.toml"
        alone = path.read_text(encoding="utf-8")
        path.write_text(alone + SWITCH.replace("workshop switch", "upstairs"), encoding="utf-8")
        upper, point = MacAddress.parse("00:22:00:00:00:01"), LldpNeighbour("7", "ap", bridges=True, radio=True)
        main = self.reading((PRINTER, "4"), (SCALE, "4"), (upper, "4"))
        upstairs = self.reading((PRINTER, "1"), (SCALE, "7"), switch="upstairs", macs=frozenset({upper}))

        def told(site: Site, *readings: SwitchReading) -> tuple[int, list[str]]:
            events = fold_wires(site, {each.switch: each for each in readings}, [readings[-1].switch]).events
            links = [str(each.port) for each in known_ports(site.roster).values() if each.leads_to]
            return len(events), links + [each.behind for each in known_ports(site.roster).values() if each.behind]

        with closing(Site(self.site)) as site:
            self.assertEqual(told(site, main), (0, []))
            self.assertEqual(told(site, main, replace(upstairs, neighbours=(point,))), (0, ["ap"]))
            self.assertEqual(told(site, upstairs, main), (0, ["port 4 of workshop switch", "ap"]))
            self.assertEqual(
                told(site, main, replace(upstairs, neighbours=None)), (0, ["port 4 of workshop switch", "ap"])
            )
            self.assertEqual(find_place(site, str(PRINTER)).places[0].spot.where, "port 1 of upstairs")
        path.write_text(alone, encoding="utf-8")
        with closing(Site(self.site)) as site:
            self.assertEqual(told(site, main), (0, []))

    def test_on_another_access_point(self) -> None:
        """The same on the air, whoever reads the stations first: a person, or the watch."""
        path = self.site / "site.toml"
        path.write_text(path.read_text(encoding="utf-8").replace(str(PRINTER), str(TILL)), encoding="utf-8")
        with closing(Site(self.site)) as site:
            told = []
            for point in ("workshop", "workshop", "shop"):
                there = [Located(Station(mac), "Kilnhaven", point, "5", site.clock.now()) for mac in (TILL, SCALE)]
                pause(site, site.clock.monotonic() + 60)
                told.append([(each.mac, each.was_name, each.name) for each in remember_stations(site, there).events])
        moved = (TILL, "the access point workshop", "the access point shop")
        self.assertEqual(told, [[], [], [moved]])

    def test_silence_is_no_move(self) -> None:
        """A switch forgets an adapter after minutes: it keeps its port for an hour, and then it is nowhere."""
        with closing(Site(self.site)) as site:
            self.fold(site, self.reading((SCALE, "7")))
            at = site.clock.now()
            roster = site.roster
            note_hanging(roster, [], at + timedelta(minutes=50))
            self.assertIn(SCALE, present_wire_stays(roster))
            note_hanging(roster, [], at + timedelta(minutes=70))
            self.assertNotIn(SCALE, present_wire_stays(roster))
        self.assertIn("is nowhere now: it was last at port 7", self.refused_with_card("where", str(SCALE)))

    def refused_with_card(self, *arguments: str) -> str:
        """A command that shows what it has and ends with 3; what it says on standard error."""
        ended = self.run_program(*arguments)
        self.assertEqual(ended.returncode, 3)
        return ended.stderr

    def test_made_up_addresses_fill_nothing(self) -> None:
        """Who floods the switch with made-up addresses adds a thousand stays; devices of the roster are kept."""
        flood = [MacAddress(bytes([2, 0, 0, 0, number >> 8, number & 255])) for number in range(3_000)]
        with closing(Site(self.site)) as site:
            self.fold(site, self.reading(*((mac, "6") for mac in flood), (SCALE, "7")))
            stays = present_wire_stays(site.roster)
            self.assertEqual((len(stays), SCALE in stays), (1_001, True))
        text = self.run_ok("map", "--wires", "--format", "table")
        self.assertIn("3000 devices", text)
        self.assertLess(len(text.splitlines()), 40)

    def test_the_last_week(self) -> None:
        """All places of seven days, with the time at each and the mean signal; where it hangs by air is no place."""
        with closing(Site(self.site)) as site:
            now, roster = site.clock.now(), site.roster
            self.fold(site, self.reading((STORAGE, "3"), (TILL, "2")))
            third, second = (present_wire_stays(roster)[mac].port for mac in (STORAGE, TILL))
            half = timedelta(minutes=30)
            note_hanging(roster, [Hung(STORAGE, third, 0, at_edge=True)], now + half)
            note_hanging(roster, [Hung(STORAGE, second, 0, at_edge=True)], now + 2 * half)
            note_hanging(
                roster,
                [Hung(STORAGE, third, 0, at_edge=True), Hung(TILL, second, 0, at_edge=True)],
                now + timedelta(hours=1, minutes=30),
            )
            for hours, point, signal in ((0, "workshop", -60), (0.5, "workshop", -70), (1, "shop", -82)):
                read = AirReading(TILL, "Kilnhaven", point, "5", signal=signal)
                note_air(roster, [read], now + timedelta(hours=hours))
            pause(site, site.clock.monotonic() + 5_400)
            storage, till = (find_place(site, str(mac)) for mac in (STORAGE, TILL))
        told = [(each.where, each.lasted, each.stays, each.present) for each in storage.lately]
        self.assertEqual(
            told,
            [("port 3 of workshop switch", half, 2, True), ("port 2 of workshop switch", timedelta(0), 1, False)],
        )
        on_air = [(each.where, each.lasted, each.signal, each.present) for each in till.lately]
        self.assertEqual(on_air, [("shop, 5 GHz", timedelta(0), -82, True), ("workshop, 5 GHz", half, -65, False)])

    def test_behind_a_switch_that_is_silent(self) -> None:
        """What only an uplink knows keeps the port that a nearer switch has told."""
        with closing(Site(self.site)) as site:
            self.fold(site, self.reading((SCALE, "7")))
            (port,) = (stay.port for stay in present_wire_stays(site.roster).values() if stay.mac == SCALE)
            note_hanging(site.roster, [Hung(SCALE, port + 1, 0, at_edge=False)], site.clock.now())
            self.assertEqual(present_wire_stays(site.roster)[SCALE].port, port)
            note_hanging(site.roster, [Hung(TILL, port + 1, 0, at_edge=False)], site.clock.now())
        self.assertIn("behind", self.run_ok("where", str(TILL)))


if __name__ == "__main__":
    unittest.main()
