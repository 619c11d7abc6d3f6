"""Threads for work that waits for others: the process does not wait for them when it ends, as after an interrupt."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable
from concurrent.futures import Future
from typing import Any, TypeVar

Result = TypeVar("Result")


class Lane:
    """A thread that runs one piece of work after the other. It ends with the process, whatever it is doing then."""

    def __init__(self, name: str) -> None:
        self._work: queue.SimpleQueue[Callable[[], None] | None] = queue.SimpleQueue()
        threading.Thread(target=self._run, name=name, daemon=True).start()

    def submit(self, work: Callable[[], None] | None) -> None:
        """Run this next; None ends the thread."""
        self._work.put(work)

    def begin(self, work: Callable[..., Result], *given: Any) -> Future[Result]:
        """Run this next, for its result or its error."""
        answer: Future[Result] = Future()

        def run() -> None:
            try:
                answer.set_result(work(*given))
            except BaseException as error:
                answer.set_exception(error)

        self.submit(run)
        return answer

    def _run(self) -> None:
        while (work := self._work.get()) is not None:
            work()
