"""The API for scripts: what it changes is whole or nothing, and what goes wrong has the errors of the commands."""

from __future__ import annotations

import contextlib
import io
from collections.abc import Iterator
from datetime import UTC, date, datetime
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from pathlib import Path
from typing import Any, get_args, get_type_hints

from scopion import api
from tests.program.test_docs import blocks
from tests.support import ProgramTest


def parts_of(hint: Any) -> Iterator[Any]:
    """The plain types that a type hint is made of."""
    inner = [part for part in get_args(hint) if part is not ...]
    if not inner:
        yield hint
    for part in inner:
        yield from parts_of(part)


class Scripted(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.begin()
        self.run_ok("scan", "--no-names")

    def test_what_a_script_does_is_what_the_commands_show(self) -> None:
        """Labels, standings and entries of a script are those of the program, and the program takes them back."""
        with api.open_site(self.site) as site:
            till = site.label("192.0.2.50", "till", place="shop", essential=True)
            self.assertEqual((till.label, till.place, till.essential), ("till", "shop", True))
            marked = site.mark(["till", "192.0.2.5"], api.Standing.KNOWN, because="we bought them")
            self.assertEqual({each.standing for each in marked}, {api.Standing.KNOWN})
            listed = site.allow("till", "workshop", hours="mon-fri 08:00-18:00", description="the shop's")
            self.assertEqual((listed.names, listed.to_push), (("till",), False))
        (shown,) = [each for each in self.run_json("devices") if each["name"] == "till"]
        self.assertEqual((shown["standing"], shown["because"], shown["essential"]), ("known", "we bought them", True))
        (entry,) = self.run_json("wifi", "entries", "workshop")
        self.assertEqual((entry["list"], entry["hours"]), ("allow", "mon-fri 08:00-18:00"))
        for _ in range(3):
            self.run_ok("undo", "--yes")
        with api.open_site(self.site) as site:
            self.assertEqual(site.device("192.0.2.50").standing, api.Standing.NEW)
            self.assertEqual(site.devices(standing=api.Standing.KNOWN), [])
            with self.assertRaises(api.NotFound):
                site.entries("workshop")

    def test_a_mistake_changes_nothing(self) -> None:
        """One wrong device of several, no address, a moment without a zone, a lockout, a damaged line: no change."""
        sheet = self.folder / "sheet.csv"
        sheet.write_text("macs,label\n54:b1:a3:7c:00:50,till\nno-mac,lamp\n", encoding="utf-8")
        with api.open_site(self.site) as site:
            before = site.devices()
            with self.assertRaises(api.NotFound):
                site.mark(["192.0.2.50", "no such thing"], api.Standing.UNWANTED)
            with self.assertRaisesRegex(api.UsageError, "is not an IP address"):
                site.observe(
                    api.Sighting("ac:d3:e5:00:60:02", "192.0.2.41"), api.Sighting("ac:d3:e5:00:60:03", "there")
                )
            self.assertEqual(len(site.import_file(sheet, preview=True).problems), 1)
            with self.assertRaises(api.Refused):
                site.import_file(sheet)
            with self.assertRaisesRegex(api.UsageError, "there is no kind of record 'leases-2'"):
                site.import_file(sheet, "leases-2")
            noon = datetime(2026, 9, 14, 12)
            for wrong in (
                lambda: site.observe(api.Sighting("ac:d3:e5:00:60:02", "192.0.2.41", at=noon)),
                lambda: site.events(since=noon),
                lambda: site.report(until=noon),
                lambda: site.deny("192.0.2.5", "workshop", until=noon),
            ):
                with self.assertRaisesRegex(api.UsageError, "has no time zone"):
                    wrong()
            site.label("192.0.2.50", essential=True)
            with self.assertRaises(api.Refused):
                site.deny("192.0.2.50", "workshop")
            site.undo()
            self.assertEqual(site.devices(), before)
            site.deny("192.0.2.61", "Garden")
            site.mode("Garden", api.ListMode.DENY)
            self.assertIn("make its deny list hold", site.push("Garden")[0].sheet)
            site.done("Garden")
            self.assertEqual(site.push("Garden")[0].sheet, "")

    def test_a_record_makes_no_device_present(self) -> None:
        """A sighting with a moment is of the past; one without is of now, and is an event."""
        past = datetime(2026, 9, 1, 12, tzinfo=UTC)
        with api.open_site(self.site) as site:
            self.assertEqual(site.observe(api.Sighting("ac:d3:e5:00:60:03", "192.0.2.43", at=past)), [])
            self.assertFalse(site.device("ac:d3:e5:00:60:03").present)
            (event,) = site.observe(api.Sighting("ac:d3:e5:00:60:02", "192.0.2.41", name="pump\x1b[31m", wireless=True))
            self.assertEqual((event.kind, str(event.address)), (api.EventKind.JOINED, "192.0.2.41"))
            self.assertEqual(site.device("192.0.2.41").host_names, ("pump[31m",))
            self.assertIn("pump", event.sentence)


class Published(ProgramTest):
    def test_the_examples_of_the_api_run(self) -> None:
        """Each as it stands, one after the other, in the night of the made-up site."""
        self.begin()
        self.run_ok("scan")
        for _ in range(2):
            self.run_ok("demo", "--next", str(self.site))
        told = (
            "label-printer 192.0.2.20",
            "answered in 192.0.2.0/24",
            "54-B1-A3-7C-00-50 Tilling",
            "is here for the first time, at 192.0.2.144",
            "192.0.2.0/24 10 192.0.2.3",
            "['joined']",
            "('glaze-pump',)\nworkshop",
            "glaze pump 1 marked guest\nnew",
            "workshop access point holds {'2.4': 1, '5': 1}\ndeny a0:b4:d7:66:19:04 in effect",
            "in force\nworkshop access point, 2.4 GHz: ",
        )
        examples = blocks("docs/api.md", "python")
        for example, part in zip(examples, told, strict=True):
            out = io.StringIO()
            code = example.replace("~/kilnhaven", str(self.site))
            with contextlib.redirect_stdout(out):
                exec(compile(code, "docs/api.md", "exec", dont_inherit=True), {})
            self.assertIn(part, out.getvalue())

    def test_the_values_of_the_api_are_its_own(self) -> None:
        """Nothing of the core that may change is handed on, but the few names that the API exports; nothing is open."""
        exported: set[Any] = {getattr(api, name) for name in api.__all__}
        plain = {str, int, float, bool, type(None), date, datetime, Path, IPv4Address, IPv6Address, IPv4Network}
        looked = 0
        methods = [getattr(each, "fget", each) for name, each in vars(api.Site).items() if not name.startswith("_")]
        for each in (*methods, *(each for each in exported if each.__module__ == "scopion.api.values")):
            for kind in {part for hint in get_type_hints(each).values() for part in parts_of(hint)}:
                self.assertTrue(kind in exported or kind in plain, f"{each}: {kind}")
                looked += 1
        self.assertGreater(looked, 60)
        with api.open_site(self.site) as site, self.assertRaises(api.NotFound):
            site.device("till")
        self.assertFalse(self.site.exists())

    def test_a_script_that_runs_on_sees_what_others_remember(self) -> None:
        """It was there before the first scan, which another process makes."""
        self.begin()
        with api.open_site(self.site) as site:
            self.assertEqual((site.devices(), site.events()), ([], []))
            (self.site / "roster.sqlite").touch()  # as while it is being made
            self.assertEqual(site.devices(), [])
            (self.site / "roster.sqlite").unlink()
            self.run_ok("scan", "--no-names")
            self.assertEqual(len(site.devices()), len(self.run_json("devices")))
            self.run_ok("label", "192.0.2.50", "till")
            self.assertEqual(site.device("192.0.2.50").label, "till")
