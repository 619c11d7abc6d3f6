"""Completion in real shells, at a pseudo-terminal: what Tab makes of a word is what the program is given."""

from __future__ import annotations

import os
import pty
import re
import select
import shutil
import time
import unittest
from pathlib import Path

from tests.support import PROGRAM, PreparedTest, ProgramTest

SHELLS = {
    "bash": ("--norc", "--noprofile", "-i"),
    "zsh": ("-f", "-i"),
}
# Prints its arguments in place of running the program; the marks are put together, for the terminal echoes the line.
_SHOW = """show() { shift; printf 'ar''gs'; printf '<%s>' "$@"; printf 'do''ne\\n'; }; printf 'rea''dy\\n'"""
_HOSTILE = "paper $(id >&2) `id`; 'quoted'"


class Tab(PreparedTest):
    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        site.begin()
        site.run_ok("scan")
        site.run_ok("label", "192.0.2.31", "kiln controller")
        site.run_ok("label", "192.0.2.20", _HOSTILE)
        site.run_ok("wifi", "deny", "Kiln Café", "192.0.2.61", "--new")

    def completed(self, shell: str, typed: str) -> list[str]:
        """The arguments that the program would be given after Tab."""
        child, terminal = pty.fork()
        if child == 0:
            environment = {
                "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces", "TERM": "xterm", "PS1": "$ ",
                "HOME": str(self.folder), "PATH": f"{Path(PROGRAM).parent}:/usr/bin:/bin", "LANG": "C.UTF-8",
            }  # fmt: skip
            os.execve(str(shutil.which(shell)), [shell, *SHELLS[shell]], environment)
        shown = ""

        def wait_for(words: str) -> None:
            nonlocal shown
            deadline = time.monotonic() + 20
            while words not in shown:
                self.assertLess(time.monotonic(), deadline, shown)
                if select.select([terminal], [], [], 0.1)[0]:
                    shown += os.read(terminal, 65_536).decode("utf-8", "replace")

        start = "autoload -Uz compinit && compinit -u -D; " if shell == "zsh" else ""
        os.write(terminal, f'{start}eval "$(_SCOPION_COMPLETE={shell}_source scopion)"; {_SHOW}\n'.encode())
        wait_for("ready")
        shown = ""
        os.write(terminal, f"scopion {typed}\t".encode())
        time.sleep(1.2)  # nothing tells when a shell has completed
        os.write(terminal, b"\x01show \x05\n")
        wait_for("done")
        os.write(terminal, b"exit\n")
        os.close(terminal)
        os.waitpid(child, 0)
        (arguments,) = re.findall(r"args(.*)done", shown)
        self.assertNotIn("uid=", shown)
        return re.findall(r"<([^<>]*(?:>&2[^<>]*)?)>", arguments)

    def test_labels_addresses_and_networks(self) -> None:
        """Blanks, colons, quotes and what a shell would run come whole, whatever quote was begun; nothing is run."""
        for shell in SHELLS:
            if shutil.which(shell) is None:
                if os.environ.get("CI"):
                    self.fail(f"{shell} is not installed; in CI this may not be skipped")
                self.skipTest(f"{shell} is not installed")
            for typed, wanted in (
                ("label kiln", ["label", "kiln controller"]),
                ("label 'kiln", ["label", "kiln controller"]),
                ('label "kiln', ["label", "kiln controller"]),
                ("label kiln\\ c", ["label", "kiln controller"]),
                ("label 24:d3:a1", ["label", "24:d3:a1:20:7e:14"]),
                ("mark 48:d0:c4:01:22:31 24:", ["mark", "48:d0:c4:01:22:31", "24:d3:a1:20:7e:14"]),
                ("label pape", ["label", _HOSTILE]),
                ("wifi mode Kiln\\ ", ["wifi", "mode", "Kiln Café"]),
            ):
                with self.subTest(shell=shell, typed=typed):
                    self.assertEqual(self.completed(shell, typed), wanted)


if __name__ == "__main__":
    unittest.main()
