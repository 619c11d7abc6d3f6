"""Hostile names through every output: none of them controls a terminal, a log, a header, a sheet or a configuration.

They are put into the roster itself, past the cleaning at its doors: what leaves is harmless whatever the store holds.
A command that is in neither table below fails the test: a new output has to join.
"""

from __future__ import annotations

import csv
import io
import json
import re
import sqlite3
import unittest
from collections.abc import Sequence
from contextlib import closing
from email import message_from_bytes, policy
from html.parser import HTMLParser
from pathlib import Path
from unittest import mock

import click
from tools.command_reference import commands

from scopion.alerts.channels.email import composed
from scopion.alerts.channels.syslog import formatted
from scopion.alerts.html_templates import html_of
from scopion.alerts.message import Action, Message, message_from_json, message_to_json
from scopion.model.alert import Severity
from scopion.model.observation import TraitKind
from scopion.model.text import UNSHOWN
from tests.hostile import hostile_names
from tests.support import NOON, PreparedTest, ProgramTest, played

_LISTED = ("table", "tsv", "csv", "json", "jsonl")
_FILES = (".txt", ".csv", ".svg")
# Each command that shows names, with what it is given; one with --format is run once more in each of its forms.
OUTPUTS: dict[str, tuple[str, ...]] = {
    "here": ("",), "scan": ("--no-names", "192.0.2.0/28"),
    "await": ("--mac 54:b1:a3:7c:00:50 --timeout 5s",), "spare": ("--reasons",),
    "vendor": ("0c:be:11:00:00:01", "\x1b[2J", "--organisation Brackwater"),
    "devices": ("",), "show": ("192.0.2.50", "~"),
    "label": ("192.0.2.50 --place shop", "nobody\x1b[2J x"),
    "mark": ("192.0.2.50 known", "192.0.2.5 unwanted --because x\x1b[35m"), "review": ("--csv review.csv",),
    "same": ("192.0.2.31 192.0.2.50",), "forget": ("192.0.2.70", "192.0.2.70 --yes"), "events": ("",),
    "changes": ("--since 2020-01-01", "--scans"), "undo": ("--list", "", "--yes"),
    "compare": ("list.txt", ""), "import": ("sheet.csv --preview", "list.txt", "none\x1b[2J"),
    "export": tuple(f"- --as {form}" for form in
                    ("csv", "json", "jsonl", "ethers", "hosts", "dnsmasq-hosts", "isc-hosts", "kea-hosts")),
    "roster check": ("",), "roster restore": ("",), "roster compact": ("",),
    "watch": ("--once",), "alerts list": ("",), "alerts show": ("1",), "alerts test": ("owner",),
    "alerts seen": ("1 --by ~ --note ~",),
    "alerts learning": ("",), "alerts mute": ("192.0.2.50 --for 2h", ""), "alerts retry": ("",),
    "alerts add": ("file --name more --path more.jsonl",), "alerts remove": ("more --yes", "x\x1b[2J --yes"),
    "alerts rules list": ("",), "alerts rules add": ("--event left --device ~",), "alerts rules remove": ("1",),
    "alerts rules try": ("192.0.2.50", "~"), "alerts rehearse": ("",), "service unit": ("",),
    "wifi ssids": ("",), "wifi entries": ("",), "wifi sheet": ("Kilnhaven", "Kilnhaven --html -"),
    "wifi preview": ("Kilnhaven",), "wifi verify": ("Kilnhaven",), "wifi stations": ("",), "wifi audit": ("",),
    "wifi revert": ("--list", "Kilnhaven --yes"), "wifi passphrase": ("Kilnhaven",), "wifi timetable": ("",),
    "wifi mode": ("Kilnhaven deny",), "wifi deny": ("Kilnhaven ~", "Kilnhaven 192.0.2.40"),
    "wifi allow": ("Kilnhaven ~", "Kilnhaven 192.0.2.50"), "wifi drop": ("Kilnhaven 192.0.2.40",),
    "wifi hours": ("192.0.2.61",), "wifi push": ("Kilnhaven --yes", "Yard"), "wifi keep": ("Kilnhaven",),
    "wifi only": ("Kilnhaven 192.0.2.61", "Kilnhaven --end"), "wifi done": ("Yard",),
    "wifi import": ("Kilnhaven",), "wifi radius log": ("", "--faults"),
    "wifi radius sheet": ("Office", "Office --html -"),
    "wifi radius test": ("Office", "x\x1b[2J"), "wifi radius serve": ("--for 1s",),
    "wifi radius export": ("Office",), "wifi radius take": ("list.txt",),
    "block": ("~ --dry-run", "192.0.2.40 --yes"), "unblock": ("192.0.2.40 --yes", "192.0.2.90 --dry-run"),
    "report": ("", "--html -", "--send owner", "--csv tables", "--figure presence presence.svg", "--table attention",
               "--table wires", "--table usage", "--table devices", "--table events", "--table addresses",
               "--table wireless", "--table new-devices"),
    "sensor enrol": ("pit --place x\x1b[2J --broker 127.0.0.1",), "sensors": ("",),
    "sensor forget": ("x\x1b[2J",), "sensor orders": ("x\x1b[2J",),
    "where": ("192.0.2.50", "~"), "usage": ("", "192.0.2.50", "--set-up x\x1b[2J"),
    "status": ("",), "rescue": ("", "--html -"), "map": ("", "--wires"), "setup": ("--show",),
}  # fmt: skip
_CHANGES_THE_SYSTEM = "changes this machine's services; the unit that it writes is shown by service unit"
WITHOUT_NAMES = {
    "demo": "tells the packaged story; each of its steps is one of the commands above",
    **dict.fromkeys(("service install", "service remove", "service by-hand"), _CHANGES_THE_SYSTEM),
    "sensor run": "writes log lines only, about its own place",
}
# The looks that the program has: bold, dim, plain again, eight colours. The names above use others.
_OURS = re.compile("\x1b\\[((0|1|2|22|3[0-46-7]|9[0-7]);?)+m")
# How a line of progress is drawn, and taken away again, while a scan runs.
_DRAWN = re.compile("\x1b\\[\\?25[lh]|\x1b\\[1A|\x1b\\[2K|\r")
_CELL_OF_A_FORMULA = re.compile("(?!-[0-9.]+$)[=+\\-@\t\r＝＋－＠]")  # a number below zero is none


_RADIUS = """
[[switch]]
name = "rack"
address = "127.0.0.1"
version = "3"
user = "scopion"

[[enforcer]]
name = "office"
type = "radius"
network = "Office"
listen = "127.0.0.1"
port = 21812
accounting_port = 21813
access_point = [{ name = "counter", address = "192.0.2.11", secret = "file:counter.secret" }]
"""


class HostileNames(PreparedTest):
    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        site.begin()
        site.run_ok("scan")
        for address in ("192.0.2.61", "192.0.2.62"):
            site.run_ok("wifi", "deny", "Kilnhaven", address, "--new")
            site.run_ok("wifi", "deny", "Yard", address)
        site.run_ok("wifi", "mode", "Yard", "deny")
        site.run_ok("mark", "192.0.2.61", "known", "--because", "ours")
        site.run_ok("mark", "192.0.2.90", "unwanted")
        site.run_ok("demo", "--next", str(site.site))
        site.run_ok("scan")
        cls.spoil(site.site / "roster.sqlite")

    @classmethod
    def spoil(cls, path: Path) -> None:
        """Names in every column for texts, as no door would let them in: two hundred devices have one each."""
        names = hostile_names()
        answers = [
            {"at": "2026-09-14T08:00:00+00:00", "source": name, "outcome": "no answer", "reason": "other_network",
             "access_point": name, "network": name, "said": name}
            for name in names
        ]  # fmt: skip
        (path.parent / "radius").mkdir()
        (path.parent / "radius/answers.jsonl").write_text("".join(f"{json.dumps(each)}\n" for each in answers))
        with (path.parent / "site.toml").open("a") as file:
            file.write(_RADIUS)
        with closing(sqlite3.connect(path)) as db:
            known = [row[0] for row in db.execute("SELECT id FROM device ORDER BY id")]
            first = db.execute("SELECT max(first_seen) FROM device").fetchone()[0]
            for number, name in enumerate(names):
                device = known[number] if number < len(known) else 10_000 + number
                if device >= 10_000:
                    mac, address = f"02:00:00:00:00:{number:02x}", f"192.0.2.{number % 250 + 1}"
                    db.execute("INSERT INTO device (id, first_seen) VALUES (?, ?)", (device, first))
                    db.execute(
                        "INSERT INTO adapter (mac, device, first_seen, last_seen) VALUES (?, ?, ?, ?)",
                        (mac, device, first, first),
                    )
                    db.execute(
                        "INSERT INTO stay (mac, address, since, until, present) VALUES (?, ?, ?, ?, 0)",
                        (mac, address, first, first),
                    )
                    db.execute(
                        "INSERT INTO event (at, kind, device, mac, address, name, was_name) "
                        "VALUES (?, 'renamed', ?, ?, ?, ?, ?)",
                        (first, device, mac, address, name, name[::-1]),
                    )
                db.execute(
                    "UPDATE device SET label = ?, owner = ?, place = ?, note = ?, because = ? WHERE id = ?",
                    (name, name, name, name, name, device),
                )
                for mac in [row[0] for row in db.execute("SELECT mac FROM adapter WHERE device = ?", (device,))]:
                    for kind in TraitKind:
                        db.execute(
                            "INSERT OR IGNORE INTO trait VALUES (?, '', ?, ?, 'mdns', ?, ?)",
                            (mac, kind, name, first, first),
                        )
                    db.execute("UPDATE adapter SET medium_evidence = ? WHERE mac = ?", (name, mac))
                if number % 10:
                    continue
                db.execute(
                    "INSERT OR IGNORE INTO network (ssid, notation, radios, router, since, mode) "
                    "VALUES (?, 'colon', '2.4', ?, ?, 'deny')",
                    (name, name, first),
                )
                db.execute(
                    "INSERT INTO entry (ssid, list, device, description, since, who) VALUES (?, 'deny', ?, ?, ?, ?)",
                    (name, device, name, first, name),
                )
            hostile = "x".join(names[:12])
            cls.spoil_wires(db, names, first)
            for column in (
                "entry.description",
                "entry.who",
                "change.says",
                "change.who",
                "alert.problem",
                "network.router",
            ):
                table, name = column.split(".")
                db.execute(f"UPDATE {table} SET {name} = {name} || ?", (hostile,))
            db.execute(
                "UPDATE alert_event SET event = json_set(event, '$.name', ?, '$.was_name', ?)", (hostile, hostile)
            )
            db.execute("UPDATE scan SET interface = interface || ?", (hostile,))
            db.commit()

    @staticmethod
    def spoil_wires(db: sqlite3.Connection, names: Sequence[str], at: int) -> None:
        """The same of a switch: what it, its neighbours and people call its ports, and who has counted what."""
        db.execute(
            "INSERT INTO switch (name, read, own_name, problem, since, remarks) VALUES ('rack', ?1, ?2, ?2, ?1, ?2)",
            (at, names[0]),
        )
        macs = [row[0] for row in db.execute("SELECT mac FROM adapter ORDER BY mac")]
        for number, (name, mac) in enumerate(zip(names, macs, strict=False)):
            port = db.execute(
                "INSERT INTO switch_port (switch, name, number, alias, speed, up, leads_to, behind, adapters, seen) "
                "VALUES ('rack', ?1, ?2, ?1, 10, 1, ?3, ?4, 2, ?5)",
                (name, number, name if number % 7 == 0 else "", name if number % 5 == 0 else "", at),
            ).lastrowid
            db.execute("INSERT INTO socket VALUES ('rack', ?1, ?1)", (name,))
            db.execute(
                "INSERT INTO wire_stay (mac, port, at_edge, since, until, present) VALUES (?, ?, 1, ?3, ?3, 1)",
                (mac, port, at),
            )
            db.execute(
                "INSERT INTO air_stay (mac, ssid, access_point, radio, since, until, present, heard, strength, weak) "
                "VALUES (?1, ?2, ?2, ?2, ?3, ?3, 0, 20, -1700, 20)",
                (mac, name, at),
            )
            meter = db.execute(
                "INSERT INTO meter (source, subject, place) VALUES ('cable', ?, ?)", (mac, name)
            ).lastrowid
            for step in (60, 3_600, 86_400):
                db.execute("INSERT INTO usage VALUES (?, ?, ?, 9000000, 9000000, 0)", (step, at // 1000, meter))

    def assert_harmless(self, text: str, where: str) -> None:
        """No control but line ends, tabs, and the looks of the program."""
        plain = _OURS.sub("", text).replace("\r\n", "\n").replace("\n", "").replace("\t", "")
        found = re.search(UNSHOWN, plain)
        if found:
            self.fail(f"{where}: {found[0]!r} in {plain[max(0, found.start() - 60) : found.end() + 20]!r}")

    def test_through_every_command(self) -> None:
        """Tables, machine formats, notes, errors: nothing controls; the tag of a name is in most of them."""
        files = {
            "list.txt": "02:00:00:00:00:09 192.0.2.9 x\x1b[2J\n",
            "sheet.csv": "macs,label\n02:00:00:00:00:09,x\x9b2J\n",
        }
        for name, text in files.items():
            (self.folder / name).write_text(text)
        every = {name for name, command in commands() if not isinstance(command, click.Group)}
        self.assertEqual({*OUTPUTS, *WITHOUT_NAMES}, every)
        tagged = 0
        with mock.patch("os.getcwd", return_value=str(self.folder)):
            for name, command in commands():
                for line in self.lines_of(name, command):
                    with self.subTest(line):
                        said = self.say(line)
                        tagged += bool(re.search(r"~\d+~", said))
        self.assertGreater(tagged, 60)
        self.assertGreater(tagged, 40)
        told = (self.site / "told-to-owner.jsonl").read_text()
        self.assertRegex(told, r"~\d+~")
        self.assert_harmless(told, "file channel")
        for path in [*self.folder.glob("*.csv"), *self.folder.glob("tables/*.csv"), *self.folder.glob("*.svg")]:
            if path.name != "sheet.csv":
                text = path.read_bytes().decode("utf-8-sig")
                self.assert_harmless(text, path.name)
                if path.suffix == ".csv":
                    self.assert_no_formula(text)

    def lines_of(self, name: str, command: click.Command) -> list[str]:
        """The command lines to try, those of every form first: others change what they show."""
        given = OUTPUTS.get(name, ())
        forms = _LISTED if any("--format" in each.opts for each in command.params) else ()
        return [f"{name} {words} --format {form}" for words in given[:1] for form in forms] + [
            f"{name} {words}" for words in given
        ]

    def say(self, line: str) -> str:
        """Run a command line, and look at all that it says."""
        words = line.split()
        _, out, err = played(
            self.site,
            [str(self.folder / word) if Path(word).suffix in _FILES or word == "tables" else word for word in words],
        )
        self.assert_harmless(out, "standard output")
        self.assert_harmless(_DRAWN.sub("", err) if words[0] in ("scan", "await") else err, "standard error")
        self.assertNotIn("Traceback", err)
        if words[-1] in ("csv", "tsv"):
            self.assert_no_formula(out, "\t" if words[-1] == "tsv" else ",")
        if words[-1] == "json" and out:
            json.loads(out)
        if "--html" in words:
            self.assert_page(out)
        return out + err

    def assert_no_formula(self, text: str, separator: str = ",") -> None:
        rows = csv.reader(io.StringIO(text, newline=""))
        for row in rows if separator == "," else [line.split("\t") for line in text.split("\n")]:
            for cell in row:
                self.assertIsNone(_CELL_OF_A_FORMULA.match(cell), cell)

    def assert_page(self, page: str) -> None:
        """A page in which no name has become an element, an attribute or a script."""
        counted: dict[str, int] = {}
        handlers: list[str] = []

        class Reader(HTMLParser):
            def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
                counted[tag] = counted.get(tag, 0) + 1
                handlers.extend(name for name, _ in attrs if name.startswith("on"))

        Reader().feed(page)
        self.assertEqual((handlers, counted.get("img", 0)), ([], 0))
        self.assertLessEqual(counted.get("script", 0), 1)

    def test_through_every_channel(self) -> None:
        """A message about each name, as every channel sends it: a line of a log, headers, a document, a page."""
        for name in hostile_names():
            message = Message(
                identity="a1", site=name, subject=name, severity=Severity.HIGH, at=NOON, paragraphs=(name, name),
                facts=((name, name),), items=(name,), actions=(Action(name, name),),
                thread=name, events=({"name": name},),
            )  # fmt: skip
            self.assertNotIn("\n", message.subject)
            self.assert_harmless(message.text, "text")
            line = formatted(message, 10)
            self.assertNotIn(b"\n", line)
            self.assert_harmless(line.decode("utf-8").replace("\ufeff", ""), "syslog")
            document = json.dumps(message.document(), ensure_ascii=False)
            self.assert_harmless(document, "document")
            self.assertEqual(message_from_json(message_to_json(message)).subject, message.subject)
            self.assert_harmless(html_of(message), "html")
            made = composed(message, "sender@kilnhaven.example", ("owner@kilnhaven.example",), self.folder)
            mail = message_from_bytes(made.as_bytes(), policy=policy.default)
            self.assertEqual(mail["to"], "owner@kilnhaven.example")
            self.assertIsNone(mail["bcc"])
            self.assert_harmless(str(mail["subject"]), "subject")


if __name__ == "__main__":
    unittest.main()
