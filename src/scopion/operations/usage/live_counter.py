"""A counter that is read again and again: at which readings it had changed, and what rate that makes.

Some agents look at their counters every few seconds only. What an answer tells is then older than the answer.
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field, replace
from itertools import pairwise

from scopion.model.usage import Passed, passed
from scopion.roster.usage.counters import CountRead

_STILL_S = 5.0  # what has not changed for longer stands still
_OLD_S = 20.0  # what was not read for longer says nothing of now


@dataclass(frozen=True, slots=True)
class Change:
    """A reading at which a counter had changed, and when the one before it was taken."""

    at: float
    before: float
    read: CountRead


@dataclass(slots=True)
class LiveCounter:
    """The readings of one counter at which it had changed: some agents look only every few seconds."""

    window_s: float
    changes: deque[Change] = field(default_factory=deque)
    read_at: float = 0.0
    first_is_change: bool = False  # else it was just the first reading

    def take(self, now: float, each: CountRead) -> None:
        """Take in a reading."""
        before, self.read_at = self.read_at, now
        if self.changes:
            latest = self.changes[-1]
            last = latest.read
            if (last.count.up, last.count.down) == (each.count.up, each.count.down):
                return
            if passed(last.count, each.count, now - latest.at, each.most_bps) is None:
                self.changes.clear()  # it began again
                self.first_is_change = False
        self.changes.append(Change(now, before, each))
        while len(self.changes) > 2 and now - self.changes[1].at > self.window_s:
            self.changes.popleft()
            self.first_is_change = True

    def rate(self, now: float) -> Passed | None:
        """Return what passed between the first and the last change of the last seconds; None: it is not known yet."""
        if not self.changes or now - self.read_at > _OLD_S:
            return None
        # Of three or more the first reading is left out: what it tells may be seconds old.
        skipped = 1 if len(self.changes) > 2 and not self.first_is_change else 0
        first, last = self.changes[skipped], self.changes[-1]
        began, ended = first.at, last.at
        # An agent that looks by itself does so between the last reading without a change and the one with it.
        if (skipped or self.first_is_change) and any(one.at < other.before for one, other in pairwise(self.changes)):
            began, ended = (first.before + first.at) / 2, (last.before + last.at) / 2
        if self.read_at - ended > _STILL_S or (first is last and self.read_at > began):
            ended = self.read_at  # nothing has passed since
        if ended <= began:
            return None
        if first is last:
            return Passed(0, 0, ended - began)
        before, after = (replace(each.read.count, own_s=None) for each in (first, last))
        return passed(before, after, ended - began, last.read.most_bps)
