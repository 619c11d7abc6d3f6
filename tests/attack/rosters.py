"""Damaged rosters: octets changed, pages cut, rows that no command writes. Each is reported, or sound."""

from __future__ import annotations

import random
import sqlite3
import sys
import tempfile
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

from scopion.model.errors import DamagedRoster, ScopionError
from scopion.roster.store.open_roster import Roster
from scopion.roster.upkeep.check_roster import unsound
from tests.attack.kills import Victim
from tests.support import played

# What only looks has to answer where the roster is sound; what writes may refuse. Neither may break, whatever is there.
_LOOKING = (
    "devices", "devices --format json", "show 192.0.2.50", "events", "events --format json", "changes --scans",
    "changes --since 2020-01-01", "undo --list", "export - --as json", "export - --as csv", "export - --as kea-hosts",
    "alerts list", "alerts list --format json", "alerts learning", "alerts mute", "wifi entries",
    "wifi entries --format json", "wifi ssids", "wifi revert --list", "wifi preview Kilnhaven", "wifi sheet Kilnhaven",
    "wifi hours 192.0.2.61", "wifi timetable", "wifi stations", "wifi audit", "report", "report --html -",
    "report --format json", "map", "map --format json", "spare --reasons", "roster check", "here",
)  # fmt: skip
_WRITING = (
    "scan --no-names", "watch --once", "label 192.0.2.50 x", "mark 192.0.2.31 known", "same 192.0.2.31 192.0.2.32",
    "undo --yes", "forget 192.0.2.70 --yes", "alerts show 1", "alerts retry", "alerts mute 192.0.2.31 --for 2h",
    "alerts learning --end", "wifi deny Kilnhaven 192.0.2.62", "wifi drop Kilnhaven 192.0.2.61",
    "wifi mode Kilnhaven off", "wifi only Kilnhaven 192.0.2.61", "wifi import Kilnhaven", "wifi done Kilnhaven",
    "wifi push Kilnhaven --yes --no-verify", "wifi keep", "wifi verify Kilnhaven", "wifi revert Kilnhaven --yes",
    "roster compact", "roster restore latest --yes", "export --site archive.zip --force",
)  # fmt: skip
_ODD: tuple[Any, ...] = (
    None, -1, 0, 10**18, -(10**18), 2.5, float("inf"), "", "x", "\x1b[2J", "a\nb", b"\xff\xfe", "null", "[]", "{}",
    '{"a":1}',
    "[" * 2000, "teleported", "10:c0:de:00:00:zz", "999.0.2.1", "9999-99-99", "1" * 5000, "é" * 300,
)  # fmt: skip


def _by_octets(path: Path, chance: random.Random) -> None:
    data = bytearray(path.read_bytes())
    for _ in range(chance.choice((1, 4, 30))):
        at = chance.randrange(len(data))
        data[at : at + chance.choice((1, 8, 200))] = chance.randbytes(chance.choice((1, 8, 200)))
    if chance.random() < 0.2:
        del data[chance.randrange(len(data)) :]
    path.write_bytes(data)


def _by_rows(path: Path, chance: random.Random) -> None:
    with closing(sqlite3.connect(path)) as db:
        db.execute("PRAGMA ignore_check_constraints = ON")
        tables = [row[0] for row in db.execute("SELECT name FROM sqlite_schema WHERE type = 'table'")]
        filled = [name for name in tables if db.execute(f"SELECT count(*) FROM {name}").fetchone()[0]]
        for _ in range(chance.choice((1, 1, 3))):
            table = chance.choice(filled)
            columns = [row[1] for row in db.execute(f"PRAGMA table_info({table})")]
            with suppress(sqlite3.Error):  # a key that is there twice, or may not be missing
                db.execute(f"UPDATE OR IGNORE {table} SET {chance.choice(columns)} = ?", (chance.choice(_ODD),))
        db.commit()


def attack(count: int, seed: int) -> dict[str, int]:
    """So many rosters; how many were told, and how many sound. Raises what no command should raise."""
    chance = random.Random(seed)
    came = {"told": 0, "sound": 0}
    with tempfile.TemporaryDirectory(prefix="scopion-damage-") as holder:
        victim = Victim(Path(holder))
        for number in range(count):
            site = victim.copy()
            path = site / "roster.sqlite"
            (_by_octets if number % 2 else _by_rows)(path, chance)
            kept = path.read_bytes()
            told = _is_told(site, path, kept)
            came["told" if told else "sound"] += 1
            for line in (*_LOOKING, *chance.sample(_WRITING, 6)):
                path.write_bytes(kept)
                for tail in ("-wal", "-shm"):
                    path.with_name(path.name + tail).unlink(missing_ok=True)
                try:
                    words = [str(victim.folder / word) if word == "archive.zip" else word for word in line.split()]
                    code, _, said = played(site, words)
                except BaseException:
                    Path("/tmp/scopion-damaged.sqlite").write_bytes(kept)
                    print(f"seed {seed}, roster {number}: {line} breaks", file=sys.stderr)
                    raise
                # An address may have become another: then there is no device to show.
                refused = code not in (0, 3) and line in _LOOKING and "192" not in line
                if not told and (refused or "unexpected: " in said):  # the watch goes on, and says that of a mistake
                    raise AssertionError(f"seed {seed}, roster {number} is sound, and {line} says {said}")
    return came


def _is_told(site: Path, path: Path, kept: bytes) -> bool:
    """Whether ``roster check`` would tell that something is wrong."""
    try:
        with closing(sqlite3.connect(path)) as db:
            if not db.execute("PRAGMA user_version").fetchone()[0]:
                return True
        with closing(Roster.open_for_reading(site)) as roster:
            if unsound(roster, _late()):
                return True
        with closing(Roster.open(site)) as opened:
            return opened.moved_aside is not None
    except (DamagedRoster, ScopionError, sqlite3.Error):
        return True
    finally:
        path.write_bytes(kept)


def _late() -> Any:
    from datetime import UTC, datetime

    return datetime.now(UTC)
