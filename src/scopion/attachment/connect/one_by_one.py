"""Does the jobs of a shell on this very machine, one after the other: programs, files, and lines to control sockets."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Protocol

from scopion.attachment.ports import (
    CHANGED,
    NO_FILE,
    Control,
    ControlLine,
    EveryStation,
    Job,
    Program,
    Ran,
    ReadLog,
    WriteFile,
)
from scopion.model.errors import EnforcerUnreachable, InvalidMacAddress
from scopion.model.mac import MacAddress

# The standard's association identifiers end at 2007 (IEEE Std 802.11-2020, 9.4.1.8): more stations are no answer.
_MOST_STATIONS = 2007


class Files(Protocol):
    """Programs and files of this machine; each call raises EnforcerUnreachable."""

    def run(self, command: Sequence[str], stdin: str = "") -> Ran:
        """Run a program with its arguments, without a shell."""

    def read(self, path: str) -> str | None:
        """Return a file's text; None if there is no such file."""

    def write(self, path: str, text: str) -> None:
        """Replace a file's text as a whole, keeping its owner and mode."""

    def log(self, words: Sequence[str]) -> str:
        """Return the last lines of the system's log that have one of some words."""


class OneByOne:
    """The part of a ``Shell`` that does jobs; lines to control sockets stay open until it is closed."""

    def __init__(self, files: Files, open_line: Callable[[str], ControlLine]) -> None:
        self._files, self._open_line = files, open_line
        self._lines: dict[str, ControlLine] = {}
        self.remarks: list[str] = []

    def carry_out(self, jobs: Sequence[Job], begins: Callable[[int], None] = lambda _: None) -> list[Ran]:
        """Do jobs in their order. A socket that did not answer is not asked again: each time it would be waited for."""
        found: list[Ran] = []
        silent: dict[str, Ran] = {}
        for number, job in enumerate(jobs):
            socket = job.socket if isinstance(job, Control | EveryStation) else ""
            if socket in silent:
                ran = silent[socket]
            else:
                begins(number)
                try:
                    ran = self._do(job)
                except EnforcerUnreachable as error:
                    if isinstance(job, Program):  # it is not installed, or does not end
                        raise
                    ran = Ran(1, "", str(error))
                    if socket:
                        silent[socket] = ran
            found.append(ran)
            if isinstance(job, Control) and job.must and (ran.code, ran.output.strip()) != (0, job.must):
                break
        return found

    def close(self) -> None:
        """Close the lines."""
        for line in self._lines.values():
            line.close()
        self._lines.clear()

    def _do(self, job: Job) -> Ran:
        if isinstance(job, Program):
            return self._files.run(job.command, job.stdin)
        if isinstance(job, Control):
            return Ran(0, self._ask(job.socket, job.command), "")
        if isinstance(job, EveryStation):
            return Ran(0, every_station(lambda command: self._ask(job.socket, command)), "")
        if isinstance(job, WriteFile):
            return self._write(job)
        if isinstance(job, ReadLog):
            return Ran(0, self._files.log(job.words), "")
        text = self._files.read(job.path)
        return Ran(0, text, "") if text is not None else Ran(NO_FILE, "", f"there is no file {job.path}")

    def _write(self, job: WriteFile) -> Ran:
        """Write a file, and read it again: the disk of a small machine may be full."""
        if (self._files.read(job.path) or "") != job.instead_of:
            return Ran(CHANGED, "", f"{job.path} was changed by another program meanwhile")
        self._files.write(job.path, job.text)
        if self._files.read(job.path) != job.text:
            return Ran(1, "", f"{job.path} does not hold what was written into it")
        return Ran(0, "", "")

    def _ask(self, socket: str, command: str) -> str:
        line = self._lines.get(socket)
        if line is None:
            line = self._lines[socket] = self._open_line(socket)
            if line.remark and line.remark not in self.remarks:
                self.remarks.append(line.remark)
        answered = False
        try:
            reply = line.ask(command)
            answered = True
            return reply
        finally:
            if not answered:
                # Also after an interrupt: a late reply would be taken for that to the next command.
                line.close()
                self._lines.pop(socket, None)


def every_station(ask: Callable[[str], str]) -> str:
    """Return the replies about all stations, each of which begins with its address; bounded, whatever is answered."""
    replies: list[str] = []
    seen: set[MacAddress] = set()
    reply = ask("STA-FIRST")
    while len(seen) < _MOST_STATIONS:
        first = next(iter(reply.strip().splitlines()), "")
        if first in ("", "FAIL"):
            break
        replies.append(reply if reply.endswith("\n") else f"{reply}\n")
        mac = None
        with suppress(InvalidMacAddress):
            mac = MacAddress.parse(first)
        if mac is None or mac in seen:  # a daemon that repeats itself would be asked for ever
            break
        seen.add(mac)
        reply = ask(f"STA-NEXT {mac}")
    return "".join(replies)
