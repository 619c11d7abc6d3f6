"""A site's folder that the service and administrators share: of one group, whose members have the same commands.

What is made is handed to another owner after each step, so that everything is reached by the group's rights alone.
"""

from __future__ import annotations

import json
import os
import subprocess
import unittest

from tests.lab.lab import DROP_CAPABILITIES, require_lab
from tests.support import PROGRAM, ProgramTest

GROUP, OTHER_GROUP, OWNER = 64010, 64011, 64001


class SharedFolder(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        require_lab()
        self.begin()
        (self.site / "site.toml").write_text('[[channel]]\nname = "book"\ntype = "file"\npath = "book.jsonl"\n')
        for path in self.site.rglob("*"):
            path.chmod(0o2770 if path.is_dir() else 0o660)
        self.folder.chmod(0o755)
        self.site.chmod(0o2770)
        self.hand_over()

    def hand_over(self) -> None:
        """Everything belongs to somebody else of the group now."""
        for path in (self.site, *self.site.rglob("*")):
            os.chown(path, OWNER, -1 if path != self.site and path.stat().st_gid == GROUP else GROUP)

    def as_member(self, *arguments: str, group: int = GROUP) -> subprocess.CompletedProcess[str]:
        """Run a command without any privilege, as one of a group."""
        ended = subprocess.run(
            ["setpriv", f"--groups={group}", *DROP_CAPABILITIES[1:], PROGRAM, *arguments],
            capture_output=True, text=True, timeout=60, check=False, umask=0o077,
            env={**os.environ, "SCOPION_SITE": str(self.site)},
        )  # fmt: skip
        if group == GROUP:
            self.hand_over()
        return ended

    def test_all_of_the_group_use_the_same_commands(self) -> None:
        """The service's round, an administrator's changes, and the next round; no other account reads a line."""
        for arguments in (
            ("watch", "--once"),
            ("mark", "192.0.2.31", "known"),
            ("label", "192.0.2.31", "kiln controller"),
            ("alerts", "mute", "kiln controller", "--for", "2 days"),
            ("watch", "--once"),
            ("undo", "--yes"),
            ("roster", "check"),
        ):
            ended = self.as_member(*arguments)
            self.assertEqual(ended.returncode, 0, (arguments, ended.stderr))
        (device,) = json.loads(self.as_member("devices", "kiln", "controller", "--format", "json").stdout)
        self.assertEqual((device["name"], device["standing"]), ("kiln controller", "known"))
        self.assertIn("Nothing is muted", self.as_member("alerts", "mute").stderr)
        stranger = self.as_member("devices", group=OTHER_GROUP)
        self.assertEqual((stranger.returncode, stranger.stdout, len(stranger.stderr.splitlines())), (1, "", 1))


if __name__ == "__main__":
    unittest.main()
