"""Runs the server that answers access points, until it is told to stop: ports, packets, signals."""

from __future__ import annotations

import gc
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from types import FrameType

from scopion.attachment.system_clock import SystemClock
from scopion.attachment.udp_server import Arrival, UdpServer, handed_over
from scopion.model.address import Address, parse_address
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.operations.answers.serving import Serving
from scopion.operations.folder.take_turns import only_server
from scopion.operations.site.site_clock import SiteClock
from scopion.watching.radius.fair_queue import FairQueue
from scopion.watching.radius.kept_settings import KeptSettings
from scopion.watching.radius.write_behind import WriteBehind
from scopion.watching.readiness import Readiness
from scopion.watching.watch_context import log
from scopion.wire.radius import Code, load_library
from scopion.wireless.radius.disconnections import Order

# What has come is taken from the system first, so that a flood fills our queue, which is fair, and not the system's.
_AT_ONCE, _IN_A_ROW = 2_048, 64
_MOST_ADDRESSES = 1_024
_LONGEST_WAIT_S = 0.25
_REPLIES = (Code.DISCONNECT_ACK, Code.DISCONNECT_NAK)


class _Signals:
    """What signals told the process."""

    def __init__(self) -> None:
        self.stop = self.reload = False

    def on_stop(self, number: int, frame: FrameType | None) -> None:
        self.stop = True

    def on_reload(self, number: int, frame: FrameType | None) -> None:
        self.reload = True


def run_server(folder: Path, *, for_s: float | None = None) -> None:
    """Answer for the lists of a site until told to stop, or for so long.

    Raises InvalidSettings, NotFound without lists, Refused if another server has the ports.
    """
    load_library()
    with only_server(folder), _listening_to_signals() as signals, ExitStack() as opened:
        server = _Server(folder, opened)
        readiness = Readiness()
        readiness.ready()
        # What is there by now stays until the end. To look through it for garbage takes 20 ms, without an answer.
        gc.collect()
        gc.freeze()
        end = time.monotonic() + for_s if for_s is not None else float("inf")
        while not signals.stop and time.monotonic() < end:
            if signals.reload:
                signals.reload = False
                server.reload()
            readiness.alive(server.serving)
            server.turn()
        readiness.stopping()


class _Server:
    """Sockets and files of one server."""

    def __init__(self, folder: Path, opened: ExitStack) -> None:
        files = RadiusFiles(folder)
        settings = KeptSettings(folder, files)
        self.serving = Serving(files, settings, SiteClock(SystemClock(), settings.zone))
        self._sockets = UdpServer(handed_over())
        opened.callback(self._sockets.close)
        self._ports: set[tuple[Address | None, int]] = set()
        self._open_ports()
        self._files = WriteBehind(self.serving.files)
        opened.callback(self._end)
        self._queue = FairQueue()
        self._last_from: dict[str, Arrival] = {}

    def reload(self) -> None:
        """Read the settings again; ports that were added are opened, others stay open until the end."""
        self.serving.reload()
        self._open_ports()

    def _open_ports(self) -> None:
        for each in self.serving.lists:
            for port in (each.port, each.accounting_port):
                if (each.listen, port) not in self._ports:
                    self._sockets.listen(each.listen, port)
                    self._ports.add((each.listen, port))
                    log.info("answering access points at %s, port %d", each.listen or "every address", port)

    def turn(self) -> None:
        """Answer what has come, and do what is due."""
        serving = self.serving
        wait = 0.0 if self._queue else min(_LONGEST_WAIT_S, max(0.0, serving.wake_at() - time.monotonic()))
        for each in self._queue.put(self._sockets.receive(wait, _AT_ONCE)):
            serving.too_many(each)
        for each in self._queue.take(_IN_A_ROW):
            self._answer(each)
        for order in serving.turn(time.monotonic()):
            self._send(order)
        if not self._files.is_behind and (work := serving.to_write(time.monotonic())) is not None:
            self._files.write(*work)

    def _answer(self, arrival: Arrival) -> None:
        if arrival.data[:1] and arrival.data[0] in _REPLIES:
            self.serving.hear(arrival, time.monotonic())
            return
        reply = self.serving.answer(arrival, time.monotonic())
        if reply is not None:
            self._sockets.reply(arrival, reply)
            self._last_from[arrival.source] = arrival
            if len(self._last_from) > _MOST_ADDRESSES:
                del self._last_from[next(iter(self._last_from))]

    def _send(self, order: Order) -> None:
        """Send a request to disconnect: by the way that the access point has asked, if it has since the start."""
        address, octets = order.departure.address, order.request.octets
        way = self._last_from.get(address)
        if way is None or not self._sockets.reply(way, octets, order.port):
            self._sockets.send(octets, parse_address(address), order.port)

    def _end(self) -> None:
        work = self.serving.to_write(time.monotonic(), now=True)
        if work is not None:
            self._files.write(*work)
        self._files.close()
        log.info("the RADIUS server ended")


@contextmanager
def _listening_to_signals() -> Iterator[_Signals]:
    """End well when told to, and read the settings again on SIGHUP; restore the old handlers at the end."""
    signals = _Signals()
    if threading.current_thread() is not threading.main_thread():
        yield signals
        return
    wanted = {signal.SIGTERM: signals.on_stop, signal.SIGINT: signals.on_stop, signal.SIGHUP: signals.on_reload}
    before = {number: signal.signal(number, handler) for number, handler in wanted.items()}
    try:
        yield signals
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
