"""A connection to an MQTT 5 broker that is kept up by a thread of its own.

A session that outlives the connection lets the broker keep what comes meanwhile. What was handed over and not received
by the broker yet is sent again after a break; so a reader must expect everything twice.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from scopion.attachment.connect.mqtt_client import BrokerFailed, may_not, new_client, open_connection, refusal
from scopion.attachment.ports import BrokerAccess
from scopion.model.errors import place_of

_CONNECT_S = 10.0
_FIRST_PAUSE_S, _LONGEST_PAUSE_S = 1.0, 30.0
_TURN_S = 1.0
_NOT_YET, _BROKE = "", "the connection broke"


@dataclass(frozen=True, slots=True)
class Arrived:
    """A document that has come."""

    topic: str
    octets: bytes
    retained: bool  # it was kept by the broker, and may be old
    mark: int  # by which it is acknowledged


@dataclass(frozen=True, slots=True)
class Will:
    """What the broker says for us when the connection breaks."""

    topic: str
    octets: bytes


class MqttLine:
    """One connection. ``on_arrival`` and ``on_change`` are called by its thread."""

    def __init__(
        self,
        access: BrokerAccess,
        client: str,
        topics: Sequence[str],
        on_arrival: Callable[[Arrived], None],
        on_change: Callable[[], None],
        *,
        will: Will | None = None,
        session_s: int = 0,
    ) -> None:
        """Prepare a connection; ``client`` is the name of the session. Raises LiveNetworkLocked,
        InvalidSettings.
        """
        self._access = access
        self._topics = list(topics)
        self._on_arrival, self._on_change = on_arrival, on_change
        self._session_s = session_s
        self._stopped = threading.Event()
        self._thread: threading.Thread | None = None
        self.connected = False
        self.problem = _NOT_YET  # empty while it is connected, or was not tried yet
        self.refused = ""  # what the broker did not let this account do, though it is connected
        self.address = ""  # our own, as the connection has it
        # How many documents were handed over, and of how many the broker has said that it has, or refuses, them.
        self.published = self.confirmed = 0
        self._client = self._made(client, will)

    def _made(self, name: str, will: Will | None) -> Any:
        made = new_client(self._access, name, _CONNECT_S)
        if will is not None:
            made.will_set(will.topic, will.octets, qos=1, retain=True)
        made.on_connect, made.on_disconnect, made.on_message = self._connected, self._disconnected, self._arrived
        made.on_publish, made.on_subscribe = self._published, self._subscribed
        return made

    def start(self) -> None:
        """Connect, and stay connected until it is stopped."""
        self._thread = threading.Thread(target=self._run, name="broker", daemon=True)
        self._thread.start()

    def stop(self, within_s: float = 2.0) -> None:
        """End the connection well: the broker says no will."""
        self._stopped.set()
        with suppress(Exception):
            self._client.disconnect()
        if self._thread is not None:
            self._thread.join(within_s)

    def publish(self, topic: str, octets: bytes, *, retain: bool = False) -> bool:
        """Hand a document over, at least once. Returns whether the connection is up; without, nothing is kept."""
        if not self.connected:
            return False
        self.published += 1
        self._client.publish(topic, octets, qos=1, retain=retain)
        return True

    def acknowledge(self, arrived: Arrived) -> None:
        """Say that a document need not be sent again."""
        self._client.ack(arrived.mark, 1)

    def _run(self) -> None:
        pause = _FIRST_PAUSE_S
        while not self._stopped.is_set():
            try:
                if self._open():
                    while not self._stopped.is_set() and self._client.loop(_TURN_S) == 0:
                        if self.connected:
                            pause = _FIRST_PAUSE_S
                self._gone(_BROKE)
            except Exception as error:  # one odd packet must not leave the line dead unnoticed
                self._gone(f"unexpected: {place_of(error)}")
            self._stopped.wait(pause)
            pause = min(2 * pause, _LONGEST_PAUSE_S)
        with suppress(Exception):
            self._client.loop(0.1)

    def _open(self) -> bool:
        try:
            open_connection(self._client, self._access, _CONNECT_S, self._session_s)
        except BrokerFailed as error:
            self._gone(str(error))
            return False
        return True

    def _connected(self, client: Any, userdata: Any, flags: Any, reason: Any, properties: Any) -> None:
        if reason.is_failure:
            self._gone(refusal(str(reason)))
            return
        line = client.socket()
        self.address = str(line.getsockname()[0]) if line is not None else ""
        self.connected, self.problem, self.refused = True, "", ""
        if self._topics:
            client.subscribe([(topic, _at_least_once()) for topic in self._topics])
        self._on_change()

    def _published(self, client: Any, userdata: Any, number: int, reason: Any, properties: Any) -> None:
        self.confirmed += 1
        if self.confirmed >= self.published:
            self._on_change()
        if reason.is_failure:
            self._is_refused(may_not("write", str(reason)))

    def _subscribed(self, client: Any, userdata: Any, number: int, reasons: Any, properties: Any) -> None:
        for each in reasons:
            if each.is_failure:
                self._is_refused(may_not("read", str(each)))

    def _is_refused(self, why: str) -> None:
        self.refused = why
        self._on_change()

    def _disconnected(self, client: Any, userdata: Any, flags: Any, reason: Any, properties: Any) -> None:
        if self.connected:
            self._gone("the broker ended the connection" if not reason.is_failure else refusal(str(reason)))

    def _gone(self, why: str) -> None:
        """Note that there is no connection, and tell it if that, or the reason, is new."""
        was, self.connected = (self.connected, self.problem), False
        # That a connection broke which never came about says less than what was said before.
        if why != _BROKE or was[0]:
            self.problem = why
        elif self.problem == _NOT_YET:
            self.problem = _BROKE
        if was != (self.connected, self.problem):
            self._on_change()

    def _arrived(self, client: Any, userdata: Any, message: Any) -> None:
        self._on_arrival(Arrived(message.topic, bytes(message.payload), bool(message.retain), int(message.mid)))


def _at_least_once() -> Any:
    from paho.mqtt.subscribeoptions import SubscribeOptions

    return SubscribeOptions(qos=1)
