"""Delivers what is in the outbox: whose turn it is, when a failure is tried again, and when it is given up.

Per channel one at a time and in order, so that what happened first is told first; channels do not wait for each other.
At least once: what was sent and could not be noted as sent is sent again, as the same message. This object knows the
roster and no thread: whoever drives it does the sending wherever it likes, and tells what came of it.
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

# The first wait, doubled each time; a server that was started anew is found within seconds, one that is down for a day
# is asked once an hour.
FIRST_WAIT_S, LONGEST_WAIT_S = 10.0, 3600.0
# Varied by so much each way, so that many watchers do not come back to a server all at once.
_JITTER = 0.2
_log = logging.getLogger(__name__)


@dataclass(frozen=True, slots=True)
class Attempt:
    """One delivery to make now."""

    alert: Alert
    message: Message


@dataclass(frozen=True, slots=True)
class Outcome:
    """What came of it; no failure means that the other side has taken it."""

    attempt: Attempt
    failure: DeliveryFailed | None = None


def wait_after(attempts: int, chance: random.Random, at_least_s: float = 0.0) -> timedelta:
    """How long to wait after so many failures."""
    doubled = FIRST_WAIT_S * 2.0 ** min(attempts - 1, 16)
    varied = min(LONGEST_WAIT_S, doubled) * chance.uniform(1 - _JITTER, 1 + _JITTER)
    return timedelta(seconds=max(varied, at_least_s))


class Outbox:
    """Decides what to deliver next, and notes what came of it."""

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
        """What to deliver now: of each channel that is not ``busy`` the one whose turn it is, if its time has come."""
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
        """Note what came of an attempt; what has become of the alert."""
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
        """As it was worded first: a message that comes twice must be the same."""
        if alert.message is not None:
            with suppress(ValueError, KeyError, TypeError):  # damaged: it is worded anew
                return message_from_json(alert.message)
        # Closed before it is read for the last time: another process may have added an event since.
        closed = close(self.roster, alert)
        try:
            message = self._worded(closed)
        except ScopionError:
            raise
        except Exception as error:  # what happened is told in any case, if not as well
            _log.error("alert %d could not be worded: %s", alert.id, place_of(error))
            message = unworded(closed)
        keep_message(self.roster, alert, message_to_json(message))
        return message


def attempted(attempt: Attempt, channel: Channel, now: datetime) -> Outcome:
    """Deliver, unless it comes too late; what came of it, whatever goes wrong in a channel."""
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
    except Exception as error:  # a library that a channel uses: one channel's trouble must not end the watch
        raise DeliveryFailed(f"unexpected: {place_of(error)}") from None
