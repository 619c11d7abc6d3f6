"""Vendors: held against the IEEE's own files, and what becomes of damaged or newer ones."""

from __future__ import annotations

import csv
import gzip
import io
import os
import subprocess
import sys
import threading
import unittest
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, HTTPServer
from typing import Any, ClassVar

from hypothesis import given
from hypothesis import strategies as st

from scopion.model.errors import DamagedListing
from scopion.model.mac import MacAddress
from scopion.vendors.listing import HEADER, read_listing
from scopion.vendors.registry import VendorKind, Vendors
from scopion.vendors.snapshot import Snapshot
from scopion.vendors.tidying import place_of, tidy_name
from tests.support import ROOT, ProgramTest

REGISTRY = ROOT / "registry"


def official(name: str) -> list[list[str]]:
    """The rows of an official file, read without the product."""
    with gzip.open(REGISTRY / f"{name}.csv.gz", "rt", encoding="utf-8", newline="") as file:
        return list(csv.reader(file))[1:]


def letters(text: str) -> str:
    """Everything that can be seen, in one case."""
    return "".join(each for each in text.casefold() if each.isprintable() and not each.isspace())


class Registry(unittest.TestCase):
    vendors: ClassVar[Vendors]

    @classmethod
    def setUpClass(cls) -> None:
        cls.vendors = Vendors(Snapshot.open())

    def test_every_assignment_is_found_and_the_longest_prefix_wins(self) -> None:
        """Each of 57,720 rows: an address within it has that organisation, whatever larger block is around."""
        longer = {row[1][:6] for name in ("mam", "oui36", "iab") for row in official(name)}
        for name in ("oui", "mam", "oui36", "iab"):
            for _, prefix, organisation, _ in official(name):
                vendor = self.vendors.of(MacAddress.parse(prefix.ljust(12, "7")))
                if int(prefix[1], 16) & 1:  # a block whose addresses are all multicast has no adapters
                    self.assertIs(vendor.kind, VendorKind.MULTICAST, prefix)
                elif name == "oui" and (prefix in longer or organisation == "IEEE Registration Authority"):
                    self.assertTrue(vendor.kind is VendorKind.SPLIT or (vendor.bits or 0) > 24, prefix)
                elif organisation == "Private":
                    self.assertIs(vendor.kind, VendorKind.UNDISCLOSED, prefix)
                else:
                    self.assertEqual(vendor.prefix, prefix.lower())
                    self.assertIn(letters(organisation), [letters(who.name) for who in vendor.organisations])
        few, anew = [row[1] for row in official("oui")[::15]], Vendors(Snapshot.open())  # too few for an index
        self.assertEqual(list(map(anew.of_prefix, few)), list(map(self.vendors.of_prefix, few)))

    def test_each_kind_is_said_as_what_it_is(self) -> None:
        """Never "unknown": what an address is instead of a maker's."""
        for text, kind in (
            ("0c:4e:a0:01:02:03", VendorKind.REGISTERED),
            ("080030-123456", VendorKind.SHARED),
            ("74:1a:e0:90:00:01", VendorKind.UNDISCLOSED),
            ("8c1f64", VendorKind.SPLIT),
            ("24:d3:a1:00:00:01", VendorKind.UNASSIGNED),
            ("da:31:7f:0c:52:e9", VendorKind.PRIVATE),
            ("33:33:00:00:00:fb", VendorKind.MULTICAST),
            ("ff:ff:ff:ff:ff:ff", VendorKind.BROADCAST),
            ("02:60:8c:00:00:01", VendorKind.REGISTERED),  # of the 1980s, before that bit had its meaning
        ):
            vendor = self.vendors.of_prefix(text)
            with self.subTest(text=text):
                self.assertIs(vendor.kind, kind)
                self.assertNotIn("unknown", vendor.name.lower())

    def test_a_piece_that_is_not_assigned_is_told_by_the_digits_that_decide(self) -> None:
        """Whatever is written after them: seven where a block is in large pieces, nine where it is in small ones."""
        for prefix in ("006967f", "001bc5f12"):
            for more in range(len(prefix), 13):
                vendor = self.vendors.of_prefix(f"{prefix}{'12345'[: more - len(prefix)]}")
                said = (vendor.kind, vendor.prefix, vendor.bits)
                self.assertEqual(said, (VendorKind.SPLIT, prefix, 4 * len(prefix)), more)

    def test_the_packaged_snapshot_is_what_the_files_give(self) -> None:
        """The documented build step, run again, gives the file that is shipped."""
        ended = subprocess.run([sys.executable, ROOT / "tools/build_vendor_snapshot.py", "--check"], check=False)
        self.assertEqual(ended.returncode, 0)


class Tidying(unittest.TestCase):
    @given(st.text(max_size=60))
    def test_no_letter_is_lost(self, name: str) -> None:
        """Only case and blanks change, and what cannot be shown goes."""
        tidied = tidy_name(name)
        self.assertEqual(letters(tidied), letters(name))
        self.assertEqual(tidied, tidy_name(tidied))

    def test_names_and_places(self) -> None:
        """Shouting becomes speaking, initials stay, and the town is told from the street."""
        for shouted, spoken in (
            ("  ACME   WIDGETS CO., LTD. ", "Acme Widgets Co., Ltd."),
            ("XYZ NETWORKS", "XYZ Networks"),
            ("KILN AND GLAZE GMBH", "Kiln and Glaze GmbH"),
            ("Mixed CASE stays", "Mixed CASE stays"),
            ("KLN", "KLN"),
        ):
            self.assertEqual(tidy_name(shouted), spoken)
        for address, place in (
            ("500 Harrier Blvd #2 Fernmouth OR US 00000 ", ("Fernmouth OR", "US")),
            ("Brennofenstrasse 20 Oberglut Oberglut DE 00000 ", ("Oberglut", "DE")),
            ("Shutter Park, Shutter Way Wexcombe Devon GB ZZ23 8ZZ ", ("Wexcombe Devon", "GB")),
            ("Ovenweg 1 Kleidorp  NL 0000 AE ", ("Kleidorp", "NL")),
            ("", ("", "")),
        ):
            self.assertEqual(place_of(address), place)


def listing(rows: int, organisation: str = "Made Up") -> bytes:
    """An official-looking MA-L file."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(HEADER)
    writer.writerows(["MA-L", f"{number:06X}", organisation, "1 Road Town GB X"] for number in range(rows))
    return text.getvalue().encode()


class Refreshing(ProgramTest):
    def test_plain_and_packed_files_replace_their_registry_only(self) -> None:
        """After a refresh the new names are given, the other registries stay, and each one's age is told."""
        path = self.folder / "oui.csv.gz"
        path.write_bytes(gzip.compress(listing(40_000)))
        os.utime(path, (0, datetime(2026, 11, 1, tzinfo=UTC).timestamp()))
        told = self.run_ok("vendor", "--refresh", str(path))
        self.assertRegex(told, r"MA-L: 40,000 assignments as of 2026-11-01 \(.* old\)|MA-L: .*of today")
        self.assertRegex(told, r"MA-S: 7,064 assignments as of 2026-06-25")
        self.assertEqual(self.run_json("vendor", "00:00:05:11:22:33")[0]["vendor"], "Made Up")
        self.assertEqual(self.run_json("vendor", "8C1F64AFA001")[0]["bits"], 36)

    def test_damaged_and_implausible_files_change_nothing(self) -> None:
        """Cut, small, foreign and broken files are refused by name, and the present listing answers as before."""
        good = listing(40_000)
        for name, data in (
            ("cut.csv.gz", gzip.compress(good)[:-2000]),
            ("small.csv", listing(900)),
            ("shrunk.csv", listing(31_000)),
            ("foreign.csv", b"a,b,c\n1,2,3\n"),
            ("broken.csv", good.replace(b"MA-L,00000A", b"MA-L,00000", 1)),
            ("latin.csv", good.replace(b"Made Up", b"Made \xff", 1)),
            ("empty.csv", b""),
        ):
            path = self.folder / name
            path.write_bytes(data)
            with self.subTest(name=name):
                self.assertIn(name, self.refused(1, "vendor", "--refresh", str(path)))
                self.assertFalse((self.site / "vendors.bin").exists())
        self.refused(1, "vendor", "--refresh", str(self.folder / "absent.csv"))

    def test_a_gzip_bomb_is_refused(self) -> None:
        """Unpacking is bounded."""
        with self.assertRaisesRegex(DamagedListing, "larger than"):
            read_listing(gzip.compress(b"x" * (70 * 2**20)), "bomb")

    def test_from_a_url(self) -> None:
        """The four official files are fetched from an address, and their own dates are kept."""
        with _serving(lambda name: (REGISTRY / f"{name.strip('/')}.gz").read_bytes()) as url:
            told = self.run_ok("vendor", "--refresh", url)
            self.assertEqual(told.count("as of 2026-11-02"), 4, told)
            self.assertIn("404", self.refused(1, "vendor", "--refresh", url + "nothing.csv"))
        self.refused(1, "vendor", "--refresh", url)  # no device answers any more
        self.assertEqual(self.run_json("vendor", "8C1F64AFA001")[0]["bits"], 36)


@contextmanager
def _serving(content: Callable[[str], bytes]) -> Iterator[str]:
    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            try:
                data = content(self.path)
            except OSError:
                self.send_error(404)
                return
            self.send_response(200)
            self.send_header("Last-Modified", "Mon, 02 Nov 2026 10:00:00 GMT")
            self.end_headers()
            self.wfile.write(data)

        def log_message(self, *_: Any) -> None:
            return

    server = HTTPServer(("127.0.0.1", 0), Handler)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}/"
    finally:
        server.shutdown()
        thread.join()
        server.server_close()


class Asking(ProgramTest):
    def test_arguments_prefixes_and_bulk(self) -> None:
        """Arguments and standard input answer alike; a bad line is named and the good ones are answered."""
        rows = self.run_json("vendor", "28:6F:B9", "28-6f-b9-01-02-03")
        self.assertEqual([row["prefix"] for row in rows], ["286fb9", "286fb9"])
        self.assertTrue(rows[0]["place"].endswith("China"))
        ended = self.run_program("vendor", "--format", "tsv", stdin="286fb9\n\nnonsense\n28:6f:b9:00:00:01\n")
        self.assertEqual(ended.returncode, 2)
        self.assertEqual(len(ended.stdout.splitlines()), 3)
        self.assertIn("standard input, line 3: 'nonsense'", ended.stderr)
        self.assertIn("six", self.refused(2, "vendor", "28:6f"))
        many = "\n".join(f"28:6f:b9:{number >> 8:x}:{number & 255:x}:0" for number in range(20_000))
        self.assertEqual(len(self.run_ok("vendor", stdin=many).splitlines()), 20_001)

    def test_an_organisations_prefixes(self) -> None:
        """All prefixes of an organisation, by a part of its name in any case; none is exit code 3."""
        names = Counter(row[2] for row in official("oui36") if row[2] != "Private")
        name = names.most_common(1)[0][0]
        expected = {row[1].lower() for row in official("oui36") if row[2] == name}
        rows = self.run_json("vendor", "--organisation", name.upper())
        self.assertLessEqual(expected, {row["prefix"] for row in rows})
        self.assertGreater(len(expected), 40)
        self.refused(3, "vendor", "--organisation", "no such organisation anywhere")


if __name__ == "__main__":
    unittest.main()
