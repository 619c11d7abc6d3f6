"""A person's own list of MAC addresses and words is told from a router's, and taken over by the rules of sheets."""

from __future__ import annotations

import unittest

from tests.support import ProgramTest

TABLET, PRINTER, TILL, PHONE = "7c:a4:b1:33:02:61", "24:d3:a1:20:7e:14", "54:b1:a3:7c:00:50", "da:51:7e:20:99:01"
# What each list says, by MAC address: label, owner, place, note, kind; empty where it says nothing.
LISTS = {
    "a table with an owner": (
        f"Whose;Device;MAC\nBen;Ben laptop;{TABLET}\nAnn;printer;{PRINTER.upper().replace(':', '-')}\n",
        {TABLET: ("Ben laptop", "Ben", "", "", ""), PRINTER: ("printer", "Ann", "", "", "")},
    ),
    "a mail that is quoted": (
        f"Hi, these are ours:\n\n> printer - {PRINTER}\n> till: {TILL} (in the shop)\n> {TABLET} = Ben laptop\n\nBye\n",
        {
            PRINTER: ("printer", "", "", "", ""),
            TILL: ("till", "", "", "in the shop", ""),
            TABLET: ("Ben laptop", "", "", "", ""),
        },
    ),
    "a word processor's table, in German": (
        f"Gerät\tMAC\tRaum\tArt\tWem\nTablet vorn\t{TABLET}\tLaden\tTablet\tAnna\nKasse\t{TILL}\tLaden\tKasse\t\n",
        {TABLET: ("Tablet vorn", "Anna", "Laden", "", "Tablet"), TILL: ("Kasse", "", "Laden", "", "Kasse")},
    ),
    "words that a router uses as well": (
        f"static printer {PRINTER}\nold wireless phone {PHONE}\n",
        {PRINTER: ("static printer", "", "", "", ""), PHONE: ("old wireless phone", "", "", "", "")},
    ),
    "columns in a text": (
        f"front tablet      {TABLET}   bought in spring\nlabel printer     {PRINTER}\n",
        {TABLET: ("front tablet", "", "", "bought in spring", ""), PRINTER: ("label printer", "", "", "", "")},
    ),
}


class OwnLists(ProgramTest):
    def test_labels_owners_places_notes_and_kinds(self) -> None:
        """Each form gives what it says, makes no device present, and is taken back by one undo."""
        self.begin()
        before = self.run_json("devices")
        for what, (text, truth) in LISTS.items():
            with self.subTest(what):
                preview = self.run_program("import", "-", "--preview", stdin=text)
                self.assertIn("read as your own list", preview.stderr)
                self.assertEqual(self.run_json("devices"), before)
                self.assertIn("add --yes", self.failing(2, "import", "-", stdin=text))
                self.run_ok("import", "-", "--yes", stdin=text)
                devices = {row["macs"][0]: row for row in self.run_json("devices")}
                for mac, (label, owner, place, note, kind) in truth.items():
                    row = devices[mac]
                    told = tuple(row[key] or "" for key in ("name", "owner", "place", "note"))
                    self.assertEqual(told, (label, owner, place, note))
                    self.assertEqual((row["present"], row["last_seen"]), (False, None))
                    self.assertEqual(row["kind_evidence"], "you said so" if kind else row["kind_evidence"])
                    self.assertEqual(row["kind"] if kind else "", kind)
                self.run_ok("undo", "--yes")
                self.assertEqual(self.run_json("devices"), before)

    def failing(self, code: int, *arguments: str, stdin: str) -> str:
        """The last line of a command that ends with this code."""
        ended = self.run_program(*arguments, stdin=stdin)
        self.assertEqual(ended.returncode, code, ended.stderr)
        return ended.stderr.splitlines()[-1]

    def test_a_label_is_no_evidence(self) -> None:
        """A word in a label does not make a device that kind, and what people say of its kind is kept."""
        self.begin()
        self.run_ok("import", "-", "--yes", stdin=f"{PHONE} = Ben printer\n")
        (row,) = self.run_json("devices")
        self.assertEqual((row["name"], row["names"]), ("Ben printer", []))
        self.assertNotEqual(row["kind"], "printer")

    def test_columns_and_conflicts(self) -> None:
        """--columns says what they are; a MAC address with two labels is a conflict, and nothing is changed."""
        self.begin()
        text = LISTS["a table with an owner"][0]
        self.run_ok("import", "-", "--yes", "--columns", "-,note,mac", stdin=text)
        devices = {row["macs"][0]: row for row in self.run_json("devices")}
        self.assertEqual((devices[TABLET]["note"], devices[TABLET]["owner"]), ("Ben laptop", None))
        for columns, words in (
            ("owner,label", "3 columns"),
            ("owner,colour,mac", "'colour'"),
            ("label,label,mac", "both"),
        ):
            with self.subTest(columns=columns):
                self.assertIn(words, self.failing(2, "import", "-", "--yes", "--columns", columns, stdin=text))
        router = f"till\t192.0.2.50\t{TILL}\tonline\n"
        self.assertIn("your own list", self.failing(2, "import", "-", "--columns", "label,mac", stdin=router))
        self.assertIn("router's list", self.failing(2, "import", "-", "--yes", "--ssid", "Guests", stdin=text))
        twice = f"tablet {TABLET}\nprinter {PRINTER}\nphone {TABLET}\n"
        self.assertIn("cannot be taken over", self.failing(1, "import", "-", "--yes", stdin=twice))
        self.assertEqual({row["macs"][0]: row for row in self.run_json("devices")}, devices)

    def test_an_export_that_is_piped_in(self) -> None:
        """Each form of an export is recognised on standard input, and changes nothing; so is a router's list."""
        self.begin()
        self.run_ok("scan")
        self.run_ok("import", "-", "--yes", stdin=f"Name\tWi-Fi MAC\tLAN MAC\ntablet\t{TABLET}\t{TABLET[:-2]}aa\n")
        before = self.run_json("devices")
        for kind in ("csv", "json", "jsonl"):
            with self.subTest(kind=kind):
                ended = self.run_program("import", "-", "--yes", stdin=self.run_ok("export", "--as", kind))
                self.assertEqual(ended.returncode, 0, ended.stderr)
                self.assertIn("There is nothing to change", ended.stderr)
        router = f"Host\tIP\tMAC\nnew-box\t192.0.2.77\t{PHONE}\n"
        self.assertIn("Read as a client list", self.run_program("import", "-", "--preview", stdin=router).stderr)
        self.assertEqual(self.run_json("devices"), before)


if __name__ == "__main__":
    unittest.main()
