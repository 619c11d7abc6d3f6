"""Alerts: what is to be told, to which channel, and what has become of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from datetime import datetime
from enum import StrEnum
from types import MappingProxyType

from scopion.model.device import Event
from scopion.model.value import value


class Severity(StrEnum):
    """How much it matters; high goes through the night hours."""

    LOW = "low"
    NORMAL = "normal"
    HIGH = "high"


# Beside the kinds of events in ``Alert.more``.
PASSED_OVER = "passed-over"


class AlertState(StrEnum):
    """What has become of an alert."""

    WAITING = "waiting"  # to be delivered, now or when it is due
    SENT = "sent"
    FAILED = "failed"  # given up; it stays visible


class Gathering(StrEnum):
    """Why several events are told together."""

    LEARNING = "learning"  # what joins while a subnet is being learnt, once a day
    NIGHT = "night"  # held back until the morning
    BURST = "burst"  # many at a time
    GRAVE = "grave"  # many at a time that have to be told at once
    COOLING = "cooling"  # one device again and again
    FLOOD = "flood"  # somebody makes up devices


@value
class Alert:
    """One message to one channel, as the outbox keeps it."""

    id: int
    identity: str  # stays the same however often it is sent
    channel: str
    severity: Severity
    gathers: str  # a Gathering, with whom it is about after a colon; empty for one event that is told at once
    gathering: bool  # whether events may still be added
    made: datetime
    due: datetime  # not told sooner
    state: AlertState
    attempts: int
    again: datetime  # not tried again sooner
    ended: datetime | None  # when it was sent or given up
    problem: str  # what went wrong last
    events: tuple[Event, ...]
    more: Mapping[str, int] = field(default_factory=lambda: MappingProxyType({}))  # kinds of events beyond those kept
    examples: tuple[str, ...] = ()  # of claims that were not recorded: "02:ff:00:00:00:01 at 192.0.2.31"
    message: str | None = None  # as it was first sent, for sending the same again

    @property
    def count(self) -> int:
        """How many events it tells."""
        return len(self.events) + sum(count for kind, count in self.more.items() if kind != PASSED_OVER)

    @property
    def passed_over(self) -> int:
        """How many claims of new addresses were not even recorded, because somebody made them up by the thousand."""
        return self.more.get(PASSED_OVER, 0)
