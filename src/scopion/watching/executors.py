"""Runs work that takes time - sweeping, asking, delivering - while the watch goes on deciding.

``ThreadExecutor`` runs it beside the watch, each lane one thing at a time. ``InlineExecutor`` runs it at once and in
order, so that a scene with its virtual clock plays weeks in seconds, the same every time. The watch cannot tell which
of them it has.
"""

from __future__ import annotations

import contextlib
import queue
import threading
from collections import Counter, deque
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from scopion.attachment.lane import Lane
from scopion.attachment.ports import Attachment
from scopion.attachment.system_clock import pass_time
from scopion.model.errors import place_of
from scopion.watching.interface_listener import InterfaceListener

# Several listeners in one thread take turns of this length.
_TURN_S = 1.0


@dataclass(frozen=True, slots=True)
class Done:
    """A piece of work that has ended; ``finish`` is handed its result, or the error that ended it."""

    lane: str
    finish: Callable[[Any, BaseException | None], None]
    result: Any = None
    error: BaseException | None = None


Work = Callable[[], Any]
Finish = Callable[[Any, BaseException | None], None]
Contained = Callable[[str], contextlib.AbstractContextManager[None]]


class Executor(Protocol):
    """Runs work in lanes, and waits."""

    def start(self, lane: str, work: Work, finish: Finish) -> None:
        """Run a piece of work after the earlier ones of its lane; ``finished`` calls ``finish``."""

    def busy(self, lane: str) -> bool:
        """Tell whether a lane has work, or a result that was not reported."""

    def finished(self, contained: Contained) -> None:
        """Call ``finish`` of the work that has ended, each lane within ``contained``, so that an error stays in its
        lane.
        """

    def attend(self, listener: InterfaceListener) -> None:
        """Let a listener listen from now on."""

    def neglect(self, listener: InterfaceListener) -> None:
        """Stop a listener."""

    def wait(self, until: float) -> None:
        """Return at a monotonic moment, or sooner if something was done or heard."""

    def wake(self) -> None:
        """End the current wait; safe in a signal handler and in other threads."""

    def close(self, within_s: float, worth_waiting: Callable[[str], bool] = lambda _: True) -> None:
        """Start nothing more, and give running work in some lanes a time to end."""


class ThreadExecutor:
    """Implements ``Executor`` with a thread for each lane and each listener."""

    def __init__(self, attachment: Attachment) -> None:
        self._clock = attachment.clock
        self._lanes: dict[str, Lane] = {}
        self._closed = False
        self._open: Counter[str] = Counter()
        self._done: queue.SimpleQueue[Done | None] = queue.SimpleQueue()
        self._later: deque[Done] = deque()
        self._listeners: set[InterfaceListener] = set()

    def start(self, lane: str, work: Work, finish: Finish) -> None:
        """Run it in the lane's own thread."""
        if lane not in self._lanes:
            self._lanes[lane] = Lane(lane)
        self._open[lane] += 1

        def run() -> None:
            if self._closed:
                self._done.put(Done(lane, lambda _, __: None))
                return
            try:
                self._done.put(Done(lane, finish, work()))
            except BaseException as error:
                self._done.put(Done(lane, finish, None, error))

        self._lanes[lane].submit(run)

    def busy(self, lane: str) -> bool:
        """Tell whether it has anything that was not reported yet."""
        return self._open[lane] > 0

    def finished(self, contained: Contained) -> None:
        """Call ``finish`` in the order in which the work ended."""
        with contextlib.suppress(queue.Empty):
            while True:
                done = self._done.get_nowait()
                if done is not None:
                    self._later.append(done)
        while self._later:
            done = self._later.popleft()
            self._open[done.lane] -= 1
            with contained(done.lane):
                done.finish(done.result, done.error)

    def attend(self, listener: InterfaceListener) -> None:
        """Run it in a thread of its own: it must not miss a frame while a sweep is folded."""
        lane = f"ear {listener.interface.name}"
        self._open[lane] += 1

        def run() -> None:
            try:
                listener.run()
                self._done.put(Done(lane, _ended))
            except BaseException as error:  # told where the watch waits: otherwise it would be deaf unnoticed
                listener.lost = place_of(error)  # and opened again
                self._done.put(Done(lane, _ended, None, error))

        self._listeners.add(listener)
        threading.Thread(target=run, name=lane, daemon=True).start()

    def neglect(self, listener: InterfaceListener) -> None:
        """Stop it; its thread ends within half a second."""
        listener.stop()
        self._listeners.discard(listener)

    def wait(self, until: float) -> None:
        """Wait for the first thing that is done or heard."""
        left = until - self._clock.monotonic()
        if left <= 0:
            return
        with contextlib.suppress(queue.Empty):
            done = self._done.get(timeout=left)
            if done is not None:
                self._later.append(done)

    def wake(self) -> None:
        """Put a sign into the queue."""
        self._done.put(None)

    def close(self, within_s: float, worth_waiting: Callable[[str], bool] = lambda _: True) -> None:
        """Leave behind what has not ended by then: the process ends."""
        for listener in list(self._listeners):
            self.neglect(listener)
        self._closed = True
        for lane in self._lanes.values():
            lane.submit(None)
        deadline = self._clock.monotonic() + within_s
        while any(map(worth_waiting, +self._open)) and self._clock.monotonic() < deadline:
            self.wait(min(deadline, self._clock.monotonic() + 0.1))
            self.finished(lambda _: contextlib.suppress(Exception))  # the watch ends: there is nothing to retry


def _ended(result: Any, error: BaseException | None) -> None:
    """Report the error of a listener that has ended."""
    if error is not None:
        raise error


class InlineExecutor:
    """Implements ``Executor`` in the thread of the watch, on the attachment's clock."""

    def __init__(self, attachment: Attachment) -> None:
        self._clock = attachment.clock
        self._listeners: list[InterfaceListener] = []
        self._done: deque[Done] = deque()
        self._awake = False

    def start(self, lane: str, work: Work, finish: Finish) -> None:
        """Run it at once."""
        try:
            self._done.append(Done(lane, finish, work()))
        except Exception as error:
            self._done.append(Done(lane, finish, None, error))

    def busy(self, lane: str) -> bool:
        """Tell whether something was not reported yet."""
        return any(done.lane == lane for done in self._done)

    def finished(self, contained: Contained) -> None:
        """Call ``finish`` in the order in which the work was done."""
        while self._done:
            done = self._done.popleft()
            with contained(done.lane):
                done.finish(done.result, done.error)

    def attend(self, listener: InterfaceListener) -> None:
        """Let it listen whenever the watch waits."""
        self._listeners.append(listener)

    def neglect(self, listener: InterfaceListener) -> None:
        """Stop it at once."""
        if listener in self._listeners:
            self._listeners.remove(listener)
            listener.close()

    def wait(self, until: float) -> None:
        """Listen until then."""
        self._awake = False
        listeners = [listener for listener in self._listeners if not listener.lost]
        while not self._done and not self._awake and (now := self._clock.monotonic()) < until:
            turn = until if len(listeners) == 1 else min(until, now + _TURN_S)
            for listener in listeners:
                listener.listen(turn)
                if self._awake:
                    return
            if not listeners:
                pass_time(self._clock, until)

    def wake(self) -> None:
        """End the current wait."""
        self._awake = True

    def close(self, within_s: float, worth_waiting: Callable[[str], bool] = lambda _: True) -> None:
        """Stop the listeners: all work has ended already."""
        for listener in list(self._listeners):
            self.neglect(listener)
