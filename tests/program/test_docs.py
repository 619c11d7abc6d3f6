"""The documents: what is generated is as the program is, every example runs, every link leads somewhere."""

from __future__ import annotations

import ast
import contextlib
import io
import itertools
import json
import os
import re
import shlex
import socket
import subprocess
import threading
import tomllib
import unittest
from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace
from datetime import timedelta
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from pathlib import Path
from typing import Any
from unittest import mock

import jsonschema
from tools.command_reference import commands
from tools.make_docs import generated, refreshed

from scopion.alerts.channels import registry as channels
from scopion.cli import main
from scopion.cli.begin.demo_steps import run_quietly
from scopion.cli.main import cli
from scopion.discovery.records import registry as records
from scopion.model.batch import Batch, Folded, ScanFacts, SensorClocks, SensorState, Sighting
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, Trait, TraitKind
from scopion.model.targets import Targets
from scopion.operations.notify.announce import announcements
from scopion.operations.site.load_settings import TEMPLATE, adapter
from scopion.operations.site.open_site import Site
from scopion.scenes.scene import StoryStep as StoryStep
from scopion.wire.sensor_documents import batch_to_json, folded_to_json, state_to_json
from scopion.wire.serial import observation_to_json
from scopion.wireless.enforcers import registry as enforcers
from tests.support import NOON, PROGRAM, ROOT, ProgramTest

DOCS = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]


def blocks(name: str, language: str) -> list[str]:
    """The fenced blocks of a document."""
    text = (ROOT / name).read_text(encoding="utf-8")
    return re.findall(rf"^```{language}\n(.*?)^```$", text, re.MULTILINE | re.DOTALL)


def mentioned() -> Iterator[tuple[str, str]]:
    """Every `scopion ...` in the running text of the documents: the file's name, and what follows the program's."""
    for path in DOCS:
        text = re.sub(r"^```.*?^```$", "", path.read_text(encoding="utf-8"), flags=re.MULTILINE | re.DOTALL)
        for code in re.findall(r"`(?:ping \"\$\()?scopion ([^`]+?)(?:\)\")?`", re.sub(r"\s+", " ", text)):
            yield path.name, code


# A word in capitals stands for something, and so do dots and brackets.
_PLACEHOLDER = re.compile(r"\b[A-Z]{3,}\b|\.\.\.|\[")
# Tested where they belong: what waits for a person or an end, changes the machine, needs a file, or is the story.
_ELSEWHERE = (
    "await",
    "demo",
    "import",
    "review",
    "service",
    "setup",
    "watch",
    "alerts test",
    "vendor --refresh",
    "usage --live",
)


# Old-fashioned words, and persons in the place of devices: what people read says it plainly.
_GONE = re.compile(
    r"\b(whom|who(so)?ever|whichever|nobody|of late|anew|told of|tells? of|here(of|by|upon)|there(of|by|upon)|hence|"
    r"upon|may it be|none goes|unasked|the like of)\b",
    re.IGNORECASE,
)


def read_by_people() -> Iterator[tuple[str, str]]:
    """All that people read, and where it stands: documents, help in the reference, the story, pages, messages."""
    for path in (*DOCS, ROOT / "CHANGELOG.md", *(ROOT / "src").rglob("*.toml"), *(ROOT / "src").rglob("*.html")):
        yield str(path.relative_to(ROOT)), path.read_text(encoding="utf-8")
    for path in (ROOT / "src").rglob("*.py"):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                yield f"{path.relative_to(ROOT)}:{node.lineno}", node.value


class Generated(unittest.TestCase):
    def test_what_is_generated_is_as_the_program_is(self) -> None:
        """References, manual pages and the schema of settings: python -m tools.make_docs makes them again."""
        made = generated()
        for path, text in made.items():
            self.assertTrue(path.exists() and path.read_text(encoding="utf-8") == text, f"{path}: make docs")
        kept = set((ROOT / "docs/man").iterdir())
        self.assertEqual(kept, {path for path in made if path.parent.name == "man"})

    def test_every_example_runs_and_answers_as_it_is_shown(self) -> None:
        """What README and guide show of the made-up site is what it answers; exit codes are 0, or 3 for a no."""
        for path, text in refreshed().items():
            self.assertEqual(path.read_text(encoding="utf-8"), text, f"{path.name}: make docs")
            self.assertGreater(text.count("\n$ scopion "), 4)

    def test_every_setting_of_the_template_is_in_the_reference(self) -> None:
        """The commented file of a new site and the reference know the same settings."""
        reference = (ROOT / "docs/settings.md").read_text(encoding="utf-8")
        keys = re.findall(r"^#? ?(\w+) = ", TEMPLATE.read_text(encoding="utf-8"), re.MULTILINE)
        for key in keys:
            self.assertIn(f"| `{key}` |", reference)
        self.assertNotIn("| None |", reference)

    def test_manual_pages_can_be_formatted(self) -> None:
        """No line of them is taken for a request by chance, and each says what it is."""
        for path in (ROOT / "docs/man").glob("*.1"):
            text = path.read_text(encoding="utf-8")
            requests = {line.split()[0] for line in text.splitlines() if line.startswith(".")}
            self.assertLessEqual(requests, {".TH", ".SH", ".SS", ".TP", ".PP", ".B", ".BR", ".br"}, path)
            self.assertRegex(text, r"\.SH NAME\nscopion.* \\- \S")


class Written(ProgramTest):
    def test_words_that_are_gone(self) -> None:
        """Messages, help, docstrings, documents and the story are in modern words."""
        self.assertRegex("a device whom nobody knows", _GONE)
        looked = 0
        for where, text in read_by_people():
            found = _GONE.search(text)
            self.assertIsNone(found, f"{where}: {found and text[max(0, found.start() - 60) : found.end() + 40]!r}")
            looked += 1
        self.assertGreater(looked, 5_000)

    def test_links_lead_somewhere(self) -> None:
        """Files and headings that a document refers to are there, and every document is linked from the README."""
        for path in DOCS:
            text = path.read_text(encoding="utf-8")
            for target, anchor in re.findall(r"\]\((?!http)([^)#\s]*)(?:#([^)\s]+))?\)", text):
                there = (path.parent / target) if target else path
                self.assertTrue(there.exists(), f"{path.name}: {target}")
                if anchor:
                    headings = re.findall(r"^#+ (.*)$", there.read_text(encoding="utf-8"), re.MULTILINE)
                    slugs = {re.sub(r"[^\w\- ]", "", each.casefold()).replace(" ", "-") for each in headings}
                    self.assertIn(anchor, slugs, f"{path.name}: {target}#{anchor}")
        readme = DOCS[0].read_text(encoding="utf-8")
        for path in (ROOT / "docs").glob("*.md"):
            self.assertIn(f"(docs/{path.name}", readme)

    def test_promises_name_tests_that_there_are(self) -> None:
        """Each promise of the page about security is held by a test; a name that is none would hold nothing."""
        text = (ROOT / "docs/security.md").read_text(encoding="utf-8")
        named = set(re.findall(r"`(test_\w+)`", text))
        there = {
            match[1]
            for path in (ROOT / "tests").rglob("test_*.py")
            for match in re.finditer(r"def (test_\w+)\(", path.read_text(encoding="utf-8"))
        }
        self.assertGreater(len(named), 25)
        self.assertEqual(named - there, set())

    def test_commands_in_running_text_exist(self) -> None:
        """Every `scopion ...` in the documents names a command that there is, with options that it has."""
        known = dict(commands())
        looked = 0
        for name, code in mentioned():
            words = [word for word in shlex.split(code.replace("...", ""), comments=True) if word]
            while words and words[0].startswith("-"):
                words = words[2 if words[0] == "--site" else 1 :]
            if not words or words[0] not in known:
                self.assertIn(words[0] if words else "COMMAND", ("COMMAND", "[--site"), f"{name}: {code}")
                continue
            called = next(name for count in (3, 2, 1) if (name := " ".join(words[:count])) in known)
            options = [option for each in (known[called], cli) for option in each.params]
            flags = {"--help", *(flag for each in options for flag in (*each.opts, *each.secondary_opts))}
            for word in words[1:]:
                if word.startswith("--"):
                    self.assertIn(word.partition("=")[0].rstrip(".,"), flags, f"{name}: {code}")
            looked += 1
        self.assertGreater(looked, 100)

    def test_commands_in_running_text_run(self) -> None:
        """Those that stand there whole are run; a bare name may lack its arguments, nothing else is wrong usage."""
        self.begin()
        self.run_ok("scan", "--no-names")
        known = dict(commands())
        ran = 0
        for code in sorted({code for _, code in mentioned() if not _PLACEHOLDER.search(code)}):
            if code.startswith(_ELSEWHERE):
                continue
            ended, said = run_quietly(StoryStep("", tuple(shlex.split(code))), self.site)
            self.assertNotIn("Traceback", said, code)
            self.assertIn(ended, (0, 1, 2, 3) if code in known else (0, 3), f"scopion {code}: {said}")
            ran += 1
        self.assertGreater(ran, 50)

    def test_what_the_readme_lets_one_type_works(self) -> None:
        """The commands to try it out, in a shell, in a new home."""
        for script in blocks("README.md", "sh"):
            path = f"{Path(PROGRAM).parent}:{os.environ['PATH']}"
            ended = subprocess.run(
                ["sh", "-e"], input=script, env={"HOME": str(self.folder), "PATH": path, "SCOPION_LIVE": "namespaces"},
                capture_output=True, text=True, check=False, timeout=60,
            )  # fmt: skip
            self.assertEqual(ended.returncode, 0, ended.stderr)
            self.assertIn("apprentice", ended.stdout)

    def test_settings_in_documents_are_valid(self) -> None:
        """Every block of TOML in the documents is read as it stands."""
        for path in DOCS:
            for number, text in enumerate(blocks(str(path.relative_to(ROOT)), "toml")):
                self.begin() if not self.site.exists() else None
                tomllib.loads(text)
                (self.site / "site.toml").write_text(text, encoding="utf-8")
                self.run_ok("devices")
                self.assertGreaterEqual(number, 0)

    def test_schemas_describe_what_is_written(self) -> None:
        """Scans, alerts, events and observations are as their published schemas say; a wrong one is not."""
        self.begin()
        self.run_ok("scan", "--no-names")
        self.run_ok("alerts", "learning", "--end")
        self.run_ok("demo", "--next", str(self.site))
        self._holds("scan", self.run_json("scan"))
        self._holds("device-rows", self.run_json("devices"))
        self._holds("event-rows", self.run_json("events"))
        self._holds("map-rows", self.run_json("map"))
        self.run_ok("watch", "--once")
        lines = (self.site / "told-to-owner.jsonl").read_text(encoding="utf-8").splitlines()
        for line in lines:
            alert = json.loads(line)
            self._holds("alert", alert)
            for event in alert["events"]:
                self._holds("event", event)
        self.assertGreater(len(lines), 0)
        with self.assertRaises(jsonschema.ValidationError):
            self._holds("alert", {**alert, "severity": "terrible"})
        seen = Observation(MacAddress.parse("10:c0:de:00:00:01"), None, NOON, Source.ARP)
        self._holds("observation", observation_to_json(seen))
        self._holds("devices", json.loads(self.run_ok("export", "--as", "json")))

    def test_schemas_describe_what_the_broker_has(self) -> None:
        """What sensors and the watch say, with every key that they may have; their forms are told from each other."""
        clocks = SensorClocks(NOON, "boot", 100.0)
        pair = Observation(MacAddress.parse("10:c0:de:00:00:01"), IPv4Address("192.0.2.10"), NOON, Source.ARP)
        named = replace(pair, traits=(Trait(TraitKind.NAME, "kiln", Source.MDNS),), since=NOON - timedelta(minutes=1))
        range_ = IPv4Network("192.0.2.0/24")
        scan = ScanFacts(
            1, NOON, NOON, range_, Targets.of_subnet(range_), "eth0", "arp", 254, 3, 2, True, 3, 1.5,
            (IPv6Address("fe80::1"),), IPv4Address("192.0.2.1"), pair.mac, True, NOON,
        )  # fmt: skip
        batch = Batch(
            "pit", "clay pit", "life", 2, 1, clocks, "1.0", (Sighting(0, pair), Sighting(1, named)), (scan,),
            own=(MacAddress.parse("10:c0:de:00:00:09"),), dropped={"scans": 3},
        )  # fmt: skip
        written = json.loads(batch_to_json(batch))
        self._holds("batch", written)
        parts = {each["form"]: each for each in written["documents"]}
        for form in ("observation", "seen", "scan-record"):
            self._holds(form, parts[f"{form}/1"])
        self._holds("folded", json.loads(folded_to_json(Folded("life", 2, 300.0, "nonce"))))
        state = SensorState("pit", True, clocks, "clay pit", "life", "1.0", 1, NOON, "192.0.2.9", "nonce", ("x: y",))
        for each in (state, SensorState("pit", False)):
            self._holds("state", json.loads(state_to_json(each)))
        self.begin()
        self.run_ok("scan", "--no-names")
        with closing(Site(self.site)) as site:
            self.assertEqual(announcements(site, presence=False, events=True).events, ())  # what was before is no news
            site.roster.set_meta("said_at_broker", "[]")
            said = announcements(site, presence=True, events=True)
        self.assertGreater(len(said.presence), 10)
        for octets in said.presence.values():
            self._holds("presence", json.loads(octets))
        for _, octets in said.events:
            self._holds("event", json.loads(octets))
        for name, other in itertools.permutations(("batch", "folded", "state", "presence"), 2):
            form = json.loads((ROOT / f"docs/schemas/{other}.schema.json").read_text())["title"]
            with self.assertRaises(jsonschema.ValidationError):
                self._holds(name, {**written, "form": form})

    def _holds(self, name: str, document: Any) -> None:
        schema = json.loads((ROOT / f"docs/schemas/{name}.schema.json").read_text(encoding="utf-8"))
        jsonschema.Draft202012Validator.check_schema(schema)
        jsonschema.validate(document, schema)


class Extended(ProgramTest):
    """The worked examples of docs/extending.md, taken out of the page and added to the running program."""

    def setUp(self) -> None:
        super().setUp()
        self.begin()
        for registry in (channels, enforcers, records):
            kept = mock.patch.dict(registry.__dict__["_TYPES"])
            kept.start()
            self.addCleanup(kept.stop)
        self.addCleanup(adapter.cache_clear)

    def example(self, first_line: str) -> Any:
        """The entry that an example defines."""
        (code,) = [each for each in blocks("docs/extending.md", "python") if each.startswith(f"# {first_line}")]
        names: dict[str, Any] = {"__name__": __name__}  # as if it stood in this module
        exec(compile(code, first_line, "exec", dont_inherit=True), names)
        adapter.cache_clear()  # as if nothing had been read before
        return names["ENTRY"]

    def run_here(self, *arguments: str, code: int = 0) -> str:
        """Run a command in this process, which has the example; what it says."""
        out = io.StringIO()
        with (
            mock.patch.dict("os.environ", {"SCOPION_SITE": str(self.site)}),
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(out),
        ):
            self.assertEqual(main.run([*arguments]), code, out.getvalue())
        return out.getvalue()

    def settings(self, text: str) -> None:
        (self.site / "site.toml").write_text(text, encoding="utf-8")

    def test_the_channel_delivers_and_explains_itself(self) -> None:
        """A message is a line at the printer's port; a printer that is off is told in words."""
        server = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(server.close)
        port = server.getsockname()[1]
        self.settings(f'[[channel]]\ntype = "printer"\nname = "paper"\nhost = "127.0.0.1"\nport = {port}\n')
        self.assertIn("there is no type 'printer'", self.run_here("alerts", "test", "paper", code=2))
        channels.register(self.example("alerts/channels/printer.py"))
        printed: list[bytes] = []

        def receive() -> None:
            line, _ = server.accept()
            with line:
                printed.append(line.makefile("rb").read())

        thread = threading.Thread(target=receive)
        thread.start()
        self.assertIn("the line was taken", self.run_here("alerts", "test", "paper"))
        thread.join(5)
        self.assertRegex(printed[0], rb"^2026-09-1\d \d\d:\d\d  .*\r\n$")
        server.close()
        self.assertIn("the printer 127.0.0.1 does not take it", self.run_here("alerts", "test", "paper", code=1))

    def test_the_enforcer_is_previewed_pushed_and_let_write(self) -> None:
        """A list gets into its file and out again; a unit may write there, and no other place has to know of it."""
        enforcers.register(self.example("wireless/enforcers/mac_file.py"))
        self.settings(
            '[[enforcer]]\ntype = "mac-file"\nname = "ap"\nnetwork = "Kilnhaven"\nradio = { "5" = "/etc/ap/deny" }\n'
        )
        (self.site / "etc/ap").mkdir(parents=True)  # where the made-up access point has its files
        self.run_here("scan", "--no-names")
        self.run_here("wifi", "deny", "Kilnhaven", "192.0.2.61")
        self.run_here("wifi", "mode", "Kilnhaven", "deny")
        self.assertIn("replace", self.run_here("--verbose", "wifi", "push", "Kilnhaven", "--yes", "--no-verify"))
        deny = self.site / "etc/ap/deny"
        (entry,) = json.loads(self.run_here("--quiet", "wifi", "entries", "Kilnhaven", "--format", "json"))
        self.assertEqual(deny.read_text(encoding="ascii").split(), entry["macs"])
        self.assertIn("Every radio holds what it should", self.run_here("wifi", "preview", "Kilnhaven"))
        self.run_here("wifi", "revert", "Kilnhaven", "--yes")
        self.assertEqual(deny.read_text(encoding="ascii"), "")
        self.assertIn("ReadWritePaths=/etc/ap", self.run_here("service", "unit"))
        self.assertIn("it knows no stations", self.run_here("wifi", "stations", "Kilnhaven", code=1))

    def test_the_source_reads_what_it_can(self) -> None:
        """Good lines become observations, others are counted with their place; no text makes it raise."""
        records.register(self.example("discovery/records/switch_table.py"))
        table = "port;mac;address\n1;10:c0:de:00:00:01;192.0.2.7\n2; 10-C0-DE-00-00-02\n\n3;nonsense\n4\n"
        (self.folder / "table").write_text(table, encoding="utf-8")
        said = self.run_here("import", str(self.folder / "table"))
        self.assertIn("Read as the table of a switch", said)
        self.assertIn("line 5", said)
        self.assertIn("10:c0:de:00:00:01", self.run_here("devices"))
        self.run_here("import", "--as", "switch-table", str(self.folder / "table"), "--preview")
        self.assertIn("is not one of", self.run_here("import", "--as", "nonsense", "-", code=2))


if __name__ == "__main__":
    unittest.main()
