"""Wireless lists: entries, modes, refusals, and the sheet in the safe order - through the installed program."""

from __future__ import annotations

import json
import re
import unittest
from typing import Any

from scopion.roster.store.stored_values import to_ms
from tests.support import PreparedTest, ProgramTest

OWN_WIRELESS = "60:f2:a7:10:00:0b"


class Lists(PreparedTest):
    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        site.begin()
        site.run_ok("scan")
        site.run_ok("label", "192.0.2.50", "till")
        site.run_ok("label", "192.0.2.61", "door tablet")

    def sheet(self, ssid: str = "Kilnhaven") -> str:
        return self.run_ok("wifi", "sheet", ssid)

    def test_the_first_entry_makes_the_network(self) -> None:
        """Its settings are taken from the options, the rest by stated defaults, and mode off has no effect."""
        ended = self.run_program("wifi", "deny", "Attic", "door", "--notation", "dot", "--capacity", "12")
        self.assertEqual(ended.returncode, 0)
        self.assertIn(
            "New network 'Attic': notation dot, radios 2.4 and 5 GHz, router 192.0.2.1, holds 12", ended.stderr
        )
        self.assertIn("admit door tablet as before: the mode is off", ended.stderr)
        network = self.run_json("wifi", "ssids")[0]
        self.assertEqual((network["mode"], network["deny_entries"], network["radios"]), ("off", 1, ["2.4", "5"]))
        self.run_ok("wifi", "mode", "Attic", "--radios", "2.4,5,6", "--router", "http://192.0.2.2/")
        network = self.run_json("wifi", "ssids")[0]
        self.assertEqual((network["radios"], network["router"]), (["2.4", "5", "6"], "http://192.0.2.2/"))

    def test_a_new_networks_router_is_asked_about_in_a_terminal(self) -> None:
        """What the options do not say is asked; a wrong answer is asked again, a blank one takes the default."""
        router, bands = "the router's address", "the bands that carry it"
        answers = [("", ""), (router, "y"), ("is not a router's address", ""), ("how it wants them", "hyphen")]
        answers += [(bands, "2.4,7"), ("is not a band", "2.4,5,6"), ("how many entries", "12")]
        code, shown = self.in_terminal("wifi", "deny", "Attic", "till", answers=answers)
        self.assertEqual(code, 0, shown)
        network = self.run_json("wifi", "ssids")[0]
        self.assertEqual((network["router"], network["notation"], network["capacity"]), ("192.0.2.1", "hyphen", 12))
        self.assertEqual(network["radios"], ["2.4", "5", "6"])

    def test_one_question_for_all_adapters_of_an_unknown_medium(self) -> None:
        """Several at once are one list and one question; what was said holds from then on."""
        devices = ("192.0.2.5", "192.0.2.20", "192.0.2.40")
        code, shown = self.in_terminal(
            "wifi", "deny", "Kilnhaven", *devices, answers=[("Which are wireless?", "7"), ("not numbers", "2 3")]
        )
        self.assertEqual(code, 1, shown)  # the first one is on cable by that answer, and no list concerns it
        self.assertIn("is on cable", shown)
        media = {row["addresses"][0]: row["media"] for row in self.run_json("devices")}
        self.assertEqual([media[each][0].split(" ")[0] for each in devices], ["cable", "wireless", "wireless"])
        code, shown = self.in_terminal("wifi", "deny", "Kilnhaven", *devices[1:])
        self.assertEqual(code, 0, shown)
        self.assertNotIn("wireless?", shown)

    def test_entries_move_and_drop(self) -> None:
        """A device is on one list of a network at most; all that is refused anywhere is one question."""
        self.run_ok("wifi", "deny", "Kilnhaven", "till", "door", "--description", "at night")
        self.run_ok("wifi", "deny", "Attic", "aabb.cc00.1122")
        moved = self.run_program("wifi", "allow", "Kilnhaven", "till")
        self.assertIn("(moved there from the other list)", moved.stderr)
        entries = {(row["list"], row["name"]) for row in self.run_json("wifi", "entries", "Kilnhaven")}
        self.assertEqual(entries, {("allow", "till"), ("deny", "door tablet")})
        refused = self.run_json("wifi", "entries")
        self.assertEqual({(row["ssid"], row["macs"][0]) for row in refused}, {
            ("Kilnhaven", "7c:a4:b1:33:02:61"), ("Attic", "aa:bb:cc:00:11:22"),
        })  # fmt: skip
        self.assertEqual([row["because"] for row in refused], ["mode off", "mode off"])
        self.run_ok("wifi", "mode", "Attic", "deny")
        self.assertEqual([row["because"] for row in self.run_json("wifi", "entries", "Attic")], ["not typed in"])
        self.run_ok("wifi", "done", "Attic", "--radio", "5")
        (row,) = self.run_json("wifi", "entries", "Attic")
        self.assertEqual((row["in_effect"], row["because"]), (False, "not typed in on 2.4 GHz"))
        self.run_ok("wifi", "done", "Attic")
        typed = [(row["in_effect"], row["typed_in"]) for row in self.run_json("wifi", "entries", "Attic")]
        self.assertEqual(typed, [(None, True)])
        self.assertIn("yes, as you said", self.run_ok("wifi", "entries", "Attic", "--format", "table"))
        self.run_ok("wifi", "drop", "Attic", "aabbcc001122")
        self.run_ok("wifi", "deny", "Attic", "10:c0:de:4a:11:05")
        self.run_ok("wifi", "drop", "Attic", "192.0.2.5")
        self.assertEqual(self.run_json("wifi", "entries", "Attic"), [])
        self.refused(3, "wifi", "drop", "Attic", "till")

    def test_refusals(self) -> None:
        """What would cut people off, or cannot work, is refused with its reason; --insist does the first kind."""
        for who in ("gateway", "this-machine", "0c:be:11:00:00:01"):
            self.assertIn("--insist", self.refused(1, "wifi", "deny", "Kilnhaven", who))
        known = [(row["ssid"], row["deny_entries"], row["capacity"]) for row in self.run_json("wifi", "ssids")]
        self.assertEqual(known, [("Kilnhaven", 0, 12)])  # its enforcer's, with its room; and nothing was made meanwhile
        (self.site / "roster.sqlite").unlink()  # even before any scan has seen this machine
        self.assertIn("--insist", self.refused(1, "wifi", "deny", "Kilnhaven", OWN_WIRELESS))
        self.run_ok("scan")
        self.run_ok("label", "192.0.2.50", "till")
        self.run_ok("label", "192.0.2.61", "door tablet")
        self.run_ok("wifi", "deny", "Kilnhaven", "gateway", "--insist")
        self.refused(2, "wifi", "deny", "Kilnhaven", "01:00:5e:00:00:01")
        self.refused(2, "wifi", "deny", "Kilnhaven", "ff:ff:ff:ff:ff:ff")
        self.refused(3, "wifi", "deny", "Kilnhaven", "nobody")
        self.refused(2, "wifi", "deny", "x" * 33, "till")
        self.refused(2, "wifi", "deny", "bad\x1b[31m", "till")
        self.refused(2, "wifi", "mode", "Kilnhaven", "--router", "javascript:alert(1)")
        self.refused(2, "wifi", "mode", "Kilnhaven", "--radios", "2.4,7")
        self.run_ok("wifi", "mode", "Kilnhaven", "--capacity", "2")
        self.run_ok("wifi", "deny", "Kilnhaven", "till")
        self.assertIn("the router holds 2", self.refused(1, "wifi", "deny", "Kilnhaven", "door"))
        self.refused(3, "wifi", "mode", "Nowhere", "deny")

    def test_nobody_is_locked_out_by_accident(self) -> None:
        """Mode allow is refused while the list is empty or lacks this machine's own wireless adapter."""
        self.run_ok("wifi", "deny", "Kilnhaven", "till")
        self.assertIn("no device could associate", self.refused(1, "wifi", "mode", "Kilnhaven", "allow"))
        self.run_ok("wifi", "allow", "Kilnhaven", "door")
        self.assertIn(OWN_WIRELESS, self.refused(1, "wifi", "mode", "Kilnhaven", "allow"))
        self.run_ok("wifi", "allow", "Kilnhaven", "this-machine")
        self.run_ok("wifi", "mode", "Kilnhaven", "allow")
        self.refused(1, "wifi", "drop", "Kilnhaven", "this-machine")
        self.refused(1, "wifi", "deny", "Kilnhaven", "this-machine")
        self.assertIn("'Kilnhaven' is in mode allow", self.run_program("wifi", "entries").stderr)
        self.assertIn(OWN_WIRELESS.replace(":", "-"), self.sheet().lower().replace(":", "-"))

    def test_the_sheet_is_in_the_safe_order(self) -> None:
        """Own device first, then the others, the mode last, on each radio, in the router's notation, counted."""
        self.run_ok("wifi", "allow", "Kilnhaven", "till", "door", "--notation", "hyphen", "--capacity", "12")
        self.run_ok("wifi", "allow", "Kilnhaven", "this-machine")
        self.run_ok("wifi", "mode", "Kilnhaven", "allow")
        text = self.sheet()
        steps = re.findall(r"^ +(\d+)\. (.*)$", text, re.MULTILINE)
        self.assertEqual([int(number) for number, _ in steps], list(range(1, len(steps) + 1)))
        self.assertIn("http://192.0.2.1/", steps[0][1])
        for radio in ("2.4 GHz", "5 GHz"):
            typed = next(at for at, (_, step) in enumerate(steps) if step.startswith(f"{radio}: make"))
            switched = next(at for at, (_, step) in enumerate(steps) if step.startswith(f"{radio}: now set the mode"))
            self.assertLess(typed, switched)
        modes = [at for at, (_, step) in enumerate(steps) if "now set the mode" in step]
        lists = [at for at, (_, step) in enumerate(steps) if "make its" in step]
        self.assertLess(max(lists), min(modes))  # every radio has its list before any mode is set
        macs = re.findall(r"\[ \] ((?:[0-9A-F]{2}-){5}[0-9A-F]{2}) +(\S+ ?\S*)", text)
        self.assertEqual(macs[: len(macs) // 2], macs[len(macs) // 2 :])
        self.assertEqual(macs[0][0], OWN_WIRELESS.upper().replace(":", "-"))
        self.assertNotIn("60-F2-A7-10-00-0A", text)  # this machine's cable
        self.assertEqual(text.count("list now has 3 entries; the router holds 12"), 2)
        self.assertIn("read off the air and copied", text)
        self.assertTrue(all(len(line) <= 88 for line in text.splitlines()))

    def test_the_sheet_for_deny_and_off(self) -> None:
        """Deny enters before it switches on; off switches off first."""
        self.run_ok("wifi", "deny", "Kilnhaven", "door")
        self.assertIn("switch the list off", self.sheet())
        off = re.findall(r"^ +\d+\. (.*)$", self.sheet(), re.MULTILINE)
        self.assertIn("set the mode of its list to off", off[1])
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")
        self.assertIn("What the owner of a refused device sees", self.sheet())
        self.assertNotIn("60:f2:a7", self.sheet())
        self.refused(3, "wifi", "sheet", "Nowhere")

    def test_private_addresses_are_judged_by_what_was_seen(self) -> None:
        """Before a phone is allowed, it is said whether it keeps its private address, and what to do if not."""
        self.run_ok("demo", "--next", str(self.site))
        self.run_ok("scan", "--no-names")
        said = self.run_program("wifi", "allow", "Kilnhaven", "192.0.2.91").stderr
        self.assertIn(
            "is a private address that may change, undecided (it was seen once only): set this phone to",
            said,
        )
        said = self.run_program("wifi", "deny", "Kilnhaven", "192.0.2.91").stderr
        self.assertIn("it may come back under another address", said)

    def test_cautions(self) -> None:
        """A private address that may change is said, where the entry is made and on the sheet."""
        self.run_ok("demo", "--next", str(self.site))
        self.run_ok("scan")
        ended = self.run_program("wifi", "deny", "Kilnhaven", "192.0.2.91")
        self.assertIn("a private address that may change", ended.stderr)
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")
        self.assertIn("caution: a private address", self.sheet())

    def said(self, *arguments: str) -> str:
        """What a command says beside its data."""
        ended = self.run_program("wifi", *arguments)
        self.assertEqual(ended.returncode, 0, ended.stderr)
        return ended.stderr

    def test_an_effect_is_told_from_before_and_after(self) -> None:
        """Allowing in mode deny lifts a refusal and never advises mode allow; denying in mode allow refuses at once."""
        self.run_ok("wifi", "deny", "Attic", "door")
        self.run_ok("wifi", "mode", "Attic", "deny")
        lifted = self.said("allow", "Attic", "door")
        self.assertIn("The lists of 'Attic' now admit door tablet; before this change they refused it", lifted)
        self.assertIn("scopion wifi sheet Attic", lifted)
        self.assertNotIn("wifi mode", lifted)
        nothing = self.said("allow", "Attic", "till")
        self.assertIn("admit till as before: the mode is deny, and every device that is not on the deny list", nothing)
        self.assertNotIn("wifi sheet", nothing)
        self.run_ok("wifi", "allow", "Attic", "this-machine")
        self.run_ok("wifi", "mode", "Attic", "allow")
        self.assertIn("now refuse till; before this change they admitted it", self.said("deny", "Attic", "till"))
        stranger = self.said("deny", "Attic", "10:c0:de:00:00:99")
        self.assertIn("refuse 10:c0:de:00:00:99 as before: the mode is allow", stranger)
        self.assertIn("now refuse door tablet", self.said("drop", "Attic", "door"))
        self.assertIn("refuse 10:c0:de:00:00:99 as before", self.said("entries", "--lift", "10:c0:de:00:00:99"))
        self.run_ok("wifi", "deny", "Yard", "door", "--paused")
        paused = self.said("deny", "Yard", "till", "--paused")
        self.assertIn("2 entries in all, all of them paused", paused)

    def test_the_sheet_tells_the_truth_of_now(self) -> None:
        """An entry that has ended, or is not in its hours, is not typed in; what was typed in is compared with now."""
        self.run_ok("wifi", "deny", "Attic", "door", "--for", "1h")
        self.run_ok("wifi", "deny", "Attic", "till", "--hours", "mon-sun 20:00-22:00", "--insist")
        self.run_ok("wifi", "deny", "Attic", "10:c0:de:00:00:99")
        self.run_ok("wifi", "mode", "Attic", "deny")
        before = self.sheet("Attic")
        self.assertEqual(before.count("[ ] 7c:a4:b1:33:02:61"), 2)
        self.assertNotIn("[ ] 54:b1", before)
        self.assertIn("54:b1:a3:7c:00:50   till   mon-sun 20:00-22:00", before)
        self.assertRegex(before, r"until\sMonday\s2026-09-14,\s09:10")
        self.run_ok("wifi", "done", "Attic")
        self.assertIn("nothing to do", self.sheet("Attic"))
        site = self.opened()
        site.roster.db.execute("UPDATE entry SET until = ? WHERE until IS NOT NULL", (to_ms(site.clock.now()),))
        site.roster.db.commit()
        after = self.sheet("Attic")
        self.assertIn("remove from its deny list", after)
        self.assertIn("7c:a4:b1:33:02:61", after)
        checks = {each["what"]: each["met"] for each in self.run_json_of("verify", "Attic", "--no-scan")["checks"]}
        self.assertEqual(checks, {"list": False})
        reasons = {row["macs"][0]: row["because"] for row in self.run_json("wifi", "entries", "Attic")}
        self.assertEqual(
            reasons,
            {"7c:a4:b1:33:02:61": "ended", "54:b1:a3:7c:00:50": "not at this hour", "10:c0:de:00:00:99": None},
        )
        self.run_ok("wifi", "done", "Attic")
        self.assertEqual(self.run_json_of("verify", "Attic", "--no-scan")["checks"][0]["met"], None)
        back = self.run_ok("wifi", "revert", "Attic", "--yes")
        self.assertIn("add to its deny list", back)
        self.assertEqual(back.count("[ ] 7c:a4:b1:33:02:61"), 2)

    def test_a_mistyped_network_is_not_made(self) -> None:
        """An SSID that is nearly a known one is refused with that one's name, unless it is to be new."""
        said = self.refused(1, "wifi", "deny", "kiln haven", "door")
        self.assertIn("'Kilnhaven' is", said)
        self.assertIn("'Kilnhaven' is", self.refused(3, "wifi", "mode", "Kilnhavn", "deny"))
        for mistyped in ("Kiln", "Kilnhavne", "Klinhavem", "KILN-HAVEN"):
            self.assertIn("'Kilnhaven' is", self.refused(1, "wifi", "deny", mistyped, "door"))
        self.assertEqual([row["ssid"] for row in self.run_json("wifi", "ssids")], ["Kilnhaven"])
        self.run_ok("wifi", "deny", "Kilnhaven2", "door", "--new")
        self.run_ok("wifi", "deny", "Attic", "door")
        self.run_ok("wifi", "deny", "Kilnhaven guests", "door")
        self.assertEqual(
            {row["ssid"] for row in self.run_json("wifi", "ssids")},
            {"Kilnhaven", "Kilnhaven2", "Attic", "Kilnhaven guests"},
        )

    def test_rows_that_say_so_are_not_here(self) -> None:
        """A client list's offline, blocked and past rows do not speak against a list; a speed is not a name."""
        self.run_ok("wifi", "deny", "Attic", "door", "till")
        self.run_ok("wifi", "mode", "Attic", "deny")
        pasted = (
            "Name\tIP\tMAC\tStatus\tSpeed\ndoor\t192.0.2.61\t7C-A4-B1-33-02-61\t{}\t1 Gbit/s\n"
            "till\t192.0.2.50\t54-B1-A3-7C-00-50\texpired 4d ago\t-\n"
        )
        for state, met in (("Offline", True), ("blocked", True), ("Online", False)):
            with self.subTest(state=state):
                ended = self.run_program(
                    "wifi", "verify", "Attic", "--no-scan", "--clients", "-", "--format", "json",
                    stdin=pasted.format(state),
                )  # fmt: skip
                checks = [each for each in json.loads(ended.stdout)["checks"] if each["what"] == "clients"]
                self.assertEqual([each["met"] for each in checks], [met], ended.stdout)

    def run_json_of(self, *arguments: str) -> Any:
        """The JSON of a command that may end with the answer no."""
        return json.loads(self.run_program("wifi", *arguments, "--format", "json").stdout)


if __name__ == "__main__":
    unittest.main()
