"""The first evening on a real segment: setup finds it, writes it, scans it; then map and report show it."""

from __future__ import annotations

import json
import os
import subprocess
import tempfile
import tomllib
import unittest
from pathlib import Path
from typing import ClassVar

from tests.lab.lab import PROGRAM, Lab, LabHost, require_lab

GATEWAY = LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",))
TILL = LabHost("till", "54:b1:a3:7c:00:50", ("192.0.2.50",))


class FirstSteps(unittest.TestCase):
    lab: ClassVar[Lab]

    @classmethod
    def setUpClass(cls) -> None:
        require_lab()
        cls.lab = Lab([GATEWAY, TILL])
        cls.addClassCleanup(cls.lab.close)

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.site = Path(holder.name) / "site"

    def at_the_desk(self, *arguments: str) -> str:
        """Run the program there; it must succeed."""
        command = ["ip", "netns", "exec", self.lab.namespace("desk"), PROGRAM, "--site", str(self.site), *arguments]
        ended = subprocess.run(command, capture_output=True, text=True, check=False, timeout=60, env=os.environ)
        self.assertEqual(ended.returncode, 0, ended.stderr)
        return ended.stdout

    def test_from_nothing_to_a_report(self) -> None:
        """What the kernel tells is proposed, what answers is the baseline, and what is proposed next can be typed."""
        self.at_the_desk("setup", "--yes", "--name", "Lab")
        written = tomllib.loads((self.site / "site.toml").read_text(encoding="utf-8"))
        self.assertEqual(written["subnet"], [{"range": "192.0.2.0/24", "name": "main", "interval_s": 60}])
        used = [each for each in json.loads(self.at_the_desk("map", "--format", "json")) if each["use"] == "used-now"]
        self.assertEqual([each["address"] for each in used], ["192.0.2.1", "192.0.2.10", "192.0.2.50"])
        rows = json.loads(self.at_the_desk("report", "--table", "devices", "--format", "json"))
        self.assertEqual({each["present"] for each in rows}, {True})
        self.assertEqual(len(rows), 3)
        page = self.site / "report.html"
        self.at_the_desk("report", "--html", str(page))
        self.assertIn(TILL.mac, page.read_text(encoding="utf-8"))
        self.at_the_desk("mark", "--all-present", "known")
        says = {
            each["says"] for each in json.loads(self.at_the_desk("report", "--table", "attention", "--format", "json"))
        }
        self.assertFalse([each for each in says if "looked at" in each], says)


if __name__ == "__main__":
    unittest.main()
