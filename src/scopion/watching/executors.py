"""What does the work that takes time - sweeping, asking, delivering - while the watch goes on deciding.

``ThreadExecutor`` does it beside the watch, each lane one thing at a time. ``InlineExecutor`` does it at once and in
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

from scopion.attachment.ports import Attachment
from scopion.model.errors import place_of
from scopion.watching.interface_listener import InterfaceListener

# Several ears in one thread take turns of this length.
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
    """Does work, and waits."""

    def start(self, lane: str, work: Work, finish: Finish) -> None:
        """Do a piece of work after what its lane has been given before; ``finish`` is called by ``finished``."""

    def busy(self, lane: str) -> bool:
        """Whether a lane has anything to do, or to tell."""

    def finished(self, contained: Contained) -> None:
        """Tell what has been done since the last call, each lane within ``contained``: what goes wrong is its alone."""

    def attend(self, listener: InterfaceListener) -> None:
        """Let an ear listen from now on."""

    def neglect(self, listener: InterfaceListener) -> None:
        """Let it listen no more."""

    def wait(self, until: float) -> None:
        """Return at a monotonic moment, or sooner if something was done or heard."""

    def wake(self) -> None:
        """Let whoever waits return; safe in a signal handler and in other threads."""

    def close(self, within_s: float, worth_waiting: Callable[[str], bool] = lambda _: True) -> None:
        """Start nothing more, and give what is being done in some lanes so long to end."""


class _Lane:
    """A thread that does one piece of work after the other. It ends with the process, whatever it is doing then."""

    def __init__(self, name: str) -> None:
        self._work: queue.SimpleQueue[Callable[[], None] | None] = queue.SimpleQueue()
        threading.Thread(target=self._run, name=name, daemon=True).start()

    def submit(self, work: Callable[[], None] | None) -> None:
        """Do this next; nothing ends the thread."""
        self._work.put(work)

    def _run(self) -> None:
        while (work := self._work.get()) is not None:
            work()


class ThreadExecutor:
    """Implements ``Executor`` with a thread for each lane and each ear."""

    def __init__(self, attachment: Attachment) -> None:
        self._clock = attachment.clock
        self._lanes: dict[str, _Lane] = {}
        self._closed = False
        self._open: Counter[str] = Counter()
        self._done: queue.SimpleQueue[Done | None] = queue.SimpleQueue()
        self._later: deque[Done] = deque()
        self._listeners: set[InterfaceListener] = set()

    def start(self, lane: str, work: Work, finish: Finish) -> None:
        """By the lane's own thread."""
        if lane not in self._lanes:
            self._lanes[lane] = _Lane(lane)
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
        """Whether it has anything that was not told yet."""
        return self._open[lane] > 0

    def finished(self, contained: Contained) -> None:
        """In the order in which it ended."""
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
        """With a thread of its own: it must not miss a frame while a sweep is folded."""
        lane = f"ear {listener.interface.name}"
        self._open[lane] += 1

        def run() -> None:
            try:
                listener.run()
                self._done.put(Done(lane, _ended))
            except BaseException as error:  # told where the watch waits: nobody would notice that it is deaf
                listener.lost = place_of(error)  # and opened anew
                self._done.put(Done(lane, _ended, None, error))

        self._listeners.add(listener)
        threading.Thread(target=run, name=lane, daemon=True).start()

    def neglect(self, listener: InterfaceListener) -> None:
        """The thread sees it within half a second."""
        listener.stop()
        self._listeners.discard(listener)

    def wait(self, until: float) -> None:
        """For the first thing that is done or heard."""
        left = until - self._clock.monotonic()
        if left <= 0:
            return
        with contextlib.suppress(queue.Empty):
            done = self._done.get(timeout=left)
            if done is not None:
                self._later.append(done)

    def wake(self) -> None:
        """By a sign in the queue."""
        self._done.put(None)

    def close(self, within_s: float, worth_waiting: Callable[[str], bool] = lambda _: True) -> None:
        """What has not ended by then is left behind: the process ends."""
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
    """An ear hears no more."""
    if error is not None:
        raise error


class InlineExecutor:
    """Implements ``Executor`` in the thread of the watch, on whatever clock the attachment has."""

    def __init__(self, attachment: Attachment) -> None:
        self._clock = attachment.clock
        self._listeners: list[InterfaceListener] = []
        self._done: deque[Done] = deque()
        self._awake = False

    def start(self, lane: str, work: Work, finish: Finish) -> None:
        """At once."""
        try:
            self._done.append(Done(lane, finish, work()))
        except Exception as error:
            self._done.append(Done(lane, finish, None, error))

    def busy(self, lane: str) -> bool:
        """Whether something was not told yet."""
        return any(done.lane == lane for done in self._done)

    def finished(self, contained: Contained) -> None:
        """In the order in which it was done."""
        while self._done:
            done = self._done.popleft()
            with contained(done.lane):
                done.finish(done.result, done.error)

    def attend(self, listener: InterfaceListener) -> None:
        """Whenever the watch waits."""
        self._listeners.append(listener)

    def neglect(self, listener: InterfaceListener) -> None:
        """From now on."""
        if listener in self._listeners:
            self._listeners.remove(listener)
            listener.close()

    def wait(self, until: float) -> None:
        """Listening meanwhile."""
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
        """The wait that is going on ends."""
        self._awake = True

    def close(self, within_s: float, worth_waiting: Callable[[str], bool] = lambda _: True) -> None:
        """Everything has ended already."""
        for listener in list(self._listeners):
            self.neglect(listener)


def pass_time(clock: Any, until: float) -> None:
    """Let a virtual clock go on; a real one is slept through."""
    if hasattr(clock, "wait_until"):
        clock.wait_until(until)
        return
    import time

    time.sleep(max(0.0, until - clock.monotonic()))
