"""Programs, files and control sockets as a sensor reaches them, behind the protocol of all shells."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from scopion.attachment.orders.order import Jobs, ModeOf
from scopion.attachment.orders.order_line import OrderLine
from scopion.attachment.ports import Control, Job, Ran
from scopion.model.errors import EnforcerUnreachable


class SensorShell:
    """Implements ``Shell`` for one enforcer in the place of a sensor."""

    def __init__(self, line: OrderLine, enforcer: str) -> None:
        self._line, self._enforcer = line, enforcer
        self.remarks: list[str] = []

    def carry_out(self, jobs: Sequence[Job], begins: Callable[[int], None] = lambda _: None) -> list[Ran]:
        """Do all jobs by one order. If its answer does not come, each of them may have been done."""
        sent: list[bool] = []
        try:
            answer = self._line.ask(self._enforcer, Jobs(tuple(jobs)), lambda: sent.append(True))
            if answer.failed:
                raise EnforcerUnreachable(answer.failed)
        except BaseException:
            for number in range(len(jobs)) if sent else ():
                begins(number)
            raise
        found = list(answer.ran)
        for number in range(len(found)):
            begins(number)
        last = jobs[len(found) - 1] if found else None
        stopped = isinstance(last, Control) and last.must and found[-1].output.strip() != last.must
        if len(found) != len(jobs) and not stopped:
            raise EnforcerUnreachable(f"{self._enforcer}: what it was to do was not done whole")
        return found

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """Return a file's mode bits and its group."""
        return self._line.ask(self._enforcer, ModeOf(path)).mode

    def close(self) -> None:
        """Do nothing: the connection is kept as long as the site is open."""
