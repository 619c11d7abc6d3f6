"""The part of the watch that says at the broker who is here and what happens, for home automation and scripts.

Who is here is kept there, a document for each device, so that a reader has it at once. Events are said once the broker
has confirmed those before; where that was up to is in the roster, so that none is left out.
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import takewhile
from typing import Protocol

from scopion.attachment.connect.mqtt_line import MqttLine
from scopion.model.device import Event
from scopion.model.errors import ScopionError
from scopion.operations.notify.announce import Announcements, announcements
from scopion.operations.site.broker_settings import Topics, broker_access, topics_of
from scopion.operations.site.open_site import Site
from scopion.roster.said_events import note_said
from scopion.watching.sensors.broker_line import Inbox, Line, LineWatch
from scopion.watching.watch_context import WatchContext

_LANE = "announcing"
# What people change, as a label, is looked for so often; what the watch itself takes in is said at once...
_EVERY_S = 60.0
# ...but reading a large roster may take a tenth of the time at most.
_PAUSES, _LEAST_PAUSE_S = 10, 0.5


class ConfirmedLine(Line, Protocol):
    """A connection that counts what the broker has confirmed."""

    published: int
    confirmed: int


class Announcing:
    """Says what ``publish`` in ``[broker]`` asks for."""

    def __init__(self, context: WatchContext, opened: Callable[[], Site]) -> None:
        self._context, self._opened = context, opened
        site = context.site
        broker = site.settings.broker
        self._wanted = frozenset(broker.publish) if broker is not None and site.story is None else frozenset[str]()
        self._topics = Topics(topics_of(broker, site.name)) if broker is not None else None
        self._watching = LineWatch(context)
        self.inbox = Inbox(context.executor.wake)
        self._said: dict[str, bytes] = {}  # who is here, as the broker has it
        self._there: set[str] = set()  # what it had kept from before
        self._unconfirmed: tuple[list[Event], int] | None = None  # events said, and what is confirmed when they are
        self._due_at = self._not_before = 0.0
        self.line: ConfirmedLine | None = None

    def soon(self) -> None:
        """Say what is new: something was taken in."""
        self._due_at = 0.0

    def wake_at(self) -> float:
        """Return when something is due."""
        if not self._wanted:
            return float("inf")
        if not self.inbox.is_empty or self.line is None:
            return 0.0
        # Without a line nothing is due: that it is up again wakes us.
        idle = not self.line.connected or self._context.executor.busy(_LANE)
        return float("inf") if idle else max(self._due_at, self._not_before)

    def turn(self, now: float) -> None:
        """Start reading what is to be said, when it is due."""
        if not self._wanted:
            return
        line = self.line or self._opened_line()
        self._take(line)
        if self._watching.look(line):
            self._said.clear()  # a broker that lost its memory is told all of it again
            self.soon()
        self._note_confirmed(line)
        if line.connected and now >= max(self._due_at, self._not_before) and not self._context.executor.busy(_LANE):
            self._due_at = now + _EVERY_S
            self._context.executor.start(_LANE, self._read, lambda read, error: self._say(read, error, now))

    def close(self) -> None:
        """End the connection."""
        if self.line is not None:
            self.line.stop()

    def _opened_line(self) -> ConfirmedLine:
        """Connect to the broker. Raises InvalidSettings."""
        site = self._context.site
        broker, topics = site.settings.broker, self._topics
        assert broker is not None and topics is not None
        access = broker_access(broker, site.folder, "scopion")
        # What the broker still keeps of a device that was forgotten is taken back.
        kept = [topics.presence("+")] if "presence" in self._wanted else []
        line = MqttLine(access, f"{topics.begins}/announcing", kept, self.inbox.heard, self.inbox.changed)
        line.start()
        self.line = line
        return line

    def _take(self, line: ConfirmedLine) -> None:
        for arrived in self.inbox.taken():
            line.acknowledge(arrived)
            if arrived.retained and arrived.octets:
                self._there.add(arrived.topic.rpartition("/")[2])
                self.soon()

    def _read(self) -> Announcements:
        events = "events" in self._wanted and self._unconfirmed is None
        return announcements(self._opened(), presence="presence" in self._wanted, events=events)

    def _say(self, read: Announcements | None, error: BaseException | None, began: float) -> None:
        """Publish what is new of what was read."""
        now, line, topics = self._context.clock.monotonic(), self.line, self._topics
        self._not_before = now + max(_LEAST_PAUSE_S, _PAUSES * (now - began))
        if read is None:
            if not isinstance(error, ScopionError):
                assert error is not None
                raise error
            self._context.trouble("reading what to say at the broker", str(error))
            return
        self._context.works("reading what to say at the broker")
        if line is None or topics is None or not line.connected:
            return
        if "presence" in self._wanted:
            self._say_presence(line, topics, read)
        # If the line breaks in the middle, the others are said when it is up.
        said = list(takewhile(lambda each: line.publish(topics.event(each[0].kind), each[1]), read.events))
        if said:
            self._unconfirmed = [event for event, _ in said], line.published

    def _say_presence(self, line: ConfirmedLine, topics: Topics, read: Announcements) -> None:
        for name, octets in read.presence.items():
            if self._said.get(name) != octets:
                line.publish(topics.presence(name), octets, retain=True)
        for name in (self._said.keys() | self._there) - read.presence.keys():
            line.publish(topics.presence(name), b"", retain=True)  # forgotten: MQTT 5, 3.3.1.3
        self._said, self._there = dict(read.presence), set()

    def _note_confirmed(self, line: ConfirmedLine) -> None:
        if self._unconfirmed is None or line.confirmed < self._unconfirmed[1]:
            return
        with self._context.doing("noting what was said at the broker"):
            note_said(self._context.site.roster, self._unconfirmed[0])
        self._unconfirmed = None
        self.soon()  # there may be more
