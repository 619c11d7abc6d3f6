"""The installed program in a namespace of a lab, on a site folder of each test."""

from __future__ import annotations

import json
import os
import subprocess
import unittest
from pathlib import Path
from typing import Any, ClassVar

from tests.lab.lab import PROGRAM, Lab


class InTheLab(unittest.TestCase):
    """A subclass builds the lab and its folder, once for the class."""

    lab: ClassVar[Lab]
    folder: ClassVar[Path]
    within_s = 60  # that the program may take

    def setUp(self) -> None:
        self.site = self.folder / self._testMethodName
        self.site.mkdir()
        self.where = "desk"

    def scopion(self, *arguments: str, stdin: str = "") -> subprocess.CompletedProcess[str]:
        """Run the program in a namespace, at the desk or on the access point itself."""
        ended = subprocess.run(
            ["ip", "netns", "exec", self.lab.namespace(self.where), PROGRAM, *arguments],
            env={**os.environ, "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces", "HOME": str(self.site)},
            input=stdin, capture_output=True, text=True, timeout=self.within_s, check=False,
        )  # fmt: skip
        self.assertNotIn("Traceback", ended.stderr)
        return ended

    def ok(self, *arguments: str) -> str:
        ended = self.scopion(*arguments)
        self.assertEqual(ended.returncode, 0, f"{arguments}: {ended.stderr}{ended.stdout}")
        return ended.stdout

    def fails(self, *arguments: str, code: int = 1) -> str:
        """One line on standard error."""
        ended = self.scopion(*arguments)
        self.assertEqual(ended.returncode, code, f"{arguments}: {ended.stderr}{ended.stdout}")
        lines = [line for line in ended.stderr.splitlines() if line.startswith("scopion: ")]
        self.assertEqual(len(lines), 1, ended.stderr)
        return lines[0]

    def json(self, *arguments: str) -> Any:
        return json.loads(self.ok(*arguments, "--format", "json"))

    def settings(self, text: str) -> None:
        (self.site / "site.toml").write_text(text, encoding="utf-8")
