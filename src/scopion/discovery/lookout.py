"""Watches a subnet for devices that come and go, as soon as it shows: by listening, and by asking again and again.

With raw frames a device that boots is heard with its first frame; without them, the touches find it at their next turn.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from ipaddress import IPv4Address
from typing import Protocol

from scopion.attachment.ports import Attachment, Interface, Traffic
from scopion.discovery.echo_prober import EchoProber
from scopion.discovery.hearing import Hearing
from scopion.discovery.prober import Prober
from scopion.discovery.probing import Method, open_prober
from scopion.discovery.sweep import Sweep, SweepPlan
from scopion.model.address import Address
from scopion.model.errors import InterfaceLost
from scopion.model.observation import Observation
from scopion.wire.arp import encode_request

# Vacant addresses are asked again this often: with the two seconds that a kernel's own tries may take, within three.
AGAIN_S = 1.0
# A present device is asked this often, and is gone after this long and this many requests without a sign: a dozing
# station needs a second or two.
CHECK_EVERY_S, GONE_AFTER_S, GONE_AFTER_REQUESTS = 0.5, 2.5, 4
_FRAMES_A_TURN = 256


class Lookout(Protocol):
    """Watches for devices that show up."""

    def turn(self, addresses: Collection[IPv4Address]) -> Iterator[Observation]:
        """Ask these addresses and listen for a moment; yield the devices that showed up meanwhile."""

    def close(self) -> None:
        """Close the sockets."""


def open_lookout(
    attachment: Attachment, interface: Interface, own_address: IPv4Address, method: Method, pace: float
) -> Lookout:
    """Return the lookout for a method. Raises NotPermitted, InterfaceLost."""
    again = _Again(pace, AGAIN_S)
    if method is Method.ARP:
        return _FrameLookout(attachment, interface, own_address, again)
    return _AskingLookout(attachment, open_prober(method, attachment, interface, own_address), again)


class _Again:
    """One sweep after the other."""

    def __init__(self, pace: float, every_s: float) -> None:
        self._plan = SweepPlan(pace, max_rounds=1, min_rounds=1, min_span_s=0.0, checks=False)
        self._every_s = every_s
        self._sweep: Sweep | None = None
        self._next_at = 0.0

    def due(self, addresses: Iterable[Address], now: float) -> list[Address]:
        """Return the addresses to ask now."""
        if (self._sweep is None or self._sweep.done) and now >= self._next_at:
            self._sweep = Sweep(addresses, self._plan)
            self._next_at = now + self._every_s
        return self._sweep.due(now) if self._sweep else []

    def wake_at(self, now: float) -> float:
        """Return when an address is due again."""
        return max(now, self._sweep.wake_at() if self._sweep and not self._sweep.done else self._next_at)


class _FrameLookout:
    """Uses raw frames: one link both asks and hears everything, so that a device's first frame is seen at once."""

    def __init__(self, attachment: Attachment, interface: Interface, own_address: IPv4Address, again: _Again) -> None:
        if interface.mac is None:
            raise InterfaceLost(f"{interface.name} has no MAC address, so ARP does not work on it")
        self._clock = attachment.clock
        self._mac, self._own = interface.mac, own_address
        self._again = again
        self._hearing = Hearing(interface.reaches)
        self._link = attachment.open_link(interface, Traffic.TALK)

    def turn(self, addresses: Collection[IPv4Address]) -> Iterator[Observation]:
        """Ask the addresses that are due, then listen until one is due again; at most a few hundred frames."""
        now = self._clock.monotonic()
        for address in self._again.due(addresses, now):
            if isinstance(address, IPv4Address):
                self._link.send(encode_request(self._mac, self._own, address))
        until = min(self._again.wake_at(now), now + AGAIN_S)
        self._hearing.forget()
        for _ in range(_FRAMES_A_TURN):
            arrival = self._link.receive(until)
            if arrival is None:
                return
            until = arrival.at
            yield from (seen for seen in self._hearing.take(arrival.frame, self._clock.now()) if seen.mac != self._mac)

    def close(self) -> None:
        """Close the link."""
        self._link.close()


class _AskingLookout:
    """Uses any other way of asking, without listening."""

    def __init__(self, attachment: Attachment, prober: Prober, again: _Again) -> None:
        self._clock = attachment.clock
        self._prober = prober
        self._again = again

    def turn(self, addresses: Collection[IPv4Address]) -> Iterator[Observation]:
        """Ask the addresses that are due, and take in the answers."""
        now = self._clock.monotonic()
        for address in self._again.due(addresses, now):
            self._prober.ask(address)
        for answer in self._prober.answers(min(self._again.wake_at(now), now + AGAIN_S)):
            yield Observation(answer.mac, answer.address, self._clock.now(), answer.source)

    def close(self) -> None:
        """Close the sockets."""
        self._prober.close()


class Roll:
    """Asks devices that are here again and again, until one no longer answers."""

    def __init__(
        self,
        attachment: Attachment,
        interface: Interface,
        own_address: IPv4Address,
        method: Method,
        pace: float,
        present: Collection[Observation],
    ) -> None:
        self._clock = attachment.clock
        raw = method is Method.ARP
        # A kernel's table trusts a neighbour for up to a minute. Without raw frames hosts are asked for a sign of life
        # of their own: an echo or a TCP port.
        self._prober: Prober
        if raw:
            self._prober = open_prober(Method.ARP, attachment, interface, own_address)
        else:
            self._prober = EchoProber(attachment, interface, on_and_on=True)
        now = self._clock.monotonic()
        self._present = {seen.address: seen for seen in present if seen.address is not None}
        self._last_sign = dict.fromkeys(self._present, now)
        self._requests = dict.fromkeys(self._present, 0)
        self._answers_at_all: set[Address] = set(self._present) if raw else set()
        self._again = _Again(pace, CHECK_EVERY_S)

    @property
    def mute(self) -> list[Address]:
        """Return the addresses that have never given a sign of life to this way of asking: it cannot watch them."""
        return [address for address in self._present if address not in self._answers_at_all]

    def turn(self) -> Observation | None:
        """Ask for a moment; return a device that has just turned out to be gone, or None."""
        now = self._clock.monotonic()
        for address in self._again.due(self._present, now):
            self._prober.ask(address)
            self._requests[address] += 1
        for answer in self._prober.answers(min(self._again.wake_at(now), now + CHECK_EVERY_S)):
            known = self._present.get(answer.address)
            if known is not None and (answer.mac == known.mac or answer.mac is None):
                self._last_sign[answer.address] = self._clock.monotonic()
                self._requests[answer.address] = 0
                self._answers_at_all.add(answer.address)
        now = self._clock.monotonic()
        for address, seen in self._present.items():
            silent = now - self._last_sign[address] > GONE_AFTER_S and self._requests[address] >= GONE_AFTER_REQUESTS
            if silent and address in self._answers_at_all:
                return seen
        return None

    def close(self) -> None:
        """Close the sockets."""
        self._prober.close()
