"""Completion in real shells, at a pseudo-terminal: what Tab makes of a word is what the program is given."""

from __future__ import annotations

import os
import pty
import re
import select
import shutil
import time
import unittest
from collections.abc import Callable, Sequence

from click.shell_completion import CompletionItem

from scopion.cli.completion import PowerShell
from scopion.cli.main import cli
from tests.support import PROGRAM, PreparedTest, ProgramTest

SHELLS = {
    "bash": ("--norc", "--noprofile", "-i"),
    "zsh": ("-f", "-i"),
    "fish": ("--no-config", "-i"),
}
# Prints its arguments in place of running the program; the marks are put together, for the terminal echoes the line.
_SHOW = """show() { shift; printf 'ar''gs'; printf '<%s>' "$@"; printf 'do''ne\\n'; }; printf 'rea''dy\\n'"""
_START = {
    "bash": f'eval "$(_SCOPION_COMPLETE=bash_source scopion)"; {_SHOW}',
    "zsh": f'autoload -Uz compinit && compinit -u -D; eval "$(_SCOPION_COMPLETE=zsh_source scopion)"; {_SHOW}',
    "fish": "_SCOPION_COMPLETE=fish_source scopion | source; function show; printf 'ar''gs'; "
    "printf '<%s>' $argv[2..]; printf 'do''ne\\n'; end; printf 'rea''dy\\n'",
}
_HOSTILE = "paper $(id >&2) `id`; 'quoted'"
# Labels such as any host may call itself: bare, each would run something, expand, end a word or be an option.
_NAMES = {
    "192.0.2.32": "printer$(id)",
    "192.0.2.40": "~root",
    "192.0.2.61": "one, two & three | four",
    "192.0.2.62": 'five"six" \\ {a,b} *',
    "192.0.2.70": "--yes",
}


class Tab(PreparedTest):
    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        site.begin()
        site.run_ok("scan")
        site.run_ok("label", "192.0.2.31", "kiln controller")
        site.run_ok("label", "192.0.2.20", _HOSTILE)
        for address, name in _NAMES.items():
            site.run_ok("label", address, "--", name)
        site.run_ok("wifi", "deny", "Kiln Café", "192.0.2.61", "--new")

    def completed(self, shell: str, lines: Sequence[str]) -> list[list[str]]:
        """For each line the arguments that the program would be given after Tab."""
        # The program, which leaves a mark when it has told the shell what there is.
        told = self.folder / "told"
        wrapped = self.folder / "scopion"
        wrapped.write_text(f'#!/bin/sh\n"{PROGRAM}" "$@"\ntouch "{told}"\n', encoding="utf-8")
        wrapped.chmod(0o755)
        child, terminal = pty.fork()
        if child == 0:
            environment = {
                "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces", "TERM": "xterm", "PS1": "$ ",
                "HOME": str(self.folder), "PATH": f"{self.folder}:/usr/bin:/bin", "LANG": "C.UTF-8",
            }  # fmt: skip
            os.execve(str(shutil.which(shell)), [shell, *SHELLS[shell]], environment)
        shown, seen = "", 0

        def wait_until(comes: Callable[[], bool]) -> None:
            nonlocal shown
            deadline = time.monotonic() + 30
            while not comes():
                self.assertLess(time.monotonic(), deadline, shown)
                if select.select([terminal], [], [], 0.05)[0]:
                    shown += os.read(terminal, 65_536).decode("utf-8", "replace")

        os.write(terminal, f"{_START[shell]}\n".encode())
        wait_until(lambda: "ready" in shown)
        for typed in lines:
            told.unlink(missing_ok=True)
            seen = len(shown)
            os.write(terminal, f"scopion {typed}\t".encode())
            wait_until(told.exists)
            time.sleep(0.4)  # nothing tells when the shell has put it into the line
            os.write(terminal, b"\x01show \x05\n")
            wait_until(lambda: "done" in shown[seen:])  # noqa: B023 - called before the next turn
        os.write(terminal, b"exit\n")
        os.close(terminal)
        os.waitpid(child, 0)
        self.assertNotIn("uid=", shown)
        given = re.findall(r"args(.*)done", shown)
        return [re.findall(r"<([^<>]*(?:>&2[^<>]*)?)>", arguments) for arguments in given]

    def test_labels_addresses_and_networks(self) -> None:
        """Blanks, colons, quotes and what a shell would run come whole, whatever quote was begun; nothing is run."""
        cases = {
            "label kiln": ["label", "kiln controller"],
            "label 'kiln": ["label", "kiln controller"],
            'label "kiln': ["label", "kiln controller"],
            "label kiln\\ c": ["label", "kiln controller"],
            "label 24:d3:a1": ["label", "24:d3:a1:20:7e:14"],
            "mark 48:d0:c4:01:22:31 24:": ["mark", "48:d0:c4:01:22:31", "24:d3:a1:20:7e:14"],
            "label pape": ["label", _HOSTILE],
            "label printer": ["label", "printer$(id)"],
            "label \\~roo": ["label", "~root"],
            "label one": ["label", "one, two & three | four"],
            "label five": ["label", 'five"six" \\ {a,b} *'],
            "label -- --ye": ["label", "--", "--ye"],
            "wifi mode Kiln\\ ": ["wifi", "mode", "Kiln Café"],
        }
        for shell in SHELLS:
            if shutil.which(shell) is None:
                if os.environ.get("CI"):
                    self.fail(f"{shell} is not installed; in CI this may not be skipped")
                self.skipTest(f"{shell} is not installed")
            for typed, given in zip(cases, self.completed(shell, list(cases)), strict=True):
                with self.subTest(shell=shell, typed=typed):
                    self.assertEqual(given, cases[typed])

    def test_power_shell_is_offered_texts_that_it_does_not_read(self) -> None:
        """No PowerShell is at hand: held against its grammar, in which a text in single quotes is never expanded."""
        item = PowerShell(cli, {}, "scopion", "_SCOPION_COMPLETE").format_completion
        for name, offered in (("till", "till"), ("a$(id)", "'a$(id)'"), ("it's; id", "'it''s; id'"), ("@x", "'@x'")):
            self.assertEqual(item(CompletionItem(name)).splitlines()[1], offered)


if __name__ == "__main__":
    unittest.main()
