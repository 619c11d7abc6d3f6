"""The connection to the broker as both sides use it. That it breaks is told once, and so is that it is back."""

from __future__ import annotations

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
