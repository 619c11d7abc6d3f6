"""Takes refused devices off the air: Disconnect-Requests (RFC 5176), until each is gone.

An access point may go by an earlier decision for a while, so that a device comes back from that memory: then it is told
once more after that time. Pure: what is due goes out, what came back goes in.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from enum import Enum

from scopion.model.mac import MacAddress
from scopion.wire.radius import Attributes, Code, RadiusMessage, SentRequest, encode_request
from scopion.wireless.radius.asking_points import AskingPoint
from scopion.wireless.radius.sessions import Session

_REPEAT_S, _REPEATS = 2.0, 3  # a request that gets no reply (RFC 5176, 2.3 repeats as RFC 5080 says)
_LATER_S = 60.0  # an access point that does not answer is told again after this
_GIVE_UP_S = 3_600.0
_MOST = 1_024
_NO_SUCH_SESSION = 503  # Error-Cause (RFC 5176, 3.5)
_MARGIN_S = 1.0  # beyond the access point's memory


class Told(Enum):
    """What an access point said last."""

    NOTHING = "does not answer"
    DONE = "has disconnected it"
    NOT_THERE = "does not have it"
    REFUSED = "refuses to disconnect it"


@dataclass(frozen=True, slots=True)
class Departure:
    """A device that is to leave an access point."""

    access_point: str
    network: str
    mac: MacAddress
    written: str
    address: str  # of the access point
    since: datetime
    begun: float  # monotonic, like the following
    due: float
    sent: int = 0  # requests without a reply
    again: bool = False  # the access point was told, and may have let it in from its memory since
    told: Told = Told.NOTHING

    @property
    def key(self) -> tuple[str, str, MacAddress]:
        """Return what tells departures apart."""
        return self.access_point, self.network, self.mac


@dataclass(frozen=True, slots=True)
class Order:
    """A request that is due now."""

    departure: Departure
    request: SentRequest
    identifier: int
    port: int  # of the access point


class Disconnections:
    """All departures that are not over."""

    def __init__(self) -> None:
        self._by_key: dict[tuple[str, str, MacAddress], Departure] = {}
        self._sent: dict[int, Order] = {}  # by identifier
        self._identifier = 0
        self._wanted: Collection[tuple[str, str, MacAddress]] = ()

    def __iter__(self) -> Iterator[Departure]:
        return iter(self._by_key.values())

    def want(self, refused: Iterable[Session], now: datetime, monotonic: float) -> None:
        """Have these sessions end; departures of devices that are not among them are over.

        The caller gives all sessions that are refused now.
        """
        wanted = {each.departure: each for each in refused}
        self._wanted = wanted.keys()
        for key in self._by_key.keys() - wanted.keys():
            # The end of the session may be heard before the reply; and then it may come back from the access point's
            # memory.
            if not self._by_key[key].again and not self._by_key[key].sent:
                del self._by_key[key]
        for key, each in wanted.items():
            if key not in self._by_key and len(self._by_key) < _MOST:
                self._by_key[key] = Departure(*key, each.written, each.address, now, monotonic, monotonic)

    def admit(self, admitted: Iterable[tuple[str, str, MacAddress]]) -> None:
        """Forget the departures of devices that are admitted by now."""
        for key in admitted:
            self._by_key.pop(key, None)

    def wake_at(self) -> float:
        """Return when a request is due next, by the monotonic clock."""
        return min((each.due for each in self._by_key.values()), default=float("inf"))

    def due(self, points: Mapping[str, AskingPoint], now: datetime, monotonic: float) -> list[Order]:
        """Return the requests that are to be sent now, each to its access point."""
        orders = []
        for key, each in list(self._by_key.items()):
            if each.due > monotonic:
                continue
            point = points.get(each.access_point)
            gone = key not in self._wanted and each.sent >= _REPEATS  # and the access point says nothing of it
            closed = point is None or not point.settings.disconnect_port
            if point is None or closed or gone or monotonic - each.begun > _GIVE_UP_S:
                del self._by_key[key]
                continue
            self._identifier = (self._identifier + 1) % 256
            attributes: Attributes = {"Calling-Station-Id": each.written, "Event-Timestamp": int(now.timestamp())}
            request = encode_request(
                Code.DISCONNECT_REQUEST, point.secret, attributes, identifier=self._identifier, signed=False
            )
            wait = _REPEAT_S if each.sent + 1 < _REPEATS else _LATER_S
            self._by_key[key] = sent = replace(each, sent=each.sent + 1, due=monotonic + wait)
            order = Order(sent, request, self._identifier, point.settings.disconnect_port)
            self._sent[self._identifier] = order
            orders.append(order)
        return orders

    def hear(self, data: bytes, source: str, remembers_s: Mapping[str, float], monotonic: float) -> Departure | None:
        """Take in a reply. Returns the departure that it is about, as it is now; None if it is none to a request."""
        order = self._sent.get(data[1]) if len(data) > 1 else None
        asked = order is not None and order.departure.address == source
        message = order.request.read_reply(data) if order is not None and asked else None
        if order is None or message is None:
            return None
        del self._sent[order.identifier]
        departure = self._by_key.get(order.departure.key)
        if departure is None:
            return None
        told = _told(message)
        if told is Told.NOT_THERE:
            del self._by_key[departure.key]
            return replace(departure, told=told)
        memory = remembers_s.get(departure.access_point, 0.0) + _MARGIN_S
        wait = memory if told is Told.DONE else _LATER_S
        heard = replace(departure, told=told, sent=0, due=monotonic + wait, again=told is Told.DONE)
        self._by_key[departure.key] = heard
        return heard


def _told(message: RadiusMessage) -> Told:
    if message.code == Code.DISCONNECT_ACK:
        return Told.DONE
    return Told.NOT_THERE if message.number("Error-Cause") == _NO_SUCH_SESSION else Told.REFUSED
