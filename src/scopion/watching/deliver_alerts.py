"""The part of the watch that delivers: takes due alerts from the outbox, and lets each channel work by itself."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta
from typing import Any

from scopion.alerts.channels.channel import Channel
from scopion.alerts.channels.registry import open_channel
from scopion.alerts.deliver import Attempt, Outbox, Outcome, attempted
from scopion.model.device import EventKind
from scopion.operations.intake.queue_alerts import channels_of, policy_of
from scopion.operations.notify.follow_alerts import follow_up
from scopion.operations.notify.manage_alerts import secret_reader
from scopion.operations.notify.word_alerts import AlertWriter
from scopion.roster.mutes import mutes
from scopion.roster.outbox import backlog, next_due, note_passed_over
from scopion.watching.watch_context import WatchContext

# A single round waits for alerts that are due this soon: a new device's message waits a moment for its names.
_SHORTLY = timedelta(seconds=3)


class Delivering:
    """Drives the outbox."""

    def __init__(self, context: WatchContext) -> None:
        self._context = context
        site = context.site
        read_secret = secret_reader(site)
        self._channels: Mapping[str, Channel] = {
            each.name: open_channel(each, read_secret, site.folder) for each in channels_of(site)
        }
        self._unnoted: dict[str, Outcome] = {}  # by channel: attempts that could not be noted yet
        self._outbox: Outbox | None = None
        self._next_at = 0.0
        self._seen_empty = False
        self.state: dict[str, tuple[int, float]] = {}  # by channel: how many are due, and the age of the oldest

    @property
    def channels(self) -> Mapping[str, Channel]:
        """Return the channels by name."""
        return self._channels

    def wake_at(self) -> float:
        """Return when to look into the outbox."""
        return self._next_at

    def soon(self) -> None:
        """Look into the outbox at the next turn."""
        self._next_at = 0.0

    @property
    def has_tried_all(self) -> bool:
        """Tell whether everything that is due was tried."""
        context = self._context
        if any(context.executor.busy(_lane(name)) for name in self._channels):
            return False
        return self._seen_empty

    def turn(self, now: float) -> None:
        """Start what is due."""
        if now < self._next_at:
            return
        # Other processes put alerts into the outbox, too: a scan by hand.
        self._next_at = now + self._context.look_every_s
        context = self._context
        with context.doing("looking into the outbox"):
            for outcome in list(self._unnoted.values()):
                self._note(outcome)
            self._note_flood()
            follow_up(context.site)
            busy = [name for name in self._channels if context.executor.busy(_lane(name))]
            wall = context.clock.now()
            attempts = self._box().due(wall, busy)
            for attempt in attempts:
                self._start(attempt)
            waiting = backlog(context.site.roster, wall)
            self.state = {name: (each.count, (wall - each.oldest).total_seconds()) for name, each in waiting.items()}
            due = next_due(context.site.roster)
            if due is not None and due > wall:
                self._next_at = min(self._next_at, now + (due - wall).total_seconds())
            shortly = due is not None and wall < due < wall + _SHORTLY
            self._seen_empty = not (attempts or busy or shortly)

    def _box(self) -> Outbox:
        """Return the outbox of the roster that is open now: after damage it is another one."""
        site = self._context.site
        if self._outbox is None or self._outbox.roster is not site.roster:
            give_up = timedelta(days=site.settings.alerts.give_up_days)
            self._outbox = Outbox(
                site.roster, self._channels, lambda alert: AlertWriter(site, site.roster).message(alert), give_up
            )
        return self._outbox

    def _start(self, attempt: Attempt) -> None:
        context, name = self._context, attempt.alert.channel
        channel, at = self._channels[name], context.clock.now()

        def finish(outcome: Any, error: BaseException | None) -> None:
            if error is not None:
                raise error
            assert isinstance(outcome, Outcome)
            # Until it can be noted - on a full disk - nothing more goes by this channel, or it would be sent again.
            self._unnoted[name] = outcome
            with context.doing("noting a delivery"):
                self._note(outcome)
            self.soon()

        context.executor.start(_lane(name), lambda: attempted(attempt, channel, at), finish)

    def _note(self, outcome: Outcome) -> None:
        context, name = self._context, outcome.attempt.alert.channel
        state = self._box().done(outcome, context.clock.now())
        self._unnoted.pop(name, None)
        context.counts.deliveries[name, str(state)] += 1
        if outcome.failure is None:
            context.works(_lane(name))
        else:
            context.troubles[_lane(name)] = str(outcome.failure)

    def _note_flood(self) -> None:
        """Tell, once an hour at most, how much of a flood was passed over."""
        context = self._context
        passed = context.memory.guard.passed_over()
        if passed is None:
            return
        context.counts.passed_over += passed.count
        context.trouble(
            "taking in",
            f"claims of new addresses are passed over (such as {passed.examples[0]}): a machine makes them up",
        )
        policy = policy_of(context.site)
        if policy is None:
            return
        at = context.clock.now()
        with context.site.roster.transaction() as db:
            if any(each.covers(0, EventKind.JOINED, at) for each in mutes(context.site.roster, at)):
                return
            for channel in policy.channels:
                note_passed_over(db, channel, passed.count, passed.examples, at)


def _lane(channel: str) -> str:
    return f"channel {channel}"


def is_delivery(lane: str) -> bool:
    """Tell whether the work of a lane is a delivery: one that is cut off is made twice."""
    return lane.startswith("channel ")
