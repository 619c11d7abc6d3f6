"""Every writing command, and the watch, ended at any moment: by SIGKILL, and by Ctrl-C.

Afterwards the roster is sound; what it holds is what it held before or what the whole command gives; what an access
point holds is one of the two, or the roster knows that a push was going on; and "nothing was changed" is true.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import tempfile
import time
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from scopion.roster.store.open_roster import Roster
from scopion.roster.upkeep.check_roster import unsound
from scopion.scenes.access_point import FILE as ACCESS_POINT
from tests.support import PROGRAM

# What people and scans have put there; without what notes when something ran.
_TABLES = ("device", "adapter", "stay", "unpaired", "entry", "network", "timetable", "mute", "exclusive", "subnet")
COMMANDS: tuple[tuple[str, ...], ...] = (
    ("scan", "--no-names"),
    ("label", "192.0.2.31", "kiln"),
    ("mark", "192.0.2.31", "192.0.2.50", "known"),
    ("import", "{sheet}", "--yes"),
    ("import", "{list}"),
    ("forget", "192.0.2.70", "--yes"),
    ("same", "192.0.2.31", "192.0.2.32"),
    ("undo", "--yes"),
    ("review", "--csv", "{page}"),
    ("label", "192.0.2.62", "--kind", "tablet"),
    ("wifi", "deny", "Kilnhaven", "192.0.2.62"),
    ("wifi", "allow", "Kilnhaven", "192.0.2.62", "--also", "Guests", "--new"),
    ("wifi", "drop", "Kilnhaven", "192.0.2.61"),
    ("wifi", "mode", "Kilnhaven", "off"),
    ("wifi", "only", "Kilnhaven", "192.0.2.61"),
    ("wifi", "timetable", "opening", "mon-fri 08:00-18:00"),
    ("wifi", "import", "Kilnhaven"),
    ("wifi", "done", "Yard"),
    ("wifi", "verify", "Kilnhaven"),
    ("wifi", "stations"),
    ("wifi", "audit", "Kilnhaven", "--passphrase-changed", "2026-01-31"),
    ("wifi", "sheet", "Yard", "--html", "{page}"),
    ("wifi", "push", "Kilnhaven", "--yes", "--no-verify"),
    ("wifi", "push", "Kilnhaven", "--yes", "--revert-after", "30m"),
    ("block", "192.0.2.90", "--yes"),
    ("unblock", "192.0.2.61", "--yes"),
    ("wifi", "keep", "Kilnhaven"),
    ("wifi", "revert", "Kilnhaven", "--yes"),
    ("alerts", "mute", "192.0.2.31", "--for", "2h"),
    ("alerts", "seen", "1", "--note", "ordered"),
    ("alerts", "learning", "--end"),
    ("alerts", "retry"),
    ("alerts", "test", "owner"),
    ("roster", "compact"),
    ("roster", "restore", "latest", "--yes"),
    ("report", "--html", "{page}"),
    ("export", "--site", "{archive}", "--force"),
    ("watch", "--for", "3h"),
)


# What writes nothing, or not by itself.
SPARED = {
    **dict.fromkeys(
        ("here", "await", "compare", "spare", "vendor", "devices", "show", "events", "changes", "map", "roster check",
         "status", "rescue", "alerts list", "alerts show", "wifi ssids", "wifi entries", "wifi preview", "wifi hours",
         "wifi passphrase", "sensors", "where", "usage"),
        "only looks; what it hears or fetches is written as a scan or an export writes",
    ),
    **dict.fromkeys(("service unit", "service by-hand", "service install", "service remove"), "the system's, not ours"),
    **dict.fromkeys(
        ("alerts add", "alerts remove", "alerts rules add", "alerts rules remove"),
        "write site.toml, whole or not at all, and nothing into the roster",
    ),
    **dict.fromkeys(("alerts rules list", "alerts rules try", "alerts rehearse"), "remember nothing"),
    **dict.fromkeys(("wifi radius log", "wifi radius test", "wifi radius export"), "only look"),
    "wifi radius take": "writes a list, whole or not at all, and nothing into the roster",
    "wifi radius sheet": "writes secrets, each whole or not at all",
    "wifi radius serve": "opens no roster; what a kill does to its files is tried in the lab",
    "sensor enrol": "writes site.toml, then each file, whole or not at all; what is missing is made with the next",
    "sensor orders": "writes a key and two files, whole or not at all; what is missing is made the next time",
    "sensor forget": "one statement after the other, in one transaction",
    "sensor run": "has no roster; what a kill does to its file is tried in the lab",
    "setup": "asks at every step, and writes one file at the end",
    "demo": "plays the others",
}  # fmt: skip


@dataclass(frozen=True)
class State:
    """What a site remembers, and what its access point holds."""

    rows: Any
    radios: Any


def _state(site: Path) -> State:
    with closing(sqlite3.connect(f"{(site / 'roster.sqlite').as_uri()}?mode=ro", uri=True)) as db:
        # How far apart two runs of a command see the clock is of no matter: numbers of moments are left out.
        rows = {table: sorted(map(_timeless, db.execute(f"SELECT * FROM {table}"))) for table in _TABLES}
    path = site / ACCESS_POINT
    return State(rows, json.loads(path.read_text())["radios"] if path.exists() else None)


def _timeless(row: tuple[Any, ...]) -> str:
    return repr(tuple("T" if isinstance(each, int) and each > 10**9 else each for each in row))


class Victim:
    """A prepared site, and how each command leaves it when it is not killed."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.site = folder, folder / "prepared"
        names = "".join(f"02:00:00:00:00:{number:02x},host-{number}\n" for number in range(200))
        (folder / "sheet.csv").write_text(f"macs,label\n{names}")
        (folder / "list.txt").write_text("".join(f"192.0.2.{n} 02:00:00:00:01:{n:02x} h{n}\n" for n in range(100, 200)))
        self.run(self.site, "demo", "--begin", str(self.site))
        made: tuple[tuple[str, ...], ...] = (
            ("scan", "--no-names"), ("label", "192.0.2.50", "till"), ("wifi", "deny", "Kilnhaven", "192.0.2.61"),
            ("wifi", "mode", "Kilnhaven", "deny"),
            ("wifi", "push", "Kilnhaven", "--yes", "--no-verify", "--revert-after", "9h"),
            ("wifi", "deny", "Kilnhaven", "192.0.2.40"), ("wifi", "deny", "Yard", "192.0.2.62", "--for", "8h"),
            ("wifi", "mode", "Yard", "deny"), ("wifi", "sheet", "Yard"), ("wifi", "deny", "Yard", "192.0.2.40"),
            ("demo", "--next", str(self.site)),
        )  # fmt: skip
        for each in made:
            self.run(self.site, *each)
        held = json.loads((self.site / ACCESS_POINT).read_text())
        held["radios"]["5"]["deny"].append("02:00:00:00:02:02")  # by other hands
        (self.site / ACCESS_POINT).write_text(json.dumps(held))
        self.before = _state(self.site)
        self._after: dict[tuple[str, ...], tuple[State, float]] = {}

    def after(self, command: tuple[str, ...]) -> tuple[State, float]:
        """How the whole command leaves the site, and how many seconds it takes."""
        if command not in self._after:
            site = self.copy()
            began = time.monotonic()
            self.run(site, *command)
            self._after[command] = _state(site), time.monotonic() - began
        return self._after[command]

    def copy(self) -> Path:
        site = self.folder / "site"
        shutil.rmtree(site, ignore_errors=True)
        shutil.copytree(self.site, site)
        return site

    def start(self, site: Path, *command: str) -> subprocess.Popen[str]:
        names = {"sheet": "sheet.csv", "list": "list.txt", "page": "page.html", "archive": "site.zip"}
        words = [each.format(**{key: self.folder / name for key, name in names.items()}) for each in command]
        return subprocess.Popen(
            [PROGRAM, *words], stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True,
            env={**os.environ, "SCOPION_SITE": str(site), "SCOPION_LIVE": "namespaces"},
        )  # fmt: skip

    def run(self, site: Path, *command: str) -> None:
        ended = self.start(site, *command)
        _, said = ended.communicate(timeout=120)
        assert "Traceback" not in said, said


def attack(count: int, seed: int) -> dict[str, int]:
    """End so many commands by each signal, at any moment of theirs. How many ended how; raises AssertionError.

    Those that were over before the signal came are told, and do not count.
    """
    chance = random.Random(seed)
    came: dict[str, int] = {"killed": 0, "interrupted": 0, "before": 0, "after": 0, "over": 0}
    number = 0
    with tempfile.TemporaryDirectory(prefix="scopion-kills-") as holder:
        victim = Victim(Path(holder))
        while came["killed"] < count or came["interrupted"] < count:
            number += 1
            kind = signal.SIGINT if came["interrupted"] <= came["killed"] else signal.SIGKILL
            command = COMMANDS[(seed + number) % len(COMMANDS)]
            after, takes = victim.after(command)
            site = victim.copy()
            process = victim.start(site, *command)
            # At any moment, but more often late: a command writes when it knows what.
            time.sleep((1.0 - 0.9 * chance.random() ** 2) * takes)
            over = process.poll() is not None
            process.send_signal(kind)
            _, said = process.communicate(timeout=120)
            what = f"seed {seed}, {number}: {' '.join(command)} ended by {kind.name}, said {said!r}"
            # Before the program has told what it does with it, Python itself reports the interrupt.
            assert "Traceback" not in said or "KeyboardInterrupt" in said.splitlines()[-1], what
            _check(site, command, victim.before, after, said, what)
            came["over" if over else "killed" if kind is signal.SIGKILL else "interrupted"] += 1
            came["before" if _state(site) == victim.before else "after"] += 1
    return came


def _check(site: Path, command: tuple[str, ...], before: State, after: State, said: str, what: str) -> None:
    with closing(Roster.open(site)) as roster:
        assert roster.moved_aside is None, what
        problems = unsound(roster, datetime.now(UTC))
        assert not problems, (what, problems)
        running = roster.db.execute("SELECT count(*) FROM push WHERE state IN ('running', 'divided')").fetchone()[0]
    found = _state(site)
    partial = "the scan is partial" in said  # what has answered by then is kept, and that is said
    assert command[0] == "watch" or partial or found.rows in (before.rows, after.rows), what
    assert found.radios in (before.radios, after.radios) or running or command[0] == "watch", what
    if "nothing was changed" in said:
        assert found == before, what
