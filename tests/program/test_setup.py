"""The first steps, at a real terminal and without: what is proposed, asked, written, tried; and what goes wrong."""

from __future__ import annotations

import json
import tomllib
import unittest
from collections.abc import Sequence
from ipaddress import IPv4Network

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.operations.begin.set_up_site import Agreed, AgreedSubnet, settings_text
from scopion.operations.site.edit_settings import assigned, with_settings
from scopion.operations.site.load_settings import TEMPLATE, load_settings
from tests.support import ProgramTest

WORDS = st.text(st.characters(exclude_categories=["C", "Zl", "Zp"]), max_size=40)


class FirstSteps(ProgramTest):
    def begin(self) -> None:
        """A machine at Kilnhaven, for which nothing has been set up."""
        super().begin()
        (self.site / "site.toml").unlink()

    def answer(self, answers: Sequence[tuple[str, str]]) -> str:
        """Run it in a terminal and answer each question, known by a part of it; what the screen showed."""
        code, shown = self.in_terminal("setup", answers=answers)
        self.assertEqual(code, 0, shown[-2000:])
        return shown

    def test_a_whole_evening_at_the_terminal(self) -> None:
        """Name, subnets, channel, network: written with its comments, tried, and the baseline is taken."""
        self.begin()
        shown = self.answer(
            (
                ("called? [Home]:", 'Kilnhaven "Pottery"'),
                ("Look after 192.0.2.0/24 (enp3s0, cable)? [Y/n]:", ""),
                ("A name for 192.0.2.0/24? [main]:", "workshop"),
                ("scan 192.0.2.0/24? [60s]:", "2m"),
                ("Look after 203.0.113.0/24 (wlp2s0, wireless)? [y/N]:", ""),
                ("Which [none]:", "file"),
                ("Name of the Wi-Fi:", "Kilnhaven"),
                ("Which [colon]:", "hyphen"),
                ("list hold? (0: not known) [0]:", "12"),
                ("Name of the Wi-Fi:", ""),
            )
        )
        written = tomllib.loads((self.site / "site.toml").read_text(encoding="utf-8"))
        self.assertEqual(written["name"], 'Kilnhaven "Pottery"')
        self.assertEqual(written["subnet"], [{"range": "192.0.2.0/24", "name": "workshop", "interval_s": 120}])
        self.assertEqual(written["channel"], [{"name": "file", "type": "file", "path": "alerts.jsonl"}])
        self.assertIn("It works: ", shown)
        self.assertIn("what joins is told once a day. scopion alerts learning --end ends that", " ".join(shown.split()))
        self.assertTrue(json.loads((self.site / "alerts.jsonl").read_text())["test"])
        self.assertIn("This is the baseline of 192.0.2.0/24", shown)
        self.assertIn("scopion review", shown)
        (network,) = self.run_json("wifi", "ssids")
        self.assertEqual((network["notation"], network["capacity"], network["mode"]), ("hyphen", 12, "off"))
        self.assertEqual(network["router"], "192.0.2.1")
        self.assertIn("has settings already", self.refused(1, "setup", "--yes"))

    def test_a_first_evening_is_one_question(self) -> None:
        """All new devices in one list; those that are named are looked at one by one, the others are known."""
        super().begin()
        self.run_ok("scan")
        answers = [
            ("Which do you not know?", "77"),
            ("the numbers are 1 to 14", "2 14"),
            ("join with a look-alike", "\x03"),
        ]
        code, shown = self.in_terminal("review", "--together", answers=answers)
        self.assertEqual(code, 0, shown)
        standings = [row["standing"] for row in self.run_json("devices")]
        self.assertEqual((standings.count("known"), standings.count("new")), (12, 2))
        self.run_ok("undo", "--yes")
        self.assertEqual({row["standing"] for row in self.run_json("devices")}, {"new"})
        self.assertEqual(self.in_terminal("review", "--together", answers=[("Which do you not know?", "")])[0], 0)
        self.assertEqual({row["standing"] for row in self.run_json("devices")}, {"known"})

    def test_a_kind_by_hand_wins_over_guesses(self) -> None:
        """Label and mark --kind say what it is, in place of a guess; an empty one goes by the guess again."""
        super().begin()
        self.run_ok("scan")

        def kind(which: str) -> tuple[str, str]:
            row = next(each for each in self.run_json("devices") if which in each["addresses"])
            return row["kind"], row["kind_evidence"]

        guessed = kind("192.0.2.20")
        self.assertEqual(guessed[0], "printer")
        self.run_ok("label", "192.0.2.20", "labels", "--kind", "label printer")
        self.assertEqual(kind("192.0.2.20"), ("label printer", "you said so"))
        self.run_ok("mark", "192.0.2.40", "192.0.2.50", "known", "--kind", "scale")
        self.assertEqual({kind("192.0.2.40")[0], kind("192.0.2.50")[0]}, {"scale"})
        self.assertIn("It is a label printer (you said so).", self.run_ok("show", "labels"))
        self.run_ok("label", "labels", "--kind", "")
        self.assertEqual(kind("192.0.2.20"), guessed)
        self.run_ok("undo", "--yes")
        self.assertEqual(kind("192.0.2.20")[0], "label printer")
        self.assertIn("at most 40 characters", self.refused(2, "label", "labels", "--kind", "x" * 41))

    def test_a_channel_that_does_not_work_says_what_next(self) -> None:
        """A push service that is not there: the rest goes on, the secret address is in a file of its own."""
        self.begin()
        shown = self.answer(
            (
                ("called? [Home]:", ""), ("[Y/n]:", ""), ("[main]:", ""), ("[60s]:", ""), ("[y/N]:", ""),
                ("Which [none]:", "push"), ("Its address", "http://127.0.0.1:9/hook/secret"), ("Wi-Fi:", ""),
            )
        )  # fmt: skip
        self.assertIn("then try scopion alerts test push", shown)
        self.assertIn("This is the baseline", shown)
        self.assertNotIn("hook/secret", (self.site / "site.toml").read_text())
        self.assertEqual((self.site / "push-url").stat().st_mode & 0o777, 0o600)

    def test_without_a_terminal(self) -> None:
        """It asks nothing without a terminal; --show writes nothing; --yes takes what is proposed; the old file is
        kept.
        """
        self.begin()
        self.assertIn("take the proposals with --yes", self.refused(2, "setup"))
        shown = tomllib.loads(self.run_ok("setup", "--show", "--name", "Shop"))
        self.assertEqual((shown["name"], len(shown["subnet"])), ("Shop", 1))
        self.assertFalse((self.site / "site.toml").exists())
        self.run_ok("setup", "--yes", "--no-scan")
        self.assertEqual(tomllib.loads((self.site / "site.toml").read_text())["name"], "Home")
        self.assertEqual(self.run_json("devices"), [])
        ended = self.run_program("setup", "--yes", "--again", "--name", "Again", "--no-scan")
        self.assertEqual(ended.returncode, 0)
        self.assertIn('name = "Home"', (self.site / "site.toml.before").read_text())
        (self.site / "site.toml").write_text("no settings = at all", encoding="utf-8")
        self.assertIn("not TOML", self.refused(2, "setup", "--yes"))
        self.run_ok("setup", "--yes", "--again", "--no-scan")
        self.assertIn("has at most 80 characters", self.refused(2, "setup", "--yes", "--again", "--name", "x" * 81))

    @settings(max_examples=50, deadline=None)
    @given(name=WORDS, place=WORDS)
    def test_whatever_is_entered_is_what_is_read(self, name: str, place: str) -> None:
        """Quotes, brackets and signs of comments in names do no harm to the file, and no comment is lost."""
        text = settings_text(Agreed(name, (AgreedSubnet(IPv4Network("192.0.2.0/24"), place, 60.0),)))
        read = tomllib.loads(text)
        self.assertEqual((read.get("name", ""), read["subnet"][0].get("name", "")), (name, place))
        for line in TEMPLATE.read_text(encoding="utf-8").splitlines():
            self.assertIn(line, text)
        self.assertEqual(
            tomllib.loads(with_settings("", f"[watch]\n{assigned(interval_s=5)}")), {"watch": {"interval_s": 5}}
        )

    def test_again_keeps_what_it_does_not_ask_about(self) -> None:
        """Enforcers, channels, rules, routers and the time zone stay with all their settings, secrets untouched."""
        super().begin()
        settings = self.site / "site.toml"
        added = (
            '\n[[channel]]\nname = "mail"\ntype = "email"\nto = ["owner@kilnhaven.example"]\n'
            'host = "mail.kilnhaven.example"\n'
            'sender = "owner@kilnhaven.example"\nuser = "owner"\npassword = "file:mail-password"\n'
            '\n[[rule]]\nchannels = ["mail"]\nevents = ["joined"]\n'
            '\n[[router]]\naddress = "192.0.2.1"\ncommunity = "env:READERS"\n'
            '\n[[enforcer]]\nname = "yard"\ntype = "hostapd"\nnetwork = "Yard"\n'
            '[enforcer.radio."5"]\nsocket = "/run/hostapd/wlan9"\n[enforcer.ssh]\nhost = "192.0.2.3"\n'
        )
        settings.write_text('timezone = "Europe/Lisbon"\n' + settings.read_text() + added)
        (self.site / "mail-password").write_text("kept")
        before = load_settings(self.site)
        ended = self.run_program("setup", "--again", "--yes", "--no-scan")
        self.assertEqual(ended.returncode, 0, ended.stderr)
        after = load_settings(self.site)
        for each in ("enforcer", "channel", "rule", "router", "timezone", "wireless", "alerts"):
            self.assertEqual(getattr(after, each), getattr(before, each), each)
        self.assertIn("channel 'mail'", ended.stderr)
        self.assertNotIn("No alerts are sent yet", ended.stderr)
        self.assertEqual((self.site / "mail-password").read_text(), "kept")
        settings.write_text("name = 7\n")
        self.assertIn("Nothing is taken over", self.run_program("setup", "--again", "--yes", "--no-scan").stderr)


if __name__ == "__main__":
    unittest.main()
