"""The connection to the broker as both sides use it: what comes by it; that it breaks, and is back, is told once."""

from __future__ import annotations

import queue
from collections.abc import Callable, Iterator
from typing import Protocol

from scopion.attachment.connect.mqtt_line import Arrived
from scopion.watching.watch_context import WatchContext


class Line(Protocol):
    """A connection to the broker, as ``MqttLine`` has it."""

    connected: bool
    problem: str
    refused: str
    address: str

    def publish(self, topic: str, octets: bytes, *, retain: bool = False) -> bool:
        """Hand a document over."""

    def acknowledge(self, arrived: Arrived) -> None:
        """Say that a document need not be sent again."""

    def stop(self) -> None:
        """End the connection."""


class Inbox:
    """What the connection's own thread hands over to the watch, which is woken by it."""

    def __init__(self, wake: Callable[[], None]) -> None:
        self._arrived: queue.SimpleQueue[Arrived | None] = queue.SimpleQueue()
        self._wake = wake

    def heard(self, arrived: Arrived) -> None:
        """Take a document."""
        self._arrived.put(arrived)
        self._wake()

    def changed(self) -> None:
        """Take note that the connection came up or broke."""
        self._arrived.put(None)
        self._wake()

    @property
    def is_empty(self) -> bool:
        """Tell whether there is nothing new."""
        return self._arrived.empty()

    def taken(self) -> Iterator[Arrived]:
        """Take out the documents that have come."""
        while not self._arrived.empty():
            arrived = self._arrived.get()
            if arrived is not None:
                yield arrived


class LineWatch:
    """Tells how the connection does."""

    def __init__(self, context: WatchContext) -> None:
        self._context = context
        self._last = (False, "", "")

    def look(self, line: Line) -> bool:
        """Tell what is new. Returns whether it was connected just now."""
        now = (line.connected, line.problem, line.refused)
        if now == self._last:
            return False
        came_up = line.connected and not self._last[0]
        self._last = now
        if line.connected:
            self._context.works("reaching the broker")
        elif line.problem:
            self._context.trouble("reaching the broker", line.problem)
        if line.refused:
            self._context.trouble("using the broker", line.refused)
        elif came_up:
            self._context.works("using the broker")
        return came_up
