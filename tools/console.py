"""The examples in documents: each ``$ scopion`` line is run on the made-up site, and what comes back stands below it.

A fenced block that begins with ```` ```console ```` is such an example, if its first line is a command of Scopion's.
``head=N`` after the word keeps N lines of each answer. Before a block a comment says on which site it runs:

    <!-- site: begin -->      a new one, at the beginning of its story
    <!-- site: week -->       one with the week that scopion demo tells behind it
    <!-- do: scan; label 192.0.2.31 'kiln controller' -->   what is done without showing; "next" moves the story on

Without one it goes on where the block before it has ended.
"""

from __future__ import annotations

import re
import shlex
import tempfile
from collections.abc import Iterator
from pathlib import Path

from scopion.cli.begin.demo_steps import run_quietly, warm_up
from scopion.operations.begin.play_demo import begin_story, next_moment
from scopion.scenes.scene import StoryStep

_DIRECTIVE = re.compile(r"^<!-- (site|do): (.*?) -->$")
_FENCE = re.compile(r"^```console(?: head=(\d+))?$")
COLUMNS = "110"


class Examples:
    """Runs the examples of documents."""

    def __init__(self) -> None:
        self._holder = tempfile.TemporaryDirectory(prefix="scopion-docs-")
        self._base = Path(self._holder.name)
        self._number = 0
        self._site: Path | None = None
        self.ran = 0

    def close(self) -> None:
        """Remove the sites."""
        self._holder.cleanup()

    def refreshed(self, text: str) -> str:
        """Return a document with what its examples answer now. Raises AssertionError for one that fails."""
        self._site = None
        return "\n".join(self._lines(text.split("\n")))

    def _lines(self, lines: list[str]) -> Iterator[str]:
        at = 0
        while at < len(lines):
            line = lines[at]
            yield line
            at += 1
            if directive := _DIRECTIVE.match(line):
                self._do(directive[1], directive[2])
            fence = _FENCE.match(line)
            if fence and lines[at].startswith("$ scopion "):
                end = lines.index("```", at)
                head = int(fence[1]) if fence[1] else None
                for command in (each for each in lines[at:end] if each.startswith("$ scopion ")):
                    yield command
                    yield from self._answer(command.removeprefix("$ scopion "), head)
                at = end

    def _do(self, what: str, text: str) -> None:
        if what == "site":
            self._site = self._begun(text)
            return
        for each in text.split("; "):
            assert self._site is not None, "no site has been begun"
            if each == "next":
                next_moment(self._site)
            else:
                self._run(each)

    def _begun(self, which: str) -> Path:
        self._number += 1
        site = self._base / str(self._number) / "kilnhaven"
        site.parent.mkdir()
        story = begin_story(site)
        warm_up(step for moment in story.scene.moments for step in moment.steps)
        if which == "week":
            moment = story.told
            while not moment.last:
                for step in (each for each in moment.steps if not each.shows):
                    run_quietly(step, site)
                moment = next_moment(site, looking=True)
        else:
            assert which == "begin", which
        return site

    def _run(self, command: str) -> tuple[int, str]:
        assert self._site is not None, f"no site has been begun for: scopion {command}"
        comment = command.partition("   #")[0].strip()
        self.ran += 1
        return run_quietly(StoryStep("", tuple(shlex.split(comment))), self._site, shown=COLUMNS)

    def _answer(self, command: str, head: int | None) -> Iterator[str]:
        code, said = self._run(command)
        assert code in (0, 3), f"scopion {command} ended with {code}: {said}"
        assert self._site is not None
        lines = [line.rstrip() for line in said.replace(str(self._site), "~/kilnhaven").strip("\n").split("\n")]
        shown = lines if head is None or len(lines) <= head else [*lines[:head], "..."]
        yield from (line for line in shown if line or len(shown) > 1)
