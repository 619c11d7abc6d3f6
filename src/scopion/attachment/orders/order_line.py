"""Asks a sensor to do something, and waits for what came of it: an order with a word that the sensor gave.

The broker may deliver twice, late, or never: an order is sent again until its answer comes, and the sensor carries it
out once. A word is good for a minute and for one order, so that none that was recorded is of any use later.
"""

from __future__ import annotations

import queue
import secrets
import time
from collections.abc import Callable
from dataclasses import dataclass, field

from scopion.attachment.connect.mqtt_line import Arrived, MqttLine
from scopion.attachment.orders.order import GOOD_FOR_S, Answer, Asks, Jobs, Order, WordWanted
from scopion.attachment.orders.order_documents import answer_from_json, order_to_json
from scopion.attachment.orders.seal import ANSWERS, MOST_OCTETS, ORDERS, Seal
from scopion.attachment.ports import BrokerAccess
from scopion.model.errors import EnforcerUnreachable, MalformedFrame

_CONNECT_S, _WORD_S = 10.0, 15.0
# What a sensor does may take a login and a slow program; and each job a small machine half a second.
_DONE_S, _JOB_S = 60.0, 0.5
_AGAIN_S = 5.0
# A word that will not be good any more when the order arrives is not used.
_USED_WITHIN_S = GOOD_FOR_S - 15.0


@dataclass(frozen=True, slots=True)
class SensorAccess:
    """How to reach a sensor with orders. It holds secrets and is never shown."""

    sensor: str
    broker: BrokerAccess
    orders: str  # the topic where it reads them
    answers: str  # and where it answers
    seal: Seal = field(repr=False, compare=False)


class OrderLine:
    """Orders to one sensor; for one thread. Nothing is reached before the first order."""

    def __init__(self, access: SensorAccess) -> None:
        self._access = access
        self._session = secrets.token_hex(8)
        self._number = self._times_sent = 0
        self._word, self._word_at = "", 0.0
        self._heard: queue.SimpleQueue[Arrived | None] = queue.SimpleQueue()
        self._line: MqttLine | None = None

    def ask(self, enforcer: str, asks: Asks, on_sent: Callable[[], None] = lambda: None) -> Answer:
        """Return the answer to an order; ``on_sent`` is called as soon as it may be carried out.

        Raises EnforcerUnreachable if none comes in time, or the sensor refuses it.
        """
        answer = self._with_word(enforcer, asks, on_sent)
        if answer.is_stale and self._times_sent == 1:  # the sensor was started again before: nothing was done
            answer = self._with_word(enforcer, asks, on_sent)
        if answer.is_stale or answer.refused:
            why = answer.refused or "it was started again meanwhile, and may have done it or not"
            raise EnforcerUnreachable(f"the sensor {self._access.sensor} refuses it: {why}")
        return answer

    def close(self) -> None:
        """End the connection; a second call does nothing."""
        if self._line is not None:
            self._line.stop()
            self._line = None

    def _with_word(self, enforcer: str, asks: Asks, on_sent: Callable[[], None]) -> Answer:
        if not self._word or time.monotonic() - self._word_at > _USED_WITHIN_S:
            self._take_word(self._answered(enforcer, WordWanted(), "", _WORD_S, lambda: None))
            if not self._word:
                raise EnforcerUnreachable(f"the sensor {self._access.sensor} gives no word for an order")
        word, self._word = self._word, ""
        within_s = _DONE_S + _JOB_S * len(asks.jobs) if isinstance(asks, Jobs) else _DONE_S
        answer = self._answered(enforcer, asks, word, within_s, on_sent)
        self._take_word(answer)
        return answer

    def _take_word(self, answer: Answer) -> None:
        self._word, self._word_at = answer.word, time.monotonic()

    def _answered(self, enforcer: str, asks: Asks, word: str, within_s: float, on_sent: Callable[[], None]) -> Answer:
        """Send an order until its answer comes. Raises EnforcerUnreachable."""
        self._number += 1
        text = order_to_json(Order(self._session, self._number, word, enforcer, asks))
        if len(text) > MOST_OCTETS:
            raise EnforcerUnreachable(f"an order of {len(text)} octets to {self._access.sensor} is too large")
        sealed = self._access.seal.closed(ORDERS, text)
        line = self._connected()
        deadline, again_at, self._times_sent = time.monotonic() + within_s, 0.0, 0
        while (now := time.monotonic()) < deadline:
            if line.refused:
                raise EnforcerUnreachable(f"orders to {self._access.sensor}: {line.refused}")
            if now >= again_at and line.connected:
                if not self._times_sent:
                    on_sent()
                self._times_sent += 1
                again_at = now + _AGAIN_S
                line.publish(self._access.orders, sealed)
            answer = self._next(min(deadline, again_at if line.connected else deadline))
            if answer is not None:
                return answer
        raise EnforcerUnreachable(self._silent(line, within_s))

    def _silent(self, line: MqttLine, within_s: float) -> str:
        name = self._access.sensor
        if not line.connected:
            return f"the broker at {self._access.broker}, by which {name} takes orders: {line.problem or 'no answer'}"
        return f"the sensor {name} does not answer within {within_s:g} seconds: scopion sensors shows how it does"

    def _next(self, until: float) -> Answer | None:
        """Return the answer to the last order; None if something else came, or nothing did."""
        try:
            arrived = self._heard.get(timeout=max(0.0, until - time.monotonic()))
        except queue.Empty:
            return None
        if arrived is None or self._line is None:
            return None
        self._line.acknowledge(arrived)
        try:
            answer = answer_from_json(self._access.seal.opened(ANSWERS, arrived.octets))
        except MalformedFrame:  # not the sensor's: who has the broker in hand may say anything
            return None
        return answer if (answer.session, answer.number) == (self._session, self._number) else None

    def _connected(self) -> MqttLine:
        """Return the connection, once it is up. Raises EnforcerUnreachable."""
        if self._line is None:
            access = self._access
            name = f"{access.orders.rpartition('/')[0]}/{self._session}"
            self._line = MqttLine(access.broker, name, [access.answers], self._heard.put, lambda: self._heard.put(None))
            self._line.start()
        deadline = time.monotonic() + _CONNECT_S
        while not self._line.connected:
            left = deadline - time.monotonic()
            if left <= 0 or self._line.problem:
                problem = self._line.problem or f"no answer within {_CONNECT_S:g} seconds"
                where = f"the broker at {self._access.broker}"
                self.close()
                raise EnforcerUnreachable(f"{where}, by which {self._access.sensor} takes orders: {problem}")
            try:
                self._heard.get(timeout=left)
            except queue.Empty:
                continue
        return self._line
