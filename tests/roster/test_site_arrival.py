"""A whole site that comes from a stranger: nothing acts before somebody agrees; what is damaged or a bomb stays out."""

from __future__ import annotations

import json
import shutil
import sqlite3
import subprocess
import sys
import tomllib
import unittest
import zipfile
from contextlib import closing
from pathlib import Path

from scopion.operations.exchange.disable_actions import switched_off, what_acts
from tests.support import PROGRAM, PreparedTest, ProgramTest

ACTING = """\
name = "theirs"

# how they are told
[[channel]]
name = "owned"
type = "command"
command = ["/usr/bin/touch", "/tmp/owned"]

[watch]
interval_s = 90.0
leases = [
  "/etc/shadow",
]

[[enforcer]]
name = "ap"
type = "uci"
network = "K"
[enforcer.ssh]
host = "203.0.113.9"
"""


class FromAStranger(PreparedTest):
    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        site.begin()
        site.run_ok("scan", "--no-names")

    def archive(self, **files: bytes | None) -> Path:
        """The site's own export with other files in it; None leaves one out."""
        own, path = self.folder / "own.zip", self.folder / "theirs.zip"
        self.run_ok("export", "--site", str(own), "--force")
        with zipfile.ZipFile(own) as source, zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as target:
            content = {name: source.read(name) for name in source.namelist()}
            content |= {name.replace("__", "."): data for name, data in files.items() if data is not None}
            for name, data in content.items():
                target.writestr(name, data)
        return path

    def take(self, path: Path, *more: str) -> tuple[int, str, Path]:
        folder = self.folder / "new"
        shutil.rmtree(folder, ignore_errors=True)
        ended = self.run_program("--site", str(folder), "import", "--site", str(path), *more)
        return ended.returncode, ended.stderr, folder

    def test_what_acts_is_off_until_somebody_agrees(self) -> None:
        """It is listed, and comes as comments that are switched on by removing the #; --active takes it as it is."""
        path = self.archive(site__toml=ACTING.encode())
        code, said, folder = self.take(path)
        self.assertEqual(code, 0, said)
        for told in ("channel owned (command): /usr/bin/touch /tmp/owned", "203.0.113.9", "leases: /etc/shadow"):
            self.assertIn(told, said)
        text = (folder / "site.toml").read_text()
        self.assertEqual(tomllib.loads(text), {"name": "theirs"})
        self.assertEqual(text.replace("# [", "[").replace("# ", ""), ACTING.replace("# ", ""))
        self.assertEqual(self.run_program("--site", str(folder), "alerts", "test", "owned").returncode, 3)
        code, said, folder = self.take(path, "--active")
        self.assertEqual((code, (folder / "site.toml").read_text()), (0, ACTING))

    def test_every_way_to_write_it_is_found(self) -> None:
        """Inline tables, dotted keys, quoted headings, and what is no TOML at all: nothing of it stays in force."""
        command = '{ name = "x", type = "command", command = ["id"] }'
        for text in (
            f"channel = [{command}]\n",
            f'"channel" = [\n {command},\n]\nname = "x"\n',
            '[["channel"]]\nname = "x"\ntype = "command"\ncommand = ["id"]\n',
            '[[ channel ]]\nname = "x"\ntype = "command"\ncommand = ["id"]\n',
            'watch.leases = ["/etc/shadow"]\n',
            'names = { resolvers = ["203.0.113.9"] }\n',
            'name = """\n[subnet]\n"""\n[[channel]]\nname = "x"\ntype = "command"\ncommand = ["id"]\n',
            'a = "\r[[channel]]\n',
            "[[channel]\n",
        ):
            with self.subTest(text=text):
                self.assertTrue(what_acts(text))
                quiet = switched_off(text)
                self.assertEqual(what_acts(quiet), [])
                self.assertFalse(
                    {"channel", "enforcer", "meter", "router", "rule", "switch"} & set(tomllib.loads(quiet))
                )
        self.assertEqual(what_acts('name = "x"\n[watch]\ninterval_s = 60\n'), [])

    def test_a_roster_that_is_none(self) -> None:
        """One byte, another program's, one with triggers, rows that no command writes: refused, no site is left."""

        def with_rows(*statements: str) -> bytes:
            copy = self.folder / "copy.sqlite"
            with zipfile.ZipFile(self.folder / "own.zip") as own:
                copy.write_bytes(own.read("roster.sqlite"))
            with closing(sqlite3.connect(copy)) as db:
                for each in statements:
                    db.execute(each)
                db.commit()
            return copy.read_bytes()

        self.archive()
        for data in (
            b"x",
            b"",
            b"SQLite format 3\0" + b"\0" * 5000,
            with_rows("CREATE TRIGGER t AFTER INSERT ON stay BEGIN DELETE FROM device; END"),
            with_rows("CREATE VIEW v AS SELECT 1"),
            with_rows("DROP TABLE trait"),
            with_rows("PRAGMA application_id = 7"),
            with_rows("UPDATE stay SET address = 'x' || id || char(27)"),
            with_rows("UPDATE adapter SET medium = 'teleported'"),
            with_rows("UPDATE device SET label = char(27) || '[2J' WHERE id = 1"),
        ):
            with self.subTest(data=data[:40], size=len(data)):
                code, said, folder = self.take(self.archive(roster__sqlite=data))
                self.assertEqual((code, len(said.splitlines())), (1, 1), said)
                self.assertNotIn("\x1b", said)
                self.assertFalse((folder / "roster.sqlite").exists())

    def test_sizes_are_bounded_before_anything_is_unpacked(self) -> None:
        """Two megabytes that claim to be gigabytes, or turn out so: refused with little memory, and no site is left."""
        path = self.archive(roster__sqlite=b"\0" * 500_000_000)
        self.assertLess(path.stat().st_size, 2_000_000)
        script = (
            "import resource, subprocess, sys; "
            "code = subprocess.run(sys.argv[1:]).returncode; "
            "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss); sys.exit(code)"
        )
        command = [
            sys.executable,
            "-c",
            script,
            PROGRAM,
            "--site",
            str(self.folder / "new"),
            "import",
            "--site",
            str(path),
        ]
        ended = subprocess.run(command, capture_output=True, text=True, check=False)
        self.assertEqual(ended.returncode, 2, ended.stderr)
        self.assertIn("larger than a site's can be", ended.stderr)
        self.assertLess(int(ended.stdout), 100_000)  # KB
        lying = path.read_bytes().replace((500_000_000).to_bytes(4, "little"), (1000).to_bytes(4, "little"))
        path.write_bytes(lying)
        code, said, folder = self.take(path)
        self.assertEqual(code, 2, said)
        self.assertFalse((folder / "roster.sqlite").exists())

    def test_other_files_that_are_damaged(self) -> None:
        """Rules, makers and a story are read before they are taken."""
        for files in (
            {"kinds__toml": b"rule = 1"},
            {"kinds__toml": b"a = " + b"[" * 5000},
            {"vendors__bin": b"x"},
            {"story__json": json.dumps({"scene": "/etc/passwd", "at": "2026-01-01", "moment": 0}).encode()},
            {"manifest__json": b"[" * 60_000},
        ):
            with self.subTest(files=list(files)):
                code, said, folder = self.take(self.archive(**files))
                self.assertEqual((code, len(said.splitlines())), (2, 1), said)
                self.assertFalse((folder / "roster.sqlite").exists())


if __name__ == "__main__":
    unittest.main()
