"""Files that are written where others may write, too: through no link, and never readable by others."""

from __future__ import annotations

import os
import stat
import subprocess
import threading
import unittest
from pathlib import Path
from typing import Any
from unittest import mock
from zipfile import ZipFile

from tools import onefile_main

from scopion.model.errors import EnforcerUnreachable, StorageFailed
from scopion.roster.store.write_files import open_file, remove_old_drafts, replacing, write_atomically
from tests.support import PROGRAM, FolderTest, ProgramTest

CHANNEL = '[[channel]]\nname = "book"\ntype = "file"\npath = "book.jsonl"\n'


class Links(ProgramTest):
    """A site's folder in which somebody else has put links under names that Scopion writes."""

    def setUp(self) -> None:
        super().setUp()
        self.begin()
        self.victim = self.folder / "victim"
        self.victim.write_text("theirs\n")
        self.elsewhere = self.folder / "elsewhere"
        self.elsewhere.mkdir()

    def tearDown(self) -> None:
        self.assertEqual(self.victim.read_text(), "theirs\n")
        self.assertEqual(list(self.elsewhere.iterdir()), [])

    def link(self, name: str, to: Path | None = None) -> Path:
        path = self.site / name
        path.parent.mkdir(exist_ok=True)
        path.unlink(missing_ok=True)
        path.symlink_to(to or self.victim)
        return path

    def test_the_lock_under_which_a_damaged_roster_is_moved(self) -> None:
        """A damaged roster makes the program write a lock: not through a link, and what it points to is not emptied."""
        (self.site / "roster.sqlite").write_bytes(b"SQLite format 3\0" + b"\xff" * 4096)
        self.link("roster.sqlite.lock")
        self.assertIn("it is a link", self.refused(1, "mark", "192.0.2.31", "known"))

    def test_the_roster_itself(self) -> None:
        """Neither a link to somebody's file nor one to a file that is to be made is taken for the roster."""
        self.link("roster.sqlite")
        self.assertIn("it is a link", self.refused(1, "label", "192.0.2.31", "kiln"))
        self.link("roster.sqlite", self.folder / "made-by-root")
        self.assertIn("it is a link", self.run_program("scan").stderr)
        self.assertFalse((self.folder / "made-by-root").exists())

    def test_the_locks_of_a_watch_and_of_a_push(self) -> None:
        """Both are opened by many commands, some of them as root."""
        self.run_ok("scan")
        self.link("watch.lock")
        self.assertIn("it is a link", self.refused(1, "watch", "--once"))
        self.link("push.lock")
        self.run_ok("wifi", "deny", "Kilnhaven", "192.0.2.61", "--new")
        ended = self.run_program("wifi", "push", "Kilnhaven", "--yes")
        self.assertNotEqual(ended.returncode, 0)

    def test_the_folder_of_copies(self) -> None:
        """A link in its place gets no copy, and stops no command; a copy that is a link is replaced."""
        self.link("copies", self.elsewhere)
        self.run_ok("scan")
        self.run_ok("label", "192.0.2.31", "kiln controller")
        (self.site / "copies").unlink()
        self.run_ok("label", "192.0.2.31", "kiln")
        (copy,) = (self.site / "copies").iterdir()
        with self.assertRaises(StorageFailed):
            write_atomically(self.link("reports", self.elsewhere) / "page.html", b"", own_folder=True)
        self.assertEqual(stat.S_IMODE(copy.stat().st_mode), 0o600)

    def test_the_file_of_a_channel(self) -> None:
        """Alerts are not added through a link, nor to a pipe, which would hold the watch."""
        path = self.site / "site.toml"
        path.write_text(CHANNEL + path.read_text())
        for put in (lambda: self.link("book.jsonl"), lambda: os.mkfifo(self.site / "book.jsonl")):
            (self.site / "book.jsonl").unlink(missing_ok=True)
            put()
            ended = self.run_program("alerts", "test", "book", within=20)
            self.assertEqual(ended.returncode, 1)
            self.assertIn("book.jsonl cannot be written", ended.stderr)

    def test_what_people_ask_to_be_written(self) -> None:
        """Exports, sheets, pages and archives replace a link, write through none, and others cannot read them."""
        self.run_ok("scan")
        self.run_ok("wifi", "deny", "Kilnhaven", "192.0.2.61", "--new")
        for name, command in {
            "out.csv": ("export", "out.csv", "--force"),
            "out.zip": ("export", "--site", "out.zip", "--force"),
            "page.html": ("report", "--html", "page.html"),
            "sheet.html": ("wifi", "sheet", "Kilnhaven", "--html", "sheet.html"),
        }.items():
            made = self.link(f"../{name}")
            ended = subprocess.run(
                [PROGRAM, *command], cwd=self.folder, capture_output=True, text=True, check=False, umask=0o022,
                env={**os.environ, "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces"},
            )  # fmt: skip
            with self.subTest(name):
                self.assertEqual(ended.returncode, 0, ended.stderr)
                self.assertFalse(made.is_symlink())
                self.assertEqual(stat.S_IMODE(made.stat().st_mode), 0o600)

    @unittest.skipUnless(os.geteuid() == 0, "only root hands files over")
    def test_nothing_is_given_away_under_sudo(self) -> None:
        """What a link points to stays its owner's; a SUDO_UID without an account is told, not a KeyError."""
        os.chown(self.site, 64001, 64001)
        self.link("roster.sqlite.lock")
        (self.site / "roster.sqlite").write_bytes(b"SQLite format 3\0" + b"\xff" * 4096)
        sudo: Any = {"SUDO_UID": "64001", "SUDO_GID": "64001"}
        self.run_program("mark", "192.0.2.31", "known", **sudo)
        self.assertEqual(self.victim.stat().st_uid, 0)
        (self.site / "roster.sqlite.lock").unlink()
        self.run_program("scan", **sudo)
        self.assertEqual((self.site / "roster.sqlite").stat().st_uid, 64001)
        environment = {**os.environ, **sudo, "SCOPION_LIVE": "namespaces"}
        environment.pop("SCOPION_SITE", None)
        ended = subprocess.run([PROGRAM, "devices"], capture_output=True, text=True, check=False, env=environment)
        self.assertEqual((ended.returncode, len(ended.stderr.splitlines())), (2, 1), ended.stderr)
        self.assertIn("no account", ended.stderr)
        for odd in ("99999999999999", "-1", "0x3e8", "4294967295"):
            self.assertEqual(self.run_program("devices", SUDO_UID=odd, SUDO_GID=odd).returncode, 0)


class FromTheFirstMoment(FolderTest):
    """Others cannot read a file that holds a passphrase, not even while it is written or after a crash."""

    def test_a_file_has_its_mode_before_its_content(self) -> None:
        """Looked at while it is half-written: mode 600 under whatever umask, then the mode that was asked for."""
        previous = os.umask(0)
        self.addCleanup(os.umask, previous)
        path = self.folder / "hostapd.conf"
        with replacing(path, 0o640) as file:
            file.write(b"wpa_passphrase=")
            file.flush()
            (draft,) = self.folder.iterdir()
            self.assertEqual(stat.S_IMODE(draft.stat().st_mode), 0o600)
            file.write(b"clay and fire\n")
        self.assertEqual([each.name for each in self.folder.iterdir()], ["hostapd.conf"])
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o640)
        self.assertEqual(stat.S_IMODE(os.fstat(open_file(self.folder / "lock")).st_mode), 0o600)

    def test_what_fails_leaves_the_old_file_and_no_draft(self) -> None:
        """An error in the middle, or an interrupt: the file is as it was."""
        path = self.folder / "list"
        write_atomically(path, b"old")
        for trouble in (OSError(28, "full"), KeyboardInterrupt()):
            with self.assertRaises(type(trouble)), replacing(path) as file:
                file.write(b"new")
                raise trouble
        self.assertEqual([each.name for each in self.folder.iterdir()], ["list"])
        self.assertEqual(path.read_bytes(), b"old")

    def test_a_folder_that_is_exchanged_meanwhile(self) -> None:
        """Somebody puts a link in the folder's place while a file in it is written: the other folder stays empty."""
        ours, theirs = self.folder / "ours", self.folder / "theirs"
        ours.mkdir()
        theirs.mkdir()
        with replacing(ours / "roster", own_folder=True) as file:
            file.write(b"here")
            ours.rename(self.folder / "moved")
            ours.symlink_to(theirs)
        self.assertEqual((self.folder / "moved/roster").read_bytes(), b"here")
        self.assertEqual(list(theirs.iterdir()), [])

    def test_where_the_single_file_unpacks_itself(self) -> None:
        """Into a cache that is this account's alone; where others can write, into a folder that goes again."""
        archive = self.folder / "program.pyz"
        with ZipFile(archive, "w") as packed:
            packed.writestr("site/scopion.py", "")
        for mode, kept in ((0o700, True), (0o777, False), (0o1777, False)):
            cache = self.folder / f"cache-{mode:o}"
            cache.mkdir()
            cache.chmod(mode)
            with ZipFile(archive) as packed, mock.patch.object(onefile_main, "cache", return_value=cache):
                folder = onefile_main.unpacked(packed, "d" * 64)
            self.assertTrue((folder / "site/scopion.py").exists())
            self.assertEqual(folder.parent == cache, kept)

    def test_drafts_of_killed_processes_go_after_a_day(self) -> None:
        """Theirs go, files of today and those of others stay."""
        for name, old in ((".a.12.draft", True), (".b.34.draft", False), ("letter.draft", True)):
            (self.folder / name).write_text("x")
            if old:
                os.utime(self.folder / name, (1, 1))
        (self.folder / ".copy-1.draft").mkdir()
        os.utime(self.folder / ".copy-1.draft", (1, 1))
        remove_old_drafts(self.folder)
        self.assertEqual(sorted(each.name for each in self.folder.iterdir()), [".b.34.draft", "letter.draft"])

    def test_a_configuration_with_a_passphrase(self) -> None:
        """An access point's file keeps its mode, and what stands beside it meanwhile is not opened to others."""
        from scopion.attachment.connect.local_programs import LocalShell

        path = self.folder / "hostapd.conf"
        path.write_text("wpa_passphrase=clay and fire\n")
        path.chmod(0o600)
        modes: set[int] = set()
        stop = threading.Event()

        def look() -> None:
            while not stop.is_set():
                for each in os.scandir(self.folder):
                    try:
                        modes.add(stat.S_IMODE(each.stat().st_mode))
                    except FileNotFoundError:
                        continue

        previous = os.umask(0)
        self.addCleanup(os.umask, previous)
        looking = threading.Thread(target=look)
        looking.start()
        shell = LocalShell.__new__(LocalShell)  # its lock on the live network is of no matter here
        try:
            for _ in range(50):
                shell.write(str(path), "wpa_passphrase=" + "clay" * 100_000)
        finally:
            stop.set()
            looking.join()
        self.assertEqual(modes, {0o600})
        with self.assertRaises(EnforcerUnreachable):
            shell.write(str(self.folder / "none/hostapd.conf"), "")


if __name__ == "__main__":
    unittest.main()
