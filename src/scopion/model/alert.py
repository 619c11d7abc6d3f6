"""Alerts: an event, the channel that it goes to, and what became of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from datetime import datetime
from enum import StrEnum
from types import MappingProxyType

from scopion.model.device import Event
from scopion.model.value import value


class Severity(StrEnum):
    """How much an alert matters. High severity is sent in night hours, too."""

    LOW = "low"
    NORMAL = "normal"
    HIGH = "high"


# Names of entries of ``Alert.more`` that are not kinds of events.
PASSED_OVER = "passed-over"


class AlertState(StrEnum):
    """The state of an alert in the outbox."""

    WAITING = "waiting"  # waits for its time, or is tried again
    SENT = "sent"
    FAILED = "failed"  # given up; the list still shows it


class Gathering(StrEnum):
    """Why several events are gathered into one alert."""

    LEARNING = "learning"  # devices that join while a subnet is being learnt, once a day
    NIGHT = "night"  # held back until the end of the night hours
    BURST = "burst"  # many events at a time
    GRAVE = "grave"  # many events at a time that cannot wait
    MISSED = "missed"  # devices that are missed together, or are back together
    COOLING = "cooling"  # one device that comes and goes
    AGAIN = "again"  # a message that tells others again, after the colon their numbers: nobody has seen them
    SECOND = "second"  # the same by a second channel
    FLOOD = "flood"  # addresses that somebody makes up


@value
class Alert:
    """One message to one channel, as the outbox keeps it."""

    id: int
    identity: str  # the same for every try
    channel: str
    severity: Severity
    gathers: str  # a ``Gathering``, after a colon what it is about; empty for a single event that is sent at once
    gathering: bool  # whether events may still be added
    made: datetime
    due: datetime  # it is not sent before this
    state: AlertState
    attempts: int
    again: datetime  # the next try is not before this
    ended: datetime | None  # when it was sent or given up
    problem: str  # the latest problem
    events: tuple[Event, ...]
    # counts by kind of events beyond those kept
    more: Mapping[str, int] = field(default_factory=lambda: MappingProxyType({}))
    examples: tuple[str, ...] = ()  # of claims that were not recorded: "02:ff:00:00:00:01 at 192.0.2.31"
    message: str | None = None  # the message of the first try, so that a later try sends the same

    @property
    def count(self) -> int:
        """Return how many events the alert is about."""
        return len(self.events) + sum(count for kind, count in self.more.items() if kind != PASSED_OVER)

    @property
    def passed_over(self) -> int:
        """Return how many claims of new addresses were not recorded because they came in a flood."""
        return self.more.get(PASSED_OVER, 0)
