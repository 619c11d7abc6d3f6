"""scopion compare: which device is in the router's list, the last scan and the roster, and why they differ."""

from __future__ import annotations

import json
import unittest
from typing import Any

from tests.support import ProgramTest

TABLET, PRINTER, TILL, STORAGE = "7c:a4:b1:33:02:61", "24:d3:a1:20:7e:14", "54:b1:a3:7c:00:50", "10:c0:de:4a:11:05"
ROWS = {  # what the router's page says: name, address, MAC address, status
    "refused and here": ("door-tablet", "192.0.2.61", TABLET, "online"),
    "in all three": ("label-printer", "192.0.2.20", PRINTER, "online"),
    "not in the roster": ("phone", "192.0.2.101", "da:51:7e:20:99:01", "online"),
    "another address of the till": ("till", "192.0.2.51", "54:b1:a3:7c:00:51", "online"),
    "silent": ("sleeper", "192.0.2.99", "10:c0:de:00:02:99", "online"),
    "seen last week": ("kettle", "192.0.2.98", "10:c0:de:00:02:97", "expired 7d ago"),
    "elsewhere": ("shelf", "198.51.100.9", "10:c0:de:00:02:98", "online"),
}


class Compare(ProgramTest):
    def compared(self, *arguments: str, code: int, stdin: str = "") -> dict[str, Any]:
        """The document of a comparison, by MAC address, and its exit code as expected."""
        ended = self.run_program("compare", *arguments, "--format", "json", stdin=stdin)
        self.assertEqual(ended.returncode, code, ended.stderr)
        return {row["mac"]: row for row in json.loads(ended.stdout)["devices"]}

    def test_each_difference_has_its_reason_and_its_next_step(self) -> None:
        """Refused and here, unknown, one name twice, silent, elsewhere, unlisted, admitted and never seen."""
        self.begin()
        pasted = "Name\tIP\tMAC\tStatus\n" + "\n".join("\t".join(row) for row in ROWS.values()) + "\n"
        self.run_ok("scan")
        known = "".join(
            f"{row[0]}\t{row[1]}\t{row[2]}\n" for key, row in ROWS.items() if key in ("silent", "elsewhere")
        )
        self.run_ok("import", "-", "--insist", "--yes", stdin=known)
        self.run_ok("mark", TABLET, PRINTER, TILL, STORAGE, "known")
        self.run_ok("wifi", "deny", "Kilnhaven", TABLET)
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")
        never = "10:c0:de:11:22:33"
        self.run_ok("wifi", "allow", "Kilnhaven", never)
        before = self.run_json("devices")
        found = self.compared("-", code=3, stdin=pasted)
        self.assertEqual(self.run_json("devices"), before)
        expected = {
            TABLET: ("denied", True, "refused on 'Kilnhaven'", "wifi verify Kilnhaven"),
            "da:51:7e:20:99:01": ("unknown", True, "the roster does not have it", "import"),
            "54:b1:a3:7c:00:51": ("same-name", True, TILL, "import"),
            "10:c0:de:00:02:99": ("silent", False, "did not answer", "await"),
            "10:c0:de:00:02:98": ("silent", False, "a subnet that is not scanned", "scan 198.51.100.9"),
            STORAGE: ("unlisted", False, "fixed on the device", "show"),
            "10:c0:de:00:02:97": ("unknown", False, "the roster does not have it", "import"),
            never: (
                "never-seen",
                False,
                "allow list of 'Kilnhaven', and was never seen",
                f"wifi drop Kilnhaven {never}",
            ),
        }
        for mac, (finding, needs, why, step) in expected.items():
            with self.subTest(finding=finding, mac=mac):
                row = found[mac]
                self.assertEqual((row["finding"], row["needs_a_person"]), (finding, needs), row)
                self.assertIn(why, row["why"])
                self.assertIn(step, row["step"])
        self.assertNotIn(PRINTER, found)
        everything = self.compared("-", "--all", code=3, stdin=pasted)
        self.assertEqual([everything[PRINTER][key] for key in ("router", "scan", "roster")], ["here", "here", "known"])

    def test_two_that_a_person_has_named_are_two(self) -> None:
        """One name with two addresses is told until both devices have a label; a denied adapter that is off is not."""
        self.begin()
        self.run_ok("scan")
        other = "54:b1:a3:7c:00:51"
        pasted = f"Name\tIP\tMAC\tStatus\ntill\t192.0.2.51\t{other}\tonline\n"
        self.run_ok("import", "-", stdin=pasted)
        self.assertEqual(self.compared("-", code=3, stdin=pasted)[other]["finding"], "same-name")
        self.run_ok("label", TILL, "till at the door")
        self.run_ok("label", other, "till in the store")
        self.assertEqual(self.compared("-", code=3, stdin=pasted)[other]["finding"], "silent")
        self.run_ok("same", STORAGE, other)  # it is here by its other adapter, which no list refuses
        self.run_ok("wifi", "deny", "Kilnhaven", other)
        self.run_ok("wifi", "drop", "Kilnhaven", "storage")
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")
        away = pasted.replace("online", "offline")
        self.assertNotEqual(self.compared("-", "--all", code=3, stdin=away)[STORAGE]["finding"], "denied")

    def test_leases_lie_beside_the_settings(self) -> None:
        """A lease file is found from the site's folder, wherever the command runs; one that is missing is told."""
        self.begin()
        self.run_ok("scan")
        settings = (self.site / "site.toml").read_text(encoding="utf-8")
        leases = 'leases = ["dhcp.leases", "gone.leases"]'
        self.assertIn("[watch]", settings)
        (self.site / "site.toml").write_text(settings.replace("[watch]\n", f"[watch]\n{leases}\n"))
        (self.site / "dhcp.leases").write_text(f"1789380000 {PRINTER} 192.0.2.20 label-printer *\n")
        ended = self.run_program("compare", "--all", "--format", "json")
        document = json.loads(ended.stdout)
        self.assertIn("gone.leases", document["unread"][0])
        rows = {row["mac"]: row["router"] for row in document["devices"]}
        self.assertEqual((rows[PRINTER], rows[STORAGE]), ("here", "missing"))

    def test_without_a_file_the_access_points_are_the_list(self) -> None:
        """Stations that access points tell are the router's list; where nothing differs the exit code is 0."""
        self.assertIn("no list of a router is known", self.refused_before_any_scan())
        self.begin()
        self.run_ok("scan")
        self.assertEqual(self.compared(code=0), {})

    def refused_before_any_scan(self) -> str:
        """What a site without a router's list says."""
        from scopion.operations.site.open_site import Site

        self.site.mkdir(parents=True, exist_ok=True)
        (self.site / "site.toml").write_text("")
        site = Site(self.site)
        _ = site.roster
        site.close()
        said = self.refused(3, "compare")
        for each in self.site.iterdir():
            each.unlink()
        self.site.rmdir()
        return said


if __name__ == "__main__":
    unittest.main()
