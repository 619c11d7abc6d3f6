"""The whole story: told to its end, the same each time, chapter by chapter, and gone when it is over."""

from __future__ import annotations

import os
import pty
import re
import select
import signal
import subprocess
import time
import unittest

from scopion.scenes.scene import load_scene
from tests.support import PROGRAM, ProgramTest


class Told(ProgramTest):
    def test_it_is_told_to_its_end_and_the_same_each_time(self) -> None:
        """Twelve chapters with the real commands; another folder, user and order of hashing change nothing but paths.

        It ends with a report in the folder, which goes on working.
        """
        stories, pages = [], []
        for number, user in ((1, "one"), (2, "two")):
            self.site = self.folder / f"site-{number}"
            told = self.run_program("demo", "--keep", str(self.site), within=900, PYTHONHASHSEED=str(number), USER=user)
            self.assertEqual(told.returncode, 0, told.stderr)
            stories.append(told.stdout.replace(str(self.site), "SITE"))
            pages.append((self.site / "report.html").read_bytes())
        self.assertEqual(*stories)
        self.assertEqual(*pages)
        story = stories[0]
        scene = load_scene("kilnhaven")
        titles = re.findall(r"^ \d+  (.*?) $", story, re.MULTILINE)
        self.assertEqual(titles, [each.title for each in scene.chapters])
        typed = re.findall(r"^\$ scopion (.*)", story, re.MULTILINE)
        self.assertEqual([line.split()[0] for line in typed if line.startswith("scan")], ["scan"] * 6)
        self.assertIn("A0-B4-D7-66-19-04", story)
        self.assertIn("workshop access point disconnects it at once", story)
        self.assertIn("till is essential", story)
        self.assertIn("2.4 GHz: remove from its deny list, and save: 60-F2-A7-71-00-3D", story)  # in the message
        pasted, later = story.split("Connected devices")[1:]
        self.assertEqual(["games-console" in each for each in (pasted, later)], [False, True])
        self.assertEqual(story.count("The list of 'Kilnhaven guests' is in force"), 2)
        self.assertIn("A0-B4-D7-66-19-04", (self.site / "router-page.html").read_text(encoding="utf-8"))
        self.assertRegex(story, r"17:30:00  push \d \(hours\): .* 2 removed")
        self.assertEqual(typed[-1], "report --html report.html")
        self.assertEqual(len(self.run_json("devices")), 27)
        places = {tuple(each["places"]) for each in self.run_json("devices")}
        self.assertEqual(places, {("workshop",), ("clay pit",), ()})  # two are known by access points only
        codes = [self.run_program("demo", "--next", str(self.site)).returncode for _ in range(3)]
        self.assertEqual(codes, [0, 0, 3])
        self.refused(2, "demo", "--begin", str(self.site))

    def test_each_step_has_a_sentence(self) -> None:
        """The story says before each command why it is typed; chapters begin in their order."""
        scene = load_scene("kilnhaven")
        steps = [step for moment in scene.moments for step in moment.steps]
        self.assertEqual([step.command for step in steps if not step.says], [])
        begun = [step.chapter for step in steps if step.chapter]
        self.assertEqual(begun, [each.name for each in scene.chapters])

    def test_one_chapter_alone(self) -> None:
        """What comes before it is played without showing; it is found by name, its beginning, or number."""
        listed = self.run_ok("demo", "--list").splitlines()
        self.assertEqual(len(listed), 13)
        self.assertIn("power-cut", listed[3])
        told = self.run_ok("demo", "--chapter", "power", within=120)
        typed = re.findall(r"^\$ scopion (.*)", told, re.MULTILINE)
        self.assertEqual(typed, ["scan", "label 192.0.2.91 'apprentice telephone' --owner 'the apprentice'"])
        self.assertIn("two adapters use one address", told)
        self.assertIn(" 2  Look: what is here?", self.run_ok("demo", "--chapter", "look"))
        self.assertIn("there is no chapter 'x': arrive, look,", self.refused(2, "demo", "--chapter", "x"))
        self.assertIn("goes with --keep", self.refused(2, "demo", "--chapter", "1", "--begin", str(self.site)))

    def test_it_leaves_nothing(self) -> None:
        """Told in a folder of its own, which is gone afterwards, also when somebody has heard enough."""
        temporary = self.folder / "tmp"
        temporary.mkdir()
        process = subprocess.Popen(
            [PROGRAM, "demo"], env={**os.environ, "TMPDIR": str(temporary)}, stdout=subprocess.PIPE, text=True
        )
        assert process.stdout is not None
        for line in iter(process.stdout.readline, ""):
            if line.startswith("$ scopion scan"):
                break
        self.assertEqual(len(list(temporary.iterdir())), 1)
        process.send_signal(signal.SIGINT)
        process.communicate(timeout=30)
        self.assertEqual(list(temporary.iterdir()), [])

    def test_in_a_terminal_it_waits_between_chapters(self) -> None:
        """A key goes on to the next one, q ends the story well."""
        child, terminal = pty.fork()
        if child == 0:
            os.execve(PROGRAM, [PROGRAM, "demo"], {**os.environ, "TERM": "xterm", "TMPDIR": str(self.folder)})
        seen = ""
        for key in ("x", "q"):
            seen += self._until(terminal, "q ends here. ")
            time.sleep(0.5)  # what is typed before it reads is thrown away
            os.write(terminal, key.encode())
        seen += self._until(terminal, "\0")
        _, status = os.waitpid(child, 0)
        os.close(terminal)
        self.assertEqual(os.waitstatus_to_exitcode(status), 0, seen[-1000:])
        self.assertIn("Look: what is here?", seen)
        self.assertNotIn("Recognise", seen)
        self.assertEqual(list(self.folder.iterdir()), [])

    def _until(self, terminal: int, text: str) -> str:
        """What comes until some text, or the end."""
        seen, deadline = "", time.monotonic() + 60
        while text not in seen and time.monotonic() < deadline:
            ready, _, _ = select.select([terminal], [], [], 0.2)
            try:
                part = os.read(terminal, 65536).decode(errors="replace") if ready else ""
            except OSError:  # the program has ended
                break
            seen += part
        return seen


if __name__ == "__main__":
    unittest.main()
