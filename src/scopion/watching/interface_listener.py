"""Listens on one interface without end and gathers what is heard, within limits, until it is taken.

News - a pair of MAC and address that is not known to be here - wakes the thread that waits for it.
``InterfaceListener`` knows no thread; a thread of its own calls ``run``.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Container, MutableMapping
from dataclasses import dataclass, field
from datetime import datetime
from ipaddress import IPv4Address

from scopion.attachment.ports import Attachment, Interface, Traffic
from scopion.discovery.hearing import Hearing
from scopion.discovery.listening import Gathered
from scopion.model.errors import InterfaceLost
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source
from scopion.operations.intake.take_in import Known

# How often the listener looks up from a quiet link, to be stopped.
_TURN_S = 0.5
# A frame that comes again gives no new time until it is forgotten; a second is exact enough for presence.
_FORGET_S = 1.0
_GRAIN_S = 0.01  # of the time of day
# This many clients of a DHCP server at a time are asked whether they are there; all others wait for the sweep.
_MOST_REQUESTS = 64


@dataclass(slots=True)
class HeardSince:
    """What was heard since the last call."""

    observations: list[Observation] = field(default_factory=list)
    frames: int = 0
    malformed: int = 0
    passed_over: int = 0  # pairs beyond the limit
    dropped: int = 0  # frames for which the kernel had no room


class InterfaceListener:
    """The listener of one interface. Raises NotPermitted, InterfaceLost when it is made."""

    def __init__(
        self,
        attachment: Attachment,
        interface: Interface,
        on_news: Callable[[], None],
        own: Container[MacAddress] = (),
        heard: MutableMapping[MacAddress, datetime] | None = None,
    ) -> None:
        self.interface = interface
        self.lost = ""  # why it can hear no more
        self.known = Known()  # set by the caller after each fold
        self._clock = attachment.clock
        self._link = attachment.open_link(interface, Traffic.TALK)
        self._hearing = Hearing(interface.reaches)
        self._own = own
        self._heard = heard if heard is not None else {}
        self._on_news = on_news
        self._lock = threading.Lock()
        self._subnet = next(iter(interface.subnets), None)
        self._gathered = Gathered(self._subnet)
        self._forget_at = 0.0
        self._at, self._known_until = self._clock.now(), 0.0
        self._stopped = False
        self._requests: dict[MacAddress, IPv4Address] = {}  # by DHCP, of clients that are not known to be there
        self._frames = 0
        self._counted = (0, 0)
        self.has_news = False

    def run(self) -> None:
        """Listen until it is stopped or the interface is lost."""
        while not self._stopped and not self.lost:
            self.listen(self._clock.monotonic() + _TURN_S)
        self._link.close()

    def listen(self, until: float) -> None:
        """Take in what comes until a monotonic moment; return early once there is news."""
        try:
            while not self._stopped:
                arrival = self._link.receive(until)
                if arrival is None:
                    return
                if self._take(arrival.frame, arrival.at):
                    return
        except InterfaceLost as lost:
            if not self._stopped:
                self.lost = str(lost)
                self._on_news()

    def _take(self, frame: bytes, at: float) -> bool:
        """Take a frame. Returns whether it was the first news since the last call of ``take``."""
        if at >= self._known_until:
            self._at, self._known_until = self._clock.now(), at + _GRAIN_S
            if at >= self._forget_at:
                self._hearing.forget()
                self._forget_at = at + _FORGET_S
        self._frames += 1  # Hearing's own counts are by source: another thread must not add them up
        told = self._hearing.take(frame, self._at)
        if not told:
            return False
        first_news = False
        known = self.known
        with self._lock:
            for seen in told:
                if seen.mac is not None and seen.mac in self._own:
                    continue
                if seen.mac is not None and seen.mac in known.here:
                    self._heard[seen.mac] = self._at
                self._gathered.add(seen)
                news = known.is_news(seen) or self._is_request(seen)
                if not self.has_news and news:
                    self.has_news = first_news = True
        if first_news:
            self._on_news()
        return first_news

    def _is_request(self, seen: Observation) -> bool:
        """Tell whether a client has just asked by DHCP for an address at which it is not known to be."""
        if seen.source is not Source.DHCP or seen.mac is None or seen.address is not None:
            return False
        wanted, at = self._hearing.requested.get(seen.mac, (None, self._at))
        if wanted is None or at != seen.at or (seen.mac, wanted) in self.known.present:
            return False
        if len(self._requests) < _MOST_REQUESTS:
            self._requests[seen.mac] = wanted
        return True

    def take_requests(self) -> dict[MacAddress, IPv4Address]:
        """Return addresses that clients have asked for by DHCP since the last call, where they are not known to be."""
        with self._lock:
            requests, self._requests = self._requests, {}
        return requests

    def take(self) -> HeardSince:
        """Return what was heard since the last call."""
        with self._lock:
            gathered, self._gathered = self._gathered, Gathered(self._subnet)
            self.has_news = False
        frames, malformed = self._frames, self._hearing.malformed
        before, self._counted = self._counted, (frames, malformed)
        return HeardSince(
            observations=gathered.observations(),
            frames=frames - before[0],
            malformed=malformed - before[1],
            passed_over=gathered.passed_over,
            dropped=0 if self.lost else self._link.dropped(),
        )

    def stop(self) -> None:
        """Stop listening; the thread that runs it closes the link."""
        self._stopped = True

    def close(self) -> None:
        """Close the link, if no thread runs it."""
        self._link.close()
