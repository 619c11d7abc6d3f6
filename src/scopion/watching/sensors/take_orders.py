"""The part of a sensor that takes orders: only what is sealed for it, each once, with a word that it gave a moment ago.

It also takes pushes back that no person has kept, whether or not there is a line then.
"""

from __future__ import annotations

from collections import OrderedDict, deque
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from secrets import token_hex

from scopion.attachment.orders.order import GOOD_FOR_S, Answer, Order, WordWanted
from scopion.attachment.orders.order_documents import answer_to_json, order_from_json
from scopion.attachment.orders.seal import ANSWERS, MOST_OCTETS, ORDERS, Seal
from scopion.model.batch import SensorClocks
from scopion.model.errors import MalformedFrame, ScopionError, place_of
from scopion.operations.sensors.carry_out_orders import Hands
from scopion.operations.sensors.keep_guards import Kept
from scopion.watching.sensors.broker_line import Inbox, Line
from scopion.watching.watch_context import WatchContext, log

_LANE = "orders"
_MOST_WORDS, _MOST_ANSWERS, _MOST_WAITING = 64, 16, 16
# While there is a line, the roster's side takes back first: two at once would be in each other's way.
_FIRST_THE_ROSTER_S = 20.0
_AGAIN_S = 30.0
_HEARING, _TAKING_BACK = "hearing orders", "taking back a push to {}"


class Orders:
    """Takes orders for a sensor's hands."""

    def __init__(
        self, context: WatchContext, hands: Hands, seal: Seal, topic: str, clocks: Callable[[], SensorClocks]
    ) -> None:
        """Take what carries orders out, and the ``topic`` of answers."""
        self._context, self._hands, self._seal, self._topic, self._clocks = context, hands, seal, topic, clocks
        self.inbox = Inbox(context.executor.wake)
        self._words: OrderedDict[str, float] = OrderedDict()  # those given, and when by the machine's own clock
        self._answers: OrderedDict[str, tuple[int, bytes]] = OrderedDict()  # the last of each session
        self._waiting: deque[Order] = deque()
        self._begun: set[tuple[str, int]] = set()  # orders that wait or are carried out
        self._not_before: dict[str, float] = {}  # by enforcer, when a push is tried to be taken back again
        self.line: Line | None = None

    def wake_at(self) -> float:
        """Return when something is due."""
        if not self.inbox.is_empty:
            return 0.0
        if self._context.executor.busy(_LANE):
            return float("inf")
        now = self._context.clock.monotonic()
        due = (max(now + self._left_s(each), self._rests_until(each)) for each in self._hands.guards.all())
        return 0.0 if self._waiting else min(due, default=float("inf"))

    def turn(self, now: float) -> None:
        """Take what has come, and begin what is due."""
        for arrived in self.inbox.taken():
            if self.line is not None:
                self.line.acknowledge(arrived)
            self._hear(arrived.octets)
        if self._context.executor.busy(_LANE):
            return
        guards = self._hands.guards.all()
        overdue = next((each for each in guards if self._left_s(each) <= 0 and now >= self._rests_until(each)), None)
        if overdue is not None:
            self._take_back(overdue)
        elif self._waiting:
            order = self._waiting.popleft()
            work, finish = partial(self._hands.carry_out, order), partial(self._finish, order)
            self._context.executor.start(_LANE, work, finish)

    def _left_s(self, kept: Kept) -> float:
        grace = _FIRST_THE_ROSTER_S if self.line is not None and self.line.connected else 0.0
        return kept.left_s(self._clocks()) + grace

    def _rests_until(self, kept: Kept) -> float:
        return self._not_before.get(kept.enforcer, float("-inf"))

    def _hear(self, octets: bytes) -> None:
        """Take an order, or answer it at once."""
        try:
            order = order_from_json(self._seal.opened(ORDERS, octets))
        except MalformedFrame as error:
            self._context.trouble(_HEARING, str(error))
            return
        self._context.works(_HEARING)
        last = self._answers.get(order.session)
        if last is not None and last[0] == order.number:  # its answer was lost, or it came twice
            self._say(last[1])
        if (last is not None and last[0] >= order.number) or (order.session, order.number) in self._begun:
            return
        if isinstance(order.asks, WordWanted):
            self._answer(order, Answer(order.session, order.number))
        elif not self._is_good(order.word):
            self._answer(order, Answer(order.session, order.number, is_stale=True))
        elif len(self._waiting) >= _MOST_WAITING:
            self._answer(order, Answer(order.session, order.number, refused="it has too much to do"))
        else:
            self._begun.add((order.session, order.number))
            self._waiting.append(order)

    def _is_good(self, word: str) -> bool:
        """Tell whether an order's word was given within a minute, and take it: it is good once."""
        given = self._words.pop(word, None)
        return given is not None and 0 <= self._clocks().seconds - given <= GOOD_FOR_S

    def _finish(self, order: Order, answer: Answer | None, error: BaseException | None) -> None:
        self._begun.discard((order.session, order.number))
        if not any(each.enforcer == order.enforcer for each in self._hands.guards.all()):
            self._context.works(_TAKING_BACK.format(order.enforcer))  # or there is nothing any more to take back
        if answer is None:
            assert error is not None
            answer = Answer(order.session, order.number, failed=f"unexpected: {place_of(error)}")
        self._answer(order, answer)

    def _answer(self, order: Order, answer: Answer) -> None:
        """Answer with a word for the next order."""
        word = token_hex(16)
        self._words[word] = self._clocks().seconds
        text = answer_to_json(replace(answer, word=word))
        if len(text) > MOST_OCTETS:
            said = f"what it found has {len(text)} octets, which is too much"
            text = answer_to_json(Answer(order.session, order.number, word=word, failed=said))
        sealed = self._seal.closed(ANSWERS, text)
        if self._answers.get(order.session, (0, b""))[0] < order.number:  # who was interrupted asks on meanwhile
            self._answers[order.session] = order.number, sealed
            self._answers.move_to_end(order.session)
        for kept, most in ((self._words, _MOST_WORDS), (self._answers, _MOST_ANSWERS)):
            while len(kept) > most:
                kept.popitem(last=False)
        self._say(sealed)

    def _say(self, sealed: bytes) -> None:
        if self.line is not None:
            self.line.publish(self._topic, sealed)

    def _take_back(self, kept: Kept) -> None:
        doing = _TAKING_BACK.format(kept.enforcer)

        def finish(_: object, error: BaseException | None) -> None:
            if error is None:
                self._hands.guards.done(kept)
                self._context.works(doing)
                log.warning("push %d to %s was not kept: it is taken back", kept.guard.push, kept.enforcer)
                return
            self._not_before[kept.enforcer] = self._context.clock.monotonic() + _AGAIN_S
            known = isinstance(error, ScopionError)
            self._context.trouble(doing, str(error) if known else f"unexpected: {place_of(error)}")

        self._context.executor.start(_LANE, lambda: self._hands.take_back(kept), finish)
