"""The house itself: the map of commands, the manual, the completion, and that nothing is imported before its time."""

from __future__ import annotations

import re
import subprocess
import sys
import tomllib
import unittest
from pathlib import Path

import click
from tools.command_reference import commands

from scopion import __version__
from scopion.cli.main import FAMILIES
from scopion.cli.parts.other_words import every_word
from scopion.cli.remember import export_file, import_file
from scopion.discovery.records.reading import RecordKind
from scopion.operations.exchange import exchange_devices as exchange
from tests.support import ROOT, ProgramTest, played


class Map(ProgramTest):
    def test_the_map_says_what_the_commands_say(self) -> None:
        """The summaries that spare the imports are the first sentences of the commands' own help."""
        for family in FAMILIES.values():
            for name, entry in family.items():
                self.assertEqual((dict(commands())[name].help or "").split("\n")[0], entry.summary)

    def test_the_map_fits_one_screen(self) -> None:
        """Scopion --help has a line a command, as wide as the narrowest terminal and as long as a usual window."""
        lines = self.run_ok("--help").splitlines()
        self.assertLessEqual(len(lines), 48)
        self.assertLessEqual(max(map(len, lines)), 80)

    def test_other_words_name_the_command_that_does_it(self) -> None:
        """What a new user types for a command of another name: each word says which is meant, and that one exists."""
        known = dict(commands())
        words = every_word()
        self.assertGreater(len(words), 150)
        for (family, word), meant in words.items():
            with self.subTest(family=family, word=word):
                self.assertNotIn(f"{family} {word}".strip(), known)
                code, _, said = played(self.site, [*family.split(), word])
                self.assertEqual(code, 2)
                self.assertIn(f"no such command {word!r}: try {meant} ", said)
                called = [each for each in meant.split()[1:] if each.islower() and not each.startswith("-")]
                name = max((each for each in known if called[: len(each.split())] == each.split()), default="")
                options = (
                    {each for option in known[name].params for each in option.opts} if name else {"--help", "--version"}
                )
                self.assertLessEqual({each for each in meant.split() if each.startswith("--")}, options)
        for typed, meant in {
            "scna": "scan",
            "192.0.2.50": "show 192.0.2.50",
            "192.0.2.0/24": "scan 192.0.2.0/24",
        }.items():
            self.assertIn(f"try scopion {meant} ", self.refused(2, typed))
        self.assertIn("try scopion block ", self.refused(2, "wifi", "block"))
        self.assertEqual(self.refused(2, "xyzzy"), "scopion: no such command 'xyzzy' (see scopion --help)")

    def test_every_command_and_option_is_in_the_manual(self) -> None:
        """A command that docs/commands.md does not show cannot be released, nor an option."""
        manual = (ROOT / "docs/commands.md").read_text(encoding="utf-8")
        for name, command in commands():
            heading = f"### `scopion {name}`"
            self.assertIn(heading, manual)
            section = manual.split(heading, 1)[1].split("\n### ", 1)[0]
            for option in (each for each in command.params if isinstance(each, click.Option) and not each.hidden):
                self.assertIn(f"`{option.opts[0]}", section, f"{name} {option.opts}")

    def test_forms_of_files_are_offered_as_they_are_known(self) -> None:
        """What import and export offer, without loading what reads it, is what there is."""
        self.assertEqual(set(export_file.KINDS), set(exchange.KINDS))
        self.assertEqual(set(import_file.LISTS), set(exchange.LISTS))
        self.assertEqual(set(import_file.RECORDS), set(map(str, RecordKind)))

    def test_the_readme_shows_pictures_that_exist(self) -> None:
        """Each picture is linked from the README, and each link leads somewhere."""
        readme = (ROOT / "README.md").read_text(encoding="utf-8")
        linked = set(re.findall(r"docs/screenshots/[\w-]+\.png", readme))
        self.assertEqual(
            linked, {f"docs/screenshots/{path.name}" for path in (ROOT / "docs/screenshots").glob("*.png")}
        )
        for target in re.findall(r"\]\((?!http)([^)#]+)", readme):
            self.assertTrue((ROOT / target).exists(), target)

    def test_completion_knows_devices_and_networks(self) -> None:
        """Labels and networks complete from the roster; without one there is silence, not an error."""
        self.assertEqual(self._completions("label", "ki"), [])
        self.begin()
        self.run_ok("scan")
        self.run_ok("label", "192.0.2.31", "kiln controller")
        self.run_ok("wifi", "deny", "Kilnhaven", "192.0.2.61")
        self.assertEqual(self._completions("label", "ki"), ["kiln controller"])
        self.assertEqual(self._completions("wifi mode", "K"), ["Kilnhaven"])

    def _completions(self, words: str, incomplete: str) -> list[str]:
        typed = f"scopion {words} {incomplete}"
        place = str(len(words.split()) + 1)
        ended = self.run_program(_SCOPION_COMPLETE="zsh_complete", COMP_WORDS=typed, COMP_CWORD=place)
        self.assertEqual(ended.stderr, "")
        return [line for line in ended.stdout.splitlines()[1::3] if line]

    def test_the_version(self) -> None:
        """It stands in one place."""
        self.assertEqual(self.run_ok("--version"), f"scopion {__version__}\n")


class Architecture(unittest.TestCase):
    """docs/architecture.md against the tree and the contracts."""

    page = (ROOT / "docs/architecture.md").read_text(encoding="utf-8")

    def rows(self, heading: str) -> list[list[str]]:
        """The cells in backticks of each row of a table; ``;`` parts the floors, in text."""
        table = self.page.split(heading, 1)[1].split("\n\n", 1)[0]
        return [line.strip("| ").split(" | ") for line in table.splitlines()[1:]]

    def contracts(self) -> dict[str, list[str]]:
        """The layers of each container."""
        settings = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))
        found = settings["tool"]["importlinter"]["contracts"]
        return {each["containers"][0]: each["layers"] for each in found if each["type"] == "layers"}

    def test_the_rooms_are_those_of_the_tree(self) -> None:
        """Each room of the table, in the order of the contract; none is left out."""
        rooms = [re.findall(r"`(\w+)`", cells[0]) for cells in self.rows("| room | what it is for |\n")]
        self.assertEqual([" | ".join(each) for each in rooms], self.contracts()["scopion"])
        packages = {path.parent.name for path in (ROOT / "src/scopion").glob("*/__init__.py")}
        self.assertEqual({name for each in rooms for name in each} - {"api"}, packages - {"api"})

    def test_the_floors_are_those_of_the_tree(self) -> None:
        """Each floor in the order of the contract, and every folder that has code is one."""
        contracts = self.contracts()
        for room, floors in self.rows("| room | floors, from above |\n"):
            name = room.strip("`")
            layers = [re.findall(r"\w+", each) for each in contracts[f"scopion.{name}"]]
            said = [re.findall(r"`(\w+)`", each) for each in floors.split(";")]
            flat, order = [each for layer in layers for each in layer], [each for floor in said for each in floor]
            self.assertEqual([each for each in flat if each in order], order, name)
            folders = {path.parent.name for path in (ROOT / "src/scopion" / name).glob("*/__init__.py")}
            self.assertLessEqual(folders, set(order), name)

    def test_the_files_it_names_are_there(self) -> None:
        """Each path leads to a file, and a walk names as many as it says."""
        for name in set(re.findall(r"`([\w/]+/\w+\.(?:py|md))`", self.page)):
            self.assertTrue((ROOT / "src/scopion" / name).exists() or (ROOT / name).exists(), name)
        for walk in self.page.split("\n## ")[1:]:
            for said in re.findall(r"It passes (\d+) files, each once", walk):
                self.assertEqual(len(re.findall(r"`[\w/]+\.py`", walk)), int(said))
                self.assertEqual(len(set(re.findall(r"`[\w/]+\.py`", walk))), int(said))

    def test_no_folder_is_flat_again(self) -> None:
        """A newcomer reads a folder's list at a glance."""
        for folder in {path.parent for top in ("src", "tests", "tools") for path in (ROOT / top).rglob("*.py")}:
            self.assertLessEqual(len(list(folder.glob("*.py"))), 25, folder)


class Imports(unittest.TestCase):
    def test_starting_loads_nothing_heavy(self) -> None:
        """Scopion --version and vendor come without Rich, pydantic, HTTP, SQLite or a network."""
        heavy = ("rich", "pydantic", "http.client", "sqlite3", "platformdirs.unix", "socket")
        for arguments, unwanted in ((["--version"], heavy), (["vendor", "286fb9"], heavy[:4])):
            script = (
                "import sys; from scopion.cli.main import run; run(sys.argv[1:]); "
                f"print([name for name in {unwanted!r} if name in sys.modules])"
            )
            ended = subprocess.run(
                [sys.executable, "-c", script, *arguments], capture_output=True, text=True, check=True
            )
            self.assertEqual(ended.stdout.splitlines()[-1], "[]", arguments)

    def test_every_room_says_what_it_is_for(self) -> None:
        """Each file opens with a docstring, and no two with the same."""
        files = list(Path(ROOT / "src/scopion").rglob("*.py"))
        openings = [path.read_text(encoding="utf-8").split('"""')[1] for path in files]
        self.assertEqual(len(set(openings)), len(files))

    def test_every_module_imports_where_unix_is_not(self) -> None:
        """On Windows and macOS some of Python's modules and names are missing: no module of ours needs them to load."""
        ended = subprocess.run([sys.executable, "-c", _ELSEWHERE], capture_output=True, text=True, check=False)
        self.assertEqual(ended.returncode, 0, ended.stderr[-2000:])
        self.assertGreater(int(ended.stdout), 250)


# What others load beforehand is theirs to get right; then what only Unix, or only Linux, has is taken away.
_ELSEWHERE = """
import asyncio, getpass, logging.handlers, os, pkgutil, platform, select, signal, smtplib, socket, subprocess, sys
import click, dns.message, jeepney.io.blocking, jinja2, matplotlib.figure, paramiko, platformdirs, tempfile
import prometheus_client, psutil, pydantic, pysnmp.hlapi.v3arch.asyncio, rich.live, sdnotify, zxcvbn
for name in ("fcntl", "grp", "pty", "pwd", "resource", "syslog", "termios", "tty"):
    sys.modules[name] = None
for module, names in (
    (os, "fork fchmod fchown chown geteuid getuid pwrite set_blocking O_CLOEXEC O_NOFOLLOW sched_setaffinity"),
    (select, "epoll poll"), (signal, "SIGHUP SIGKILL"),
    (socket, "AF_NETLINK AF_PACKET AF_UNIX NETLINK_ROUTE SO_BINDTODEVICE CMSG_SPACE"),
):
    for name in names.split():
        if hasattr(module, name):
            delattr(module, name)
import scopion
found = [each.name for each in pkgutil.walk_packages(scopion.__path__, "scopion.") if each.name != "scopion.__main__"]
for name in found:
    __import__(name)
print(len(found))
"""


if __name__ == "__main__":
    unittest.main()
