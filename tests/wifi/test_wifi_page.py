"""Routers that have nothing but a web page: a person is the wire, sheets follow the clock, and what was said counts."""

from __future__ import annotations

import json
import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.model.mac import MacAddress
from scopion.operations.wifi.attend_lists import next_moment
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.coverage import Line
from scopion.wireless.enforcer_settings import PageSettings
from scopion.wireless.enforcers.enforcer import Held
from scopion.wireless.list_policy import WantedList
from scopion.wireless.router_sheet import RadioPart, SheetTimes, Timing, make_sheet
from tests.support import ProgramTest
from tests.typed_page import TypedPage

STRANGER, DOOR, TILL, STORAGE = "a0:b4:d7:66:19:04", "7c:a4:b1:33:02:61", "54:b1:a3:7c:00:50", "10:c0:de:4a:11:05"
PAGE = """
[[enforcer]]
name = "café router"
type = "page"
network = "Café"
page = "203.0.113.1"
notation = "hyphen"
bands = ["2.4", "5"]
capacity = 3
"""
MACS = tuple(MacAddress.parse(each) for each in (STRANGER, DOOR, TILL, STORAGE))


@st.composite
def held(draw: st.DrawFn) -> Held:
    """What a page may hold: the list of its mode is known, that of the other is whatever it is."""
    mode = draw(st.sampled_from(ListMode))
    macs = frozenset(draw(st.sets(st.sampled_from(MACS))))
    return Held(*((macs, frozenset()) if mode is ListMode.ALLOW else (frozenset(), macs)), mode)


class Sheets(unittest.TestCase):
    @settings(max_examples=300, deadline=None)
    @given(st.lists(held(), max_size=3), held(), held(), st.sets(st.sampled_from(MACS)), st.booleans())
    def test_a_sheet_is_right_whatever_the_page_may_hold(
        self, typed: list[Held], target: Held, unknown: Held, left: set[MacAddress], one_list: bool
    ) -> None:
        """From each list that may have been typed in, or from any if none is known, its steps make the wanted one; a
        device that is admitted before and after is admitted after each of them, also where one list serves both modes.
        """
        mode = target.mode or ListMode.OFF
        lines = tuple(Line(mac, "", False) for mac in sorted(target.allow | target.deny))
        right = WantedList(mode, lines if mode is not ListMode.OFF else ())
        page = PageSettings(type="page", name="p", network="Café", bands=("5",))
        sheet = make_sheet(page, [RadioPart("5", right, tuple(typed))], SheetTimes("now"), timing=Timing(), names={})
        for there in typed or [unknown]:
            router = TypedPage(one_list=one_list)
            router.modes["5"] = str(there.mode)
            router.lists = {("5", "allow"): set(left), ("5", "deny"): set(left), ("5", ""): set(left)}
            if there.mode is not ListMode.OFF:  # the list of its mode is as it was said
                router.lists["5", "" if one_list else str(there.mode)] = set(there.allow | there.deny)
            keeps = [mac for mac in MACS if router.admits("5", mac) and right.admits(mac)]
            for _ in router.steps(sheet):
                self.assertEqual([mac for mac in keeps if not router.admits("5", mac)], [])
            self.assertEqual(router.holds("5"), (str(mode), set(right.macs)))


class Pages(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.begin()
        self.run_ok("scan")

    def settings(self, more: str = "") -> None:
        file = self.site / "site.toml"
        file.write_text(file.read_text(encoding="utf-8").partition(PAGE[:20])[0] + more, encoding="utf-8")

    def sheet(self, *more: str) -> str:
        return self.run_ok("wifi", "sheet", "Café", *more)

    def checked(self) -> dict[str, Any]:
        ended = self.run_program("wifi", "verify", "Café", "--no-scan", "--format", "json")
        check: dict[str, Any] = json.loads(ended.stdout)["checks"][0]
        return check

    def test_a_push_hands_over_a_sheet_and_waits(self) -> None:
        """Done ends what a sheet asked for, whatever changed meanwhile; a sheet goes back; each radio by itself."""
        self.run_ok("wifi", "deny", "Café", STRANGER)
        self.run_ok("wifi", "mode", "Café", "deny")
        self.assertIn("nothing was said to be typed in yet", self.run_program("wifi", "preview", "Café").stderr)
        told = self.run_program("wifi", "push", "Café")
        self.assertEqual((told.returncode, told.stdout.count(f"[ ] {STRANGER}")), (0, 2))
        self.assertIn("scopion wifi done", told.stderr)
        self.assertEqual(self.checked()["met"], None)
        self.run_ok("wifi", "deny", "Café", DOOR)
        noted = self.run_program("wifi", "done", "Café").stderr
        self.assertIn("has 1 entry in mode deny", noted)  # what the sheet said, not what is wanted by now
        self.assertEqual(self.checked()["met"], False)
        self.assertIn(DOOR, self.sheet())
        self.run_ok("wifi", "deny", "Café", TILL)
        unsure = self.sheet()
        self.assertIn("It is not known whether the sheet of Monday", " ".join(unsure.split()))
        self.assertIn("add to its deny list what is not there yet", unsure)
        self.run_ok("wifi", "done", "Café", "--radio", "5")
        self.assertIn("not typed in on 2.4 GHz", self.run_ok("wifi", "entries", "Café"))
        self.assertNotIn("5 GHz", self.sheet())
        self.run_ok("wifi", "done", "Café")
        self.assertIn("nothing to do", self.sheet())
        self.assertEqual({row["typed_in"] for row in self.run_json("wifi", "entries", "Café")}, {True})
        back = self.run_program("wifi", "revert", "Café", "--yes")
        self.assertIn("remove from its deny list", back.stdout)
        self.assertIn(TILL, back.stdout)
        self.run_ok("wifi", "done", "Café")
        states = [each["state"] for each in self.run_json("wifi", "revert", "--list")["pushes"]]
        self.assertEqual(set(states), {"done", "skipped"})
        self.assertIn("is on a page", self.refused(1, "wifi", "import", "Café"))

    def test_settings_of_a_page(self) -> None:
        """Its notation, bands, room and modes are those of site.toml; one that only denies is emptied to be off."""
        self.settings(PAGE)
        self.run_ok("wifi", "deny", "Café", STRANGER, DOOR)
        (row,) = [each for each in self.run_json("wifi", "ssids") if each["ssid"] == "Café"]
        self.assertEqual((row["enforcers"], row["notation"], row["capacity"]), (["café router"], "hyphen", 3))
        self.run_ok("wifi", "mode", "Café", "deny")
        self.assertIn("A0-B4-D7-66-19-04", self.sheet())
        self.assertIn(
            "needs 4 entries", self.refused(1, "wifi", "deny", "Café", TILL, STORAGE).replace("would need", "needs")
        )
        self.settings(PAGE + "modes = false\n")
        self.assertNotIn("set the mode", self.sheet())
        self.run_ok("wifi", "done", "Café", "--enforcer", "café router")
        self.run_ok("wifi", "mode", "Café", "off")
        self.assertEqual(self.sheet().count("[ ] A0-B4-D7-66-19-04"), 2)
        self.run_ok("wifi", "allow", "Café", "this-machine")
        self.assertIn("can only deny", self.refused(1, "wifi", "mode", "Café", "allow", "--insist"))

    def test_what_is_due_is_in_the_report(self) -> None:
        """After the end of an entry, until done; a client list proves nothing where the router only drops traffic."""
        self.settings(PAGE + "refuses = false\n")
        self.run_ok("wifi", "deny", "Café", STRANGER, "--for", "1h")
        self.run_ok("wifi", "mode", "Café", "deny")
        self.run_ok("wifi", "done", "Café")
        seen = self.run_program("wifi", "verify", "Café", "--no-scan", "--clients", "-", stdin=f"x {STRANGER}\n")
        self.assertIn("drops its traffic", seen.stdout)
        self.assertNotIn("not met", seen.stderr)
        self.run_ok("watch", "--for", "90m")
        changed = "Café changed on Monday, 14 September, at 09:10"
        self.assertIn(changed, self.run_ok("report", "--table", "attention"))
        self.run_ok("wifi", "done", "Café")
        self.assertNotIn(changed, self.run_ok("report", "--table", "attention"))

    def test_a_router_with_a_timetable(self) -> None:
        """Hours are typed once, into the router: the list stays, and only what changes of them is typed again."""
        self.settings(PAGE + "timetable = true\n")
        self.run_ok("wifi", "deny", "Café", DOOR, "--hours", "mon-fri 20:00-22:00")
        self.run_ok("wifi", "deny", "Café", STRANGER)
        self.run_ok("wifi", "mode", "Café", "deny")
        first = self.sheet()
        self.assertRegex(first, r"\[ \] 7C-A4-B1-33-02-61 .*mon-fri 20:00-22:00")
        self.assertNotIn("print another sheet", first)
        self.run_ok("wifi", "done", "Café")
        site = self.opened()
        self.assertIsNone(next_moment(site.roster, site))  # no hour changes what is to be typed
        self.run_ok("wifi", "deny", "Café", DOOR, "--hours", "sat-sun 10:00-12:00")
        self.assertIn("other hours", self.run_program("wifi", "preview", "Café").stderr)
        self.assertEqual(self.checked()["met"], False)
        second = self.sheet()
        self.assertRegex(second, r"7C-A4-B1-33-02-61 .*sat-sun 10:00-12:00")
        self.assertNotIn("A0-B4-D7-66-19-04", second)
        self.run_ok("wifi", "done", "Café")
        self.run_ok("wifi", "deny", "Café", DOOR, "--hours", "always")
        self.assertIn("have no hours any more", self.sheet())
