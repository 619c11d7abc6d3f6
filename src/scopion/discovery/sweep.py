"""The sweep: which address to ask when, and when to stop. A state machine without I/O or clock.

Its driver asks ``due(now)`` for the addresses to ask, tells ``heard(...)`` about answers, sleeps until ``wake_at`` and
ends when ``done``. All times are monotonic seconds of the driver's clock, so that the same object runs on a socket and
in a scene.

How it decides. Rounds repeat the question for the addresses that have not answered. From the second round on, some that
did answer are asked again, as a check: the share of checks that stays unanswered is the loss of a round trip, measured
on hosts that are certainly there. The sweep ends when so few hosts could still be hidden by that loss that another
round is not worth it: at once on a clean segment, after many rounds on a lossy one. How long a round waits for answers
is learnt from the round trips as TCP does it (RFC 6298), with Karn's rule: only unambiguous answers count.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from math import sqrt

from scopion.discovery.round_trip import RoundTripEstimate
from scopion.model.address import Address

CHECKS_A_ROUND = 32  # enough to tell 1 % from 10 % loss after two rounds
CHECKS_A_HOST = 8  # if few answer, each is asked more often, spread over the round
# Another round follows while the chance that a present host has missed every round so far is above this.
TOLERATED_MISS = 0.002
# After a pause (the kernel, a table that is drawn) at most this much is sent at once: 100 frames on cable, 8 KB, which
# the smallest switch holds; 4 on the air.
CATCH_UP_S = 0.050
# At a high pace what falls into this time is sent at once: waking up for each request costs more than sending it.
_GRAIN_S = 0.004


@dataclass(frozen=True, slots=True)
class Patience:
    """When silence counts: after this many requests to an address, over at least this time."""

    requests: int = 3
    span_s: float = 1.0


USUAL_PATIENCE = Patience()


@dataclass(frozen=True, slots=True)
class SweepPlan:
    """What a sweep may do. Times in seconds, pace in requests a second."""

    pace: float
    max_rounds: int = 12
    min_rounds: int = 3
    # No address is given up sooner than this after the first request: wireless stations doze for up to a second.
    min_span_s: float = 1.1
    min_round_s: float = 0.0  # a round waits at least this long, because the system repeats the question meanwhile
    checks: bool = True  # whether it tells anything to ask addresses again that have answered
    patience: Patience = USUAL_PATIENCE


@dataclass(slots=True)
class _Asked:
    """What is known of one address."""

    first: float = 0.0
    last: float = 0.0
    requests: int = 0
    answered: bool = False  # a host has answered
    timed: bool = False  # and so has one that was asked here
    settled: bool = False  # and no other host is waited for
    rtt_s: float | None = None


@dataclass(frozen=True, slots=True)
class AskedAddress:
    """The account of one address after a sweep."""

    requests: int
    span_s: float  # from the first request to the end of waiting, or to the latest request if it is settled


class Sweep:
    """One pass over some addresses under a plan."""

    def __init__(self, addresses: Iterable[Address], plan: SweepPlan) -> None:
        self.plan = plan
        self.rounds = 0
        self.answered = 0
        self.checks_asked = 0
        self.checks_lost = 0
        self.sent = 0
        self.ended_at = 0.0
        self._asked = {address: _Asked() for address in addresses}
        self._trip = RoundTripEstimate()
        self._queue: deque[Address] = deque()
        self._checks: Counter[Address] = Counter()  # still unanswered in this round
        self._overdue: Counter[Address] = Counter()  # checks that count as lost and may still be answered
        self._settled = 0
        self._next_send = 0.0
        self._round_sent_at = 0.0
        self._first_round_sent_at = 0.0
        self._slowest_s = 0.0
        self._is_last_round = False
        self._done = not self._asked

    @property
    def done(self) -> bool:
        """Tell whether the sweep has ended."""
        return self._done

    @property
    def total(self) -> int:
        """Return how many addresses it asks."""
        return len(self._asked)

    @property
    def touched(self) -> int:
        """Return how many addresses have been asked at least once, for showing progress."""
        return min(self.sent, self.total) if self.rounds <= 1 else self.total

    @property
    def loss(self) -> float:
        """Return the share of round trips that were lost, as the checks measured it; 0.0 without any check."""
        return self.checks_lost / self.checks_asked if self.checks_asked else 0.0

    def __contains__(self, address: object) -> bool:
        return address in self._asked

    def due(self, now: float) -> list[Address]:
        """Return the addresses to ask now; the sweep counts them as asked."""
        if not self._done and not self._queue and now >= self._round_ends_at():
            self._begin_round_or_end(now)
        if not self._queue:
            return []
        gap = 1.0 / self.plan.pace
        self._next_send = max(self._next_send, now - max(CATCH_UP_S, gap))
        asked: list[Address] = []
        while self._queue and self._next_send <= now:
            address = self._queue.popleft()
            state = self._asked[address]
            if state.settled and not self._checks[address]:
                continue  # it answered while it waited for its turn
            state.first = state.first if state.requests else now
            state.last = now
            state.requests += 1
            self._next_send += gap
            asked.append(address)
        self.sent += len(asked)
        if asked:
            self._round_sent_at = now
            if self.rounds == 1:
                self._first_round_sent_at = now
        return asked

    def heard(self, address: Address, at: float, *, answer: bool = True, settled: bool = True) -> bool:
        """Take note that ``address`` is there. Returns False if it was not asked about.

        ``answer`` is False for a frame that shows its presence without being an answer to this sweep; ``settled`` is
        False while another host is expected at the address, which then is asked for in the rounds to come. So is an
        address that was not asked yet: another host there would be overlooked.
        """
        state = self._asked.get(address)
        if state is None:
            return False
        if answer and self._checks[address]:
            self._checks[address] -= 1
        elif answer and self._overdue[address]:
            self._overdue[address] -= 1  # it was late, not lost
            self.checks_lost -= 1
        if not state.answered:
            state.answered = True
            self.answered += 1
        if answer and state.requests and not state.timed:
            state.timed = True
            self._learn(state, max(0.0, at - state.last), at)
        if settled and state.requests and not state.settled:
            state.settled = True
            self._settled += 1
        return True

    def has_asked(self, address: Address) -> bool:
        """Tell whether an address of the sweep was asked at least once."""
        return self._asked[address].requests > 0

    def round_trip(self, address: Address) -> float | None:
        """Return seconds from the request to the answer; None if the address was asked more than once meanwhile."""
        return self._asked[address].rtt_s

    def wake_at(self) -> float:
        """Return when ``due`` wants to be asked next."""
        if not self._queue:
            return self._round_ends_at()
        return max(self._next_send, self._round_sent_at + _GRAIN_S)

    def stop(self, now: float) -> None:
        """End at once: the user has stopped it, or the interface is gone."""
        self._end(now)

    def account(self) -> dict[Address, AskedAddress]:
        """Return what became of every address that was asked at least once."""
        return {
            address: AskedAddress(
                requests=state.requests,
                span_s=(state.last if state.settled else self.ended_at) - state.first,
            )
            for address, state in self._asked.items()
            if state.requests or state.answered
        }

    def _learn(self, state: _Asked, since_last: float, at: float) -> None:
        if state.requests == 1:
            self._trip.measured(since_last)
            state.rtt_s = since_last
        elif since_last > self._trip.timeout():
            # Too slow for an answer to the latest request: it belongs to an earlier one, so some host here is slow.
            self._slowest_s = max(self._slowest_s, at - state.first)

    def _round_ends_at(self) -> float:
        if self.rounds == 0:
            return 0.0
        waited = self._round_sent_at + self._trip.timeout()
        if self._settled >= len(self._asked):
            return waited
        ends = max(waited, self._round_sent_at + self.plan.min_round_s)
        if self._another_round(ends):
            return ends
        # The last round: stragglers get the time that the slowest needed, and no host is given up too soon.
        stragglers = self._round_sent_at + min(1.25 * self._slowest_s, self._trip.longest_s)
        return max(ends, stragglers, self._span_ends())

    def _span_ends(self) -> float:
        return self._first_round_sent_at + self.plan.min_span_s

    def _another_round(self, at: float) -> bool:
        if self._is_last_round or self.rounds >= self.plan.max_rounds:
            return False
        # The rest of the span is not worth a round if it is over before a round's answers could be.
        return not self._enough() or at + self._trip.timeout() < self._span_ends()

    def _begin_round_or_end(self, now: float) -> None:
        self.checks_lost += self._checks.total()
        self._overdue.update(self._checks)
        self._checks.clear()
        silent = [address for address, state in self._asked.items() if not state.settled]
        if not silent:
            self._end(now)
            return
        if self.rounds > 0 and not self._another_round(now):
            # The sweep was held up so long that the due round does not fit any more: the span still has to be waited
            # for.
            self._is_last_round = True
            if now >= self._round_ends_at():
                self._end(now)
            return
        self.rounds += 1
        checks = self._chosen_checks() if self.rounds > 1 and self.plan.checks else []
        self._queue.extend(_spread(silent, checks))
        self._next_send = now

    def _chosen_checks(self) -> list[Address]:
        """Return addresses to ask again in this round, though they have answered: others in each round, as far as
        possible.
        """
        there = [address for address, state in self._asked.items() if state.settled]
        count = min(CHECKS_A_ROUND, CHECKS_A_HOST * len(there))
        step = max(1, len(there) // CHECKS_A_ROUND)
        chosen = [there[(self.rounds + number * step) % len(there)] for number in range(count)]
        self._checks.update(chosen)
        self.checks_asked += count
        return chosen

    def _enough(self) -> bool:
        """Tell whether so few hosts can still be hidden by loss that the rounds so far are enough."""
        if self.rounds < self.plan.min_rounds:
            return False
        if not self.plan.checks:
            return True
        # Laplace's rule, one standard deviation to the safe side: without any check every second answer may be lost.
        tries = self.checks_asked + 2
        loss = (self.checks_lost + 1) / tries
        if self.checks_asked:
            loss += sqrt(loss * (1 - loss) / tries)
        return bool(loss**self.rounds <= TOLERATED_MISS)

    def _end(self, now: float) -> None:
        self._done = True
        self.ended_at = now
        self._queue.clear()


def _spread(silent: list[Address], checks: list[Address]) -> Iterator[Address]:
    """Yield the silent addresses in order with the checks evenly between, so that a burst of loss does not hit all
    checks.
    """
    before = 0
    for number, check in enumerate(checks, 1):
        until = len(silent) * number // (len(checks) + 1)
        yield from silent[before:until]
        yield check
        before = until
    yield from silent[before:]
