"""From a device to a list that is in force, in one step, and the way back."""

from __future__ import annotations

import json
import re
import sqlite3
import unittest
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from scopion.model.mac import MacAddress, Notation
from scopion.model.week import Week
from scopion.roster.store.open_roster import FILE
from scopion.roster.wifi.lists import Entry, EntryTerms, ListMode, Network, Override
from scopion.wireless.block_entry import BlockTerms, Listing, blocked, mode_to_block, unblocked
from scopion.wireless.list_policy import admits, policy_document, policy_of, read_policy, wanted
from tests.support import PreparedTest, ProgramTest

NOW = datetime(2026, 9, 14, 12, tzinfo=UTC)
MAC = MacAddress.parse("02:00:5e:00:53:01")
AHEAD = st.integers(1, 300).map(lambda hours: NOW + timedelta(hours=hours))
MOMENTS = st.integers(-100, 300).map(lambda hours: NOW + timedelta(hours=hours))
WEEKS = st.sampled_from(["mon-fri 08:00-18:00", "22:00-07:00", "mon 12:00-13:00", "sat 00:00-24:00, sun 10:00-11:00"])
TERMS = st.builds(
    EntryTerms,
    hours=st.just("") | WEEKS,
    until=st.none() | MOMENTS,
    paused=st.booleans(),
    override=st.none() | st.builds(Override, st.booleans(), MOMENTS),
)
LISTINGS = st.builds(Listing, st.none() | TERMS, st.none() | TERMS)
NETWORKS = st.builds(
    Network,
    ssid=st.just("Kilnhaven"),
    mode=st.sampled_from(ListMode),
    notation=st.just(Notation.COLON),
    capacity=st.none(),
    radios=st.just(("2.4",)),
    router=st.just(""),
    since=st.just(NOW),
    others_hours=st.just("") | WEEKS,
)


def admitted(network: Network, listing: Listing, at: datetime) -> bool:
    """Whether a device that is listed so may associate at a moment, by a policy that was written down and read."""
    found = [
        Entry(number, "Kilnhaven", which, None, MAC, "", NOW, each.hours, each.until, each.paused, "", each.override)
        for number, (which, each) in enumerate(((ListMode.ALLOW, listing.allow), (ListMode.DENY, listing.deny)))
        if each is not None
    ]
    written = json.dumps(policy_document(policy_of(network, found, [], {})))
    return admits(wanted(read_policy(json.loads(written)), at, lambda moment: moment), [MAC])


class WhatBecomesOfEntries(unittest.TestCase):
    """Whatever was there, in each mode, with hours of others or without."""

    @given(LISTINGS, NETWORKS, st.lists(st.integers(0, 20_000), max_size=12))
    def test_a_blocked_device_stays_refused_and_an_unblocked_one_is_admitted(
        self, was: Listing, network: Network, later: list[int]
    ) -> None:
        """Blocked without terms: refused now and ever. Unblocked: admitted now, or at the hours that its own allow
        entry has, or that all others have; and what no list refused before is admitted as it was.
        """
        wish = BlockTerms(NOW, {})
        on = replace(network, mode=mode_to_block(network.mode))
        moments = [NOW, *(NOW + timedelta(minutes=each) for each in later)]
        shut = blocked(was, network, wish)
        self.assertFalse(any(admitted(on, shut, at) for at in moments))
        free = unblocked(shut, on, wish)
        hours = free.allow.hours if free.allow is not None else ""
        ends = free.allow.until if free.allow is not None else None
        others = Week.parse(network.others_hours) if network.others_hours else None
        for at in moments:
            by_entry = (
                free.allow is not None and (not hours or Week.parse(hours).holds(at)) and not (ends and at >= ends)
            )
            by_others = on.mode is not ListMode.ALLOW and (others is None or others.holds(at))
            self.assertEqual(admitted(on, free, at), by_entry if on.mode is ListMode.ALLOW else by_others or by_entry)

    @given(LISTINGS, NETWORKS, AHEAD, st.lists(st.integers(0, 20_000), max_size=12))
    def test_a_while_is_a_while(self, was: Listing, network: Network, end: datetime, later: list[int]) -> None:
        """Blocked until a moment: refused at each moment before it, and afterwards at no fewer moments than
        before, but where something else held for a while. Unblocked so: admitted until it, in mode allow.
        """
        wish = BlockTerms(NOW, {}, until=end)
        on = replace(network, mode=mode_to_block(network.mode))
        moments = [NOW, end - timedelta(seconds=1), end, *(NOW + timedelta(minutes=each) for each in later)]
        has_override = was.deny is not None and was.deny.override is not None
        shut = blocked(was, network, wish)
        for at in moments:
            if at < end or (network.mode is ListMode.DENY and not admitted(network, was, at) and not has_override):
                self.assertFalse(admitted(on, shut, at))
        free = unblocked(was, network, wish)
        if network.mode is ListMode.ALLOW:
            self.assertTrue(all(admitted(network, free, at) for at in moments if at < end))

    @given(LISTINGS, NETWORKS, WEEKS, st.lists(st.integers(0, 20_000), max_size=12))
    def test_hours_are_refused_each_week(self, was: Listing, network: Network, hours: str, later: list[int]) -> None:
        """Blocked at hours: refused at each moment within them, whatever else holds."""
        week = Week.parse(hours)
        on = replace(network, mode=mode_to_block(network.mode))
        shut = blocked(was, network, BlockTerms(NOW, {}, hours=week))
        for at in (NOW + timedelta(minutes=each) for each in later):
            if week.holds(at):
                self.assertFalse(admitted(on, shut, at))


class Blocking(PreparedTest):
    """The made-up workshop, whose access point is reached, and its guests' network, which is only a page."""

    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        site.begin()
        site.run_ok("scan")
        site.run_ok("wifi", "allow", "Kilnhaven guests", "aa:bb:cc:00:11:22", "--router", "203.0.113.1")
        site.run_ok("wifi", "drop", "Kilnhaven guests", "aa:bb:cc:00:11:22")

    def states(self) -> list[tuple[str, str]]:
        """The mode of each network, and what is on its lists."""
        rows = [(row["ssid"], row["mode"]) for row in self.run_json("wifi", "ssids")]
        entries = [each for ssid, _ in rows for each in self.run_json("wifi", "entries", ssid)]
        return [*rows, *((f"{row['list']} {row['name'] or row['macs'][0]}", row["because"]) for row in entries)]

    def test_one_command_one_question_and_it_works(self) -> None:
        """A device that is associated is off the air after one command and one question, and back after another."""
        code, shown = self.in_terminal("block", "lights", answers=[("Do this?", "y")])
        self.assertEqual(code, 0, shown)
        self.assertIn("'Kilnhaven': lights is refused from now on", shown)
        self.assertIn("its deny list, which is off now, is switched on for that", shown)
        self.assertIn("all other devices are admitted as before", shown)
        self.assertIn("workshop access point disconnects it at once", shown)
        self.assertIn("It works: lights is kept off 'Kilnhaven'.", shown)
        self.assertIn(("deny 88:c3:d2:91:00:70", None), self.states())
        self.assertNotIn("88:c3:d2:91:00:70", json.dumps(self.run_json("wifi", "stations")))
        code, shown = self.in_terminal("unblock", "lights", answers=[("Do this?", "y")])
        self.assertEqual(code, 0, shown)
        self.assertIn("It works: lights may use 'Kilnhaven'.", shown)
        self.assertEqual(self.states(), [("Kilnhaven", "deny"), ("Kilnhaven guests", "off")])
        self.refused(3, "unblock", "lights", "--yes")

    def test_nothing_is_changed_by_looking_or_by_a_no(self) -> None:
        """--dry-run and a no leave lists, mode and access point as they are; undo takes the whole of a yes back."""
        before = self.states()
        said = self.run_program("block", "lights", "--everywhere", "--dry-run")
        self.assertEqual(said.returncode, 0)
        self.assertIn("'Kilnhaven guests': lights is refused from now on", said.stderr)
        code, _ = self.in_terminal("block", "lights", answers=[("Do this?", "n")])
        self.assertEqual(code, 1)
        self.assertIn("--yes", self.refused_last("block", "lights"))
        self.assertEqual(self.states(), before)
        self.assertEqual(self.refused(3, "wifi", "revert", "Kilnhaven", "--yes").count("nothing was pushed"), 1)
        self.run_program("block", "lights", "--everywhere", "--yes")
        self.assertEqual([mode for _, mode in self.states()[:2]], ["deny", "deny"])
        self.run_ok("undo", "--yes")
        self.assertEqual(self.states(), before)

    def refused_last(self, *arguments: str) -> str:
        """The last line of a command that is refused after it has said what it would do."""
        ended = self.run_program(*arguments)
        self.assertEqual(ended.returncode, 2)
        return ended.stderr.strip().splitlines()[-1]

    def test_a_page_takes_one_command_and_two_questions(self) -> None:
        """Without any network known, its name is asked, the sheet is shown, and it is asked whether it is typed in."""
        settings = self.site / "site.toml"
        settings.write_text(re.sub(r"(?ms)^\[\[enforcer\]\].*?(?=^\[|\Z)", "", settings.read_text()))
        with closing(sqlite3.connect(self.site / FILE)) as db, db:
            db.execute("DELETE FROM network")
        self.assertIn("--ssid SSID names it", self.refused(3, "block", "lights", "--yes"))
        answers = [("What is the name of the Wi-Fi", "Kiln Home"), ("Is it typed in, on all radios?", "y")]
        code, shown = self.in_terminal("block", "lights", answers=answers)
        self.assertIn("[ ] 88:c3:d2:91:00:70", shown)
        self.assertIn("scopion wifi verify 'Kiln Home' --clients -", shown)
        # Nobody has typed it into the made-up router: it still answers, and that is said.
        self.assertEqual(code, 3, shown)
        self.assertIn(("Kiln Home", "deny"), self.states())
        self.assertEqual(self.run_json("wifi", "entries", "Kiln Home")[0]["typed_in"], True)

    def test_an_allow_list_keeps_what_it_says(self) -> None:
        """In mode allow blocking gives the entry no effect, for a while or until further notice; its hours stay."""
        self.run_ok("wifi", "allow", "Kilnhaven", "this-machine", "lights", "192.0.2.61", "--hours", "06:00-23:00")
        self.run_ok("wifi", "allow", "Kilnhaven", "this-machine", "--hours", "always")
        self.run_ok("wifi", "mode", "Kilnhaven", "allow")
        self.run_ok("block", "lights", "--for", "2h", "--yes")
        row = next(each for each in self.run_json("wifi", "entries", "Kilnhaven") if "88:c3" in each["macs"][0])
        self.assertEqual((row["override"], row["hours"], row["paused"]), ("off", "mon-sun 06:00-23:00", False))
        self.assertRegex(row["because"], r"off until Mon 10:\d\d")
        self.run_ok("block", "lights", "--yes")
        self.run_ok("unblock", "lights", "--yes")
        row = next(each for each in self.run_json("wifi", "entries", "Kilnhaven") if "88:c3" in each["macs"][0])
        self.assertEqual((row["override"], row["hours"], row["because"]), (None, "mon-sun 06:00-23:00", None))
        self.run_ok("label", "192.0.2.50", "till", "--essential")
        for words, device in (("essential", "till"), ("lock you out", "this-machine"), ("cut off all", "gateway")):
            self.assertIn(words, self.refused(1, "block", device, "--ssid", "Kilnhaven", "--yes"))

    def test_who_is_locked_out_of_a_page_finds_the_way_back(self) -> None:
        """The sheet of an allow list proposes to print the rescue before the mode is set; that has this machine's
        address as the page wants it, who is still admitted, and the whole list; it needs no network and no roster.
        """
        self.assertIn("no wireless network is known", self.refused(3, "--site", str(self.folder / "none"), "rescue"))
        guests = "Kilnhaven guests"
        self.run_ok("wifi", "mode", guests, "--notation", "hyphen")
        self.run_ok("wifi", "allow", guests, "lights", "192.0.2.90")
        self.run_ok("wifi", "mode", guests, "allow", "--insist")
        steps = " ".join(self.run_ok("wifi", "sheet", guests).split())
        self.assertLess(steps.index("scopion wifi sheet 'Kilnhaven guests' --rescue"), steps.index("now set the mode"))
        printed = " ".join(self.run_ok("wifi", "sheet", guests, "--rescue").split())
        for words in ("to be kept on paper", "reset the router", "2.4 GHz: make its allow list hold exactly these"):
            self.assertIn(words, printed)
        self.assertNotIn("--rescue", printed)
        self.run_ok("wifi", "done", guests)
        before = self.run_json("wifi", "revert", "--list")
        said = " ".join(self.run_ok("rescue").split())
        self.assertIn("Locked out of the wireless network 'Kilnhaven guests'?", said)
        self.assertNotIn("'Kilnhaven'?", said)  # the other network has no list in force
        self.assertIn("refuses this machine's wireless adapter 60:f2:a7:10:00:0b on 2.4 and 5 GHz", said)
        self.assertIn("a device that is still admitted - 6c:d1:9e:08:40:90 or lights -", said)
        self.assertIn(
            "add these to the allow list, or set its mode to off (disabled), and save: [ ] 60-F2-A7-10-00-0B", said
        )
        self.assertIn("connected by cable (enp3s0). From here scopion wifi revert 'Kilnhaven guests'", said)
        self.assertEqual(self.run_json("wifi", "revert", "--list"), before)
        page = self.run_ok("rescue", guests, "--html", "-")
        self.assertIn("60-F2-A7-10-00-0B", page)

    def test_what_a_person_may_not_expect_is_said(self) -> None:
        """Others who are on a list that is switched on, a device that was never met, a cable, a mistyped network."""
        self.run_ok("wifi", "deny", "Kilnhaven", "192.0.2.61")
        said = self.run_program("block", "lights", "--dry-run").stderr
        self.assertIn("7c:a4:b1:33:02:61 on it is refused, too", said)
        said = self.run_program("block", "storage", "--dry-run").stderr
        self.assertIn("never seen on any of them", said)
        self.assertIn("is the wireless adapter is not known", said)
        self.assertIn("'Kilnhaven' is: write that", self.refused(1, "block", "lights", "--ssid", "Kilnhavn", "--yes"))
        self.assertIn("give one", self.refused(2, "block", "lights", "--for", "2h", "--until", "friday"))
        self.run_ok("wifi", "only", "Kilnhaven", "lights", "this-machine", "192.0.2.61", "192.0.2.90")
        self.assertIn("--end first", self.refused(1, "block", "lights", "--yes"))
