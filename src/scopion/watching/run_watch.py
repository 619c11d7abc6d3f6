"""Runs the watch: alone on its site, until it is told to stop; the service manager hears that it is ready and alive."""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from types import FrameType

from scopion.attachment.permission import keep_capabilities_to_itself
from scopion.model.errors import InvalidSettings
from scopion.operations.folder.take_turns import only_watch
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.site.open_site import Site
from scopion.watching.deliver_alerts import is_delivery
from scopion.watching.executors import Executor, InlineExecutor, ThreadExecutor
from scopion.watching.metrics import MetricsServer
from scopion.watching.readiness import Readiness
from scopion.watching.watch_context import log
from scopion.watching.watch_memory import WatchMemory
from scopion.watching.watch_site import Watch

# Deliveries that run when the watch is told to stop get this long to end; the rest is delivered next time.
_GRACE_S = 5.0
# No wait is longer than this, so that the service manager hears that all is well.
_LONGEST_TURN_S = 5.0
# A single round ends when everything is swept and delivered; at the latest after this.
_ONCE_AT_MOST_S = 600.0
# In a terminal a made-up site plays a minute in this many seconds.
_SCENE_MINUTE_S = 0.1


@dataclass(frozen=True, slots=True)
class WatchOptions:
    """How the watch is to run."""

    once: bool = False  # one round, for cron
    for_s: float | None = None  # this long; None: until it is told to stop
    terminal: bool = False  # a person looks on, and has a bell


OnTurn = Callable[[Watch], None]


class Signals:
    """What signals told the process."""

    def __init__(self) -> None:
        self.stop = self.reload = False
        self.wake: Callable[[], None] = lambda: None

    def on_stop(self, number: int, frame: FrameType | None) -> None:
        """Note that the process is to end."""
        self.stop = True
        self.wake()

    def on_reload(self, number: int, frame: FrameType | None) -> None:
        """Note that its settings are to be read again."""
        self.reload = True
        self.wake()


def run_watch(site: Site, order: WatchOptions, on_turn: OnTurn = lambda _: None) -> bool:
    """Watch a site until told to stop. Returns whether all is well at the end. Raises Refused, and
    what opening raises.
    """
    keep_capabilities_to_itself()
    readiness, folder = Readiness(), site.folder
    with only_watch(folder), listening_to_signals(order.terminal) as signals:
        _ = site.settings  # a mistake is told before anything begins
        began = site.clock.monotonic()
        while True:
            ended = _Round(site, order, signals, readiness, on_turn, began).run()
            if not signals.reload or signals.stop:
                readiness.stopping()
                return ended
            signals.reload = False
            site = _reloaded(site, folder)


def _reloaded(site: Site, folder: Path) -> Site:
    """Return the site with its settings read again; with the old ones if the new have a mistake."""
    try:
        fresh = Site(folder)
        _ = fresh.settings
    except InvalidSettings as error:
        log.error("the settings stay as they were: %s", error)
        return site
    site.close()
    log.info("the settings were read again")
    return fresh


class _Round:
    """From the making of a watch to its end."""

    def __init__(
        self, site: Site, order: WatchOptions, signals: Signals, readiness: Readiness, on_turn: OnTurn, began: float
    ) -> None:
        self._site, self._order, self._signals = site, order, signals
        self._readiness, self._on_turn, self._began = readiness, on_turn, began
        self._executor: Executor = (
            InlineExecutor(site.attachment) if site.story is not None else ThreadExecutor(site.attachment)
        )
        self._sweeper: Site | None = None
        self._folder_of_sensors: Site | None = None

    def run(self) -> bool:
        site, signals = self._site, self._signals
        since = None if self._order.once else site.clock.now()
        memory = WatchMemory(FloodGuard(site.clock.monotonic()), self._order.terminal, since)
        watch = Watch(
            site, self._executor, memory, self._sweeping_site, once=self._order.once, service=is_service(),
            sensing_site=self._sensing_site,
        )  # fmt: skip
        signals.wake = self._executor.wake
        metrics = MetricsServer.serving(watch)
        log.info("watching %s in %s; scopion status says how it does", site.name, site.folder)
        try:
            until = watch.turn()
            self._readiness.ready()
            while not signals.stop and not signals.reload and not self._is_over(watch):
                self._on_turn(watch)
                self._readiness.alive(watch)
                self._wait(until)
                until = watch.turn()
            return watch.is_well
        finally:
            signals.wake = lambda: None
            # Before the watch begins again nothing of the old one may go on; at the end only deliveries are worth
            # waiting for.
            self._executor.close(_GRACE_S, is_delivery if signals.stop or not signals.reload else lambda _: True)
            watch.refusing.close()
            watch.sensors.close()
            watch.played.close()
            watch.announcing.close()
            if metrics is not None:
                metrics.close()
            if signals.stop or not signals.reload:
                watch.recording.end()
                site.close()
                log.info("the watch ended")

    def _sweeping_site(self) -> Site:
        """Return the site for the thread that sweeps: a roster is used by the thread that opened it."""
        self._sweeper = self._for_a_thread(self._sweeper)
        return self._sweeper

    def _sensing_site(self) -> Site:
        """Return the site for the thread that folds what sensors tell."""
        self._folder_of_sensors = self._for_a_thread(self._folder_of_sensors)
        return self._folder_of_sensors

    def _for_a_thread(self, opened: Site | None) -> Site:
        if self._site.story is not None:
            return self._site
        if opened is None:
            opened = Site(self._site.folder)
            opened.watch_state = self._site.watch_state
        opened.leave_replaced_roster()
        return opened

    def _is_over(self, watch: Watch) -> bool:
        passed = self._site.clock.monotonic() - self._began
        if self._order.for_s is not None and passed >= self._order.for_s:
            return True
        return self._order.once and (watch.has_done_a_round or passed > _ONCE_AT_MOST_S)

    def _wait(self, until: float) -> None:
        clock = self._site.clock
        now = clock.monotonic()
        end = min(until, now + _LONGEST_TURN_S if self._site.story is None else until)
        if self._order.for_s is not None:
            end = min(end, self._began + self._order.for_s)
        self._executor.wait(end)
        if self._site.story is not None and self._order.terminal:
            time.sleep((clock.monotonic() - now) / 60 * _SCENE_MINUTE_S)


@contextmanager
def listening_to_signals(terminal: bool) -> Iterator[Signals]:
    """End well when told to, and let a service read its settings again on SIGHUP; restore the old
    handlers at the end.
    """
    signals = Signals()
    if threading.current_thread() is not threading.main_thread():
        yield signals
        return
    # A terminal that is closed sends SIGHUP, too: then no person looks on any more.
    on_hangup = signals.on_stop if terminal else signals.on_reload
    handlers = {signal.SIGTERM: signals.on_stop, signal.SIGINT: signals.on_stop}
    if sys.platform != "win32":
        handlers[signal.SIGHUP] = on_hangup
    before = {number: signal.signal(number, handler) for number, handler in handlers.items()}
    try:
        yield signals
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def is_service() -> bool:
    """Tell whether the system's service manager has started this process and reads its messages."""
    return "JOURNAL_STREAM" in os.environ or "NOTIFY_SOCKET" in os.environ
