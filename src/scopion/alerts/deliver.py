"""Delivers what is in the outbox: which alert is next, when a failed one is tried again, and when it is given up.

Each channel delivers one alert at a time and in order, so that earlier events are told first; channels do not wait for
each other. At least once: a message that was sent and could not be noted as sent is sent again, with the same identity.
This object knows the roster and no thread: its driver sends the messages, and reports the outcome.
"""

from __future__ import annotations

import logging
import random
from collections.abc import Callable, Collection
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from scopion.alerts.channels.channel import Channel, DeliveryFailed, Trace
from scopion.alerts.message import Message, message_from_json, message_to_json
from scopion.alerts.wording import unworded
from scopion.model.alert import Alert, AlertState
from scopion.model.errors import InvalidSettings, ScopionError, place_of
from scopion.roster.outbox import close, keep_message, next_of_each_channel, settle
from scopion.roster.store.open_roster import Roster

# The first wait, doubled each time: a server that restarts is found within seconds, one that is down for a day is asked
# once an hour.
FIRST_WAIT_S, LONGEST_WAIT_S = 10.0, 3600.0
# Varied by this share each way, so that many watches do not come back to a server at the same time.
_JITTER = 0.2
_log = logging.getLogger(__name__)


@dataclass(frozen=True, slots=True)
class Attempt:
    """One delivery to make now."""

    alert: Alert
    message: Message


@dataclass(frozen=True, slots=True)
class Outcome:
    """The outcome of an attempt; without a failure the other side has taken the message."""

    attempt: Attempt
    failure: DeliveryFailed | None = None


def wait_after(attempts: int, chance: random.Random, at_least_s: float = 0.0) -> timedelta:
    """Return how long to wait after a number of failures."""
    doubled = FIRST_WAIT_S * 2.0 ** min(attempts - 1, 16)
    varied = min(LONGEST_WAIT_S, doubled) * chance.uniform(1 - _JITTER, 1 + _JITTER)
    return timedelta(seconds=max(varied, at_least_s))


class Outbox:
    """Decides what to deliver next, and notes the outcome."""

    def __init__(
        self,
        roster: Roster,
        channels: Collection[str],
        worded: Callable[[Alert], Message],
        give_up_after: timedelta,
        chance: random.Random | None = None,
    ) -> None:
        self.roster = roster
        self._channels = set(channels)
        self._worded = worded
        self._give_up_after = give_up_after
        self._chance = chance or random.Random()

    def due(self, now: datetime, busy: Collection[str] = ()) -> list[Attempt]:
        """Return what to deliver now: for each channel that is not ``busy`` the next alert, if its time has come."""
        found = []
        for alert in next_of_each_channel(self.roster, now):
            if alert.channel in busy or alert.again > now:
                continue
            if alert.channel not in self._channels:
                self._give_up(alert, now, f"there is no channel {alert.channel!r} in site.toml any more")
                continue
            found.append(Attempt(alert, self._message(alert)))
        return found

    def done(self, outcome: Outcome, now: datetime) -> AlertState:
        """Note the outcome of an attempt. Returns the alert's new state."""
        alert, failure = outcome.attempt.alert, outcome.failure
        if failure is None:
            settle(self.roster, alert.id, AlertState.SENT, now)
            _log.info("alert %d was delivered by %s: %s", alert.id, alert.channel, outcome.attempt.message.subject)
            return AlertState.SENT
        if failure.reached:
            message = outcome.attempt.message
            some = replace(message, reached=(*message.reached, *failure.reached))
            keep_message(self.roster, alert, message_to_json(some))
        if failure.permanent or now - alert.due > self._give_up_after:
            self._give_up(alert, now, str(failure))
            return AlertState.FAILED
        wait = wait_after(alert.attempts + 1, self._chance, failure.wait_s)
        settle(self.roster, alert.id, AlertState.WAITING, now, problem=str(failure), again=now + wait)
        _log.warning("alert %d waits %.0f s, %s: %s", alert.id, wait.total_seconds(), alert.channel, failure)
        return AlertState.WAITING

    def _give_up(self, alert: Alert, now: datetime, problem: str) -> None:
        settle(self.roster, alert.id, AlertState.FAILED, now, problem=problem)
        _log.error("alert %d was given up, %s: %s", alert.id, alert.channel, problem)

    def _message(self, alert: Alert) -> Message:
        """Return the message as it was worded first: a message that comes twice must be the same."""
        if alert.message is not None:
            with suppress(ValueError, KeyError, TypeError):  # damaged: it is worded again
                return message_from_json(alert.message)
        # Closed before it is read for the last time: another process may have added an event since.
        closed = close(self.roster, alert)
        try:
            message = self._worded(closed)
        except ScopionError:
            raise
        except Exception as error:  # the event is told in any case, even in plain words
            _log.error("alert %d could not be worded: %s", alert.id, place_of(error))
            message = unworded(closed)
        keep_message(self.roster, alert, message_to_json(message))
        return message


def attempted(attempt: Attempt, channel: Channel, now: datetime) -> Outcome:
    """Deliver a message, unless it is too late. Returns the outcome of whatever goes wrong in a channel."""
    late = (now - attempt.alert.due).total_seconds()
    try:
        if channel.lasts_s is not None and late > channel.lasts_s:
            raise DeliveryFailed("it came too late to be worth it", permanent=True)
        delivered(attempt.message, channel, lambda step: _log.debug("%s: %s", attempt.alert.channel, step))
    except DeliveryFailed as failure:
        return Outcome(attempt, failure)
    except InvalidSettings as error:
        return Outcome(attempt, DeliveryFailed(str(error), wait_s=60.0))
    return Outcome(attempt)


def delivered(message: Message, channel: Channel, trace: Trace) -> None:
    """Deliver a message. Raises DeliveryFailed, InvalidSettings, and nothing else."""
    try:
        channel.deliver(message, trace)
    except (DeliveryFailed, InvalidSettings):
        raise
    except Exception as error:  # an error in a channel's library must not end the watch
        raise DeliveryFailed(f"unexpected: {place_of(error)}") from None
