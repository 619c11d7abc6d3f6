"""What several tests share: running the installed program on a folder, and small made-up segments."""

from __future__ import annotations

import io
import json
import os
import pty
import select
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from abc import abstractmethod
from collections.abc import Sequence
from contextlib import redirect_stderr, redirect_stdout
from datetime import UTC, datetime
from functools import cache
from ipaddress import IPv4Address, IPv4Interface
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from scopion.attachment.ports import Interface
from scopion.cli import main
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.operations.site.open_site import Site
from scopion.scenes.attachment import SceneAttachment
from scopion.scenes.scene import Period, Scene, SceneHost, SceneMoment
from tests.starter import Starter

PROGRAM = str(Path(sys.executable).with_name("scopion"))
ROOT = Path(__file__).parent.parent
NOON = datetime(2026, 9, 14, 12, tzinfo=UTC)


class Terminal(io.StringIO):
    """A stream that says it is a terminal, so that nothing is taken away from what is printed."""

    encoding = "utf-8"

    def isatty(self) -> bool:
        return True


def played(site: Path, arguments: Sequence[str]) -> tuple[int, str, str]:
    """Run a command in this process, in a terminal: its exit code, and what it prints. Raises what that lets out."""
    out, err = Terminal(), Terminal()
    with (
        mock.patch.dict("os.environ", {"SCOPION_SITE": str(site), "COLUMNS": "200"}),
        mock.patch.object(sys, "stdin", io.StringIO()),
        redirect_stdout(out),
        redirect_stderr(err),
    ):
        try:
            code = main.run(list(arguments))
        except SystemExit as ended:
            code = int(ended.code or 0)
    return code, out.getvalue(), err.getvalue()


@cache
def starter() -> Starter:
    """What starts the program for the tests of this process."""
    return Starter()


class FolderTest(unittest.TestCase):
    """A test with a temporary folder of its own."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)


class ProgramTest(FolderTest):
    """A test that runs the installed program as a user does, on the made-up site unless it says otherwise."""

    def setUp(self) -> None:
        super().setUp()
        self.site = self.folder / "site"

    def begin(self) -> None:
        """Put the made-up site into the folder, at the beginning of its story."""
        self.run_ok("demo", "--begin", str(self.site))

    def run_program(
        self, *arguments: str, stdin: str = "", within: float = 60, **environment: str
    ) -> subprocess.CompletedProcess[str]:
        """Run the program; never a traceback, whatever it is given."""
        live = {"SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces"}
        ended = starter().run(PROGRAM, arguments, stdin, {**os.environ, **live, **environment}, within)
        self.assertNotIn("Traceback", ended.stderr, f"scopion {arguments}")
        return ended

    def run_ok(self, *arguments: str, stdin: str = "", within: float = 60) -> str:
        """Run the program, which must succeed; its standard output."""
        ended = self.run_program(*arguments, stdin=stdin, within=within)
        self.assertEqual(ended.returncode, 0, f"scopion {arguments}: {ended.stderr}")
        return ended.stdout

    def run_json(self, *arguments: str) -> Any:
        """Run the program for JSON."""
        return json.loads(self.run_ok(*arguments, "--format", "json"))

    def refused(self, code: int, *arguments: str, stdin: str = "", **environment: str) -> str:
        """Run the program, which must end with ``code`` and one line on standard error; that line."""
        ended = self.run_program(*arguments, stdin=stdin, within=60, **environment)
        self.assertEqual(ended.returncode, code, f"scopion {arguments}: {ended.stderr}")
        lines = ended.stderr.strip().splitlines()
        self.assertEqual(len(lines), 1, ended.stderr)
        self.assertTrue(lines[0].startswith("scopion: "), lines[0])
        return lines[0]

    def in_terminal(
        self, *arguments: str, answers: Sequence[tuple[str, str]] = (), **environment: str
    ) -> tuple[int, str]:
        """Run the program in a terminal, and answer each question, known by a part of it; its exit code and what was
        shown. A question that is not expected is not answered, and fails. Ctrl-C is a key alone.
        """
        live = {"SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces", "TERM": "xterm", "COLUMNS": "200"}
        child, terminal = pty.fork()
        if child == 0:
            os.execve(PROGRAM, [PROGRAM, *arguments], {**os.environ, **live, **environment})
        shown = ""
        for question, said in answers:
            shown += _read_until(terminal, question)
            self.assertIn(question, shown, shown[-600:])
            time.sleep(0.1)  # who reads a single key throws away what was typed before
            os.write(terminal, (said if said == "\x03" else f"{said}\n").encode())
        shown += _read_until(terminal, "\0")
        os.close(terminal)  # whoever still asks is ended by that
        _, status = os.waitpid(child, 0)
        self.assertNotIn("Traceback", shown)
        return os.waitstatus_to_exitcode(status), shown.replace("\r\n", "\n")

    def opened(self) -> Site:
        """The site itself, for what no command shows or sets."""
        site = Site(self.site)
        self.addCleanup(site.close)
        return site


class PreparedTest(ProgramTest):
    """A test on a site that is played once for the class, and copied for each of its tests."""

    prepared: ClassVar[Path]

    @classmethod
    @abstractmethod
    def prepare(cls, site: ProgramTest) -> None:
        """Play what all of the tests begin with."""

    @classmethod
    def setUpClass(cls) -> None:
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.prepared = Path(holder.name) / "site"
        played = ProgramTest()
        played.site = cls.prepared
        cls.prepare(played)

    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(self.prepared, self.site)


def _read_until(terminal: int, text: str) -> str:
    """What a terminal shows until a text, or the end of its process; at most for a while."""
    seen, deadline = "", time.monotonic() + 30
    while text not in seen and time.monotonic() < deadline:
        ready, _, _ = select.select([terminal], [], [], 0.2)
        try:
            seen += os.read(terminal, 65_536).decode(errors="replace") if ready else ""
        except OSError:  # the program has ended
            break
    return seen


def made_up(hosts: Sequence[SceneHost], medium: Medium = Medium.CABLE, seed: int = 1) -> SceneAttachment:
    """A machine at 192.0.2.10 on a segment with these hosts."""
    interface = Interface(
        name="eth0",
        index=2,
        mac=MacAddress.parse("60:f2:a7:10:00:0a"),
        addresses=(IPv4Interface("192.0.2.10/24"),),
        up=True,
        medium=medium,
        gateway=IPv4Address("192.0.2.1"),
    )
    scene = Scene("test", "test", seed, None, (interface,), tuple(hosts), (SceneMoment(NOON, ""),))
    return SceneAttachment(scene, NOON)


def host(number: int, *, rtt_s: float = 0.002, loss: float = 0.0, doze_s: float = 0.0) -> SceneHost:
    """A host at 192.0.2.<number>."""
    return SceneHost(
        name=f"host {number}",
        mac=MacAddress(bytes([0x10, 0xC0, 0xDE, 0, 0, number])),
        medium=Medium.CABLE,
        periods=(Period(IPv4Address(f"192.0.2.{number}")),),
        rtt_s=rtt_s,
        loss=loss,
        doze_s=doze_s,
    )
