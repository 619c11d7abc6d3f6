"""The ways of asking an address whether somebody is there: by ARP over raw frames, or by a touch without privilege."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Address
from typing import Protocol

from scopion.attachment.ports import Attachment, Interface, NeighbourState
from scopion.discovery.sweep import USUAL_PATIENCE, Patience, SweepPlan
from scopion.model.errors import InterfaceLost, MalformedFrame
from scopion.model.mac import MacAddress
from scopion.model.observation import Source
from scopion.wire.arp import REPLY, decode_arp, encode_request

# Frames taken in before the sender gets its turn again, so that a flood cannot stop the sweep.
_TURN = 64
# How often the neighbour table is read while waiting: a dump of some hundred entries takes a millisecond.
_TABLE_EVERY_S = 0.05
# The kernel asks three times, a second apart (mcast_solicit, retrans_time_ms of neigh/default), then gives up.
KERNEL_REQUESTS = 3
_KERNEL_SPAN_S = 3.3
# A little more than was asked for, so that no clock's grain spoils it.
_GRAIN_S = 0.1
# An entry that was stale is first believed for 5 s (delay_first_probe_time), then asked three times.
CHECKING_LIMIT_S = 9.0
# The kernel's table holds 1,024 entries and starts to throw out at 512 (gc_thresh): never more at once than this.
TOUCH_PORTION = 256
# A sweep keeps some hundred bytes an address: 20 MB for a portion, whatever the range. A /16 is one.
ARP_PORTION = 65_536


class Method(StrEnum):
    """How a scan asks."""

    ARP = "arp"
    TOUCH = "touch"


@dataclass(frozen=True, slots=True)
class Answer:
    """Somebody is there. ``asked`` is False for what was not, at this very time, an answer to us."""

    address: IPv4Address
    mac: MacAddress
    at: float
    asked: bool = True


class Asker(Protocol):
    """One way of asking, on one interface."""

    source: Source

    def ask(self, address: IPv4Address) -> None:
        """Ask once."""

    def answers(self, deadline: float) -> Iterator[Answer]:
        """What has come in; waits until the monotonic ``deadline`` at most for the first."""

    def undecided(self) -> bool:
        """Whether the system is still finding out about somebody who was asked."""

    def close(self) -> None:
        """Give the sockets back."""


class ArpAsker:
    """ARP requests over raw frames. Raises NotPermitted and InterfaceLost when it is made."""

    source = Source.ARP

    def __init__(self, attachment: Attachment, interface: Interface, own_address: IPv4Address) -> None:
        if interface.mac is None:
            raise InterfaceLost(f"{interface.name} has no MAC address, so ARP does not work on it")
        self._mac = interface.mac
        self._own = own_address
        self._link = attachment.open_link(interface)

    def ask(self, address: IPv4Address) -> None:
        """Broadcast a request."""
        self._link.send(encode_request(self._mac, self._own, address))

    def answers(self, deadline: float) -> Iterator[Answer]:
        """Decode what has arrived; any ARP frame of somebody else shows that they are there."""
        for _ in range(_TURN):
            arrival = self._link.receive(deadline)
            if arrival is None:
                return
            deadline = arrival.at  # what else is there already, without more waiting
            with suppress(MalformedFrame):  # anybody can send rubbish; it says nothing about presence
                packet = decode_arp(arrival.frame)
                if packet and packet.claims_an_address and packet.sender_mac != self._mac:
                    to_us = packet.operation == REPLY and packet.target_mac == self._mac
                    yield Answer(packet.sender_address, packet.sender_mac, arrival.at, asked=to_us)

    def undecided(self) -> bool:
        """Never: an answer comes or it does not."""
        return False

    def close(self) -> None:
        """Close the link."""
        self._link.close()


class TouchAsker:
    """Empty datagrams, and what the system's neighbour table makes of them."""

    source = Source.NEIGHBOURS

    def __init__(self, attachment: Attachment, interface: Interface) -> None:
        self._attachment = attachment
        self._interface = interface
        self._datagrams = attachment.open_datagrams(interface)
        self._waiting: deque[IPv4Address] = deque()  # the system had no room for them yet
        self._open: set[IPv4Address] = set()
        self._refused: dict[IPv4Address, float] = {}
        self._checking = False
        self._read_at = 0.0

    def ask(self, address: IPv4Address) -> None:
        """Touch the address, or put it by until the system has room."""
        self._open.add(address)
        if self._waiting or not self._datagrams.touch(address):
            self._waiting.append(address)

    def answers(self, deadline: float) -> Iterator[Answer]:
        """Read the table every now and then, with the refusals that have come in."""
        clock = self._attachment.clock
        while self._waiting and self._datagrams.touch(self._waiting[0]):
            self._waiting.popleft()
        self._datagrams.wait(min(deadline, clock.monotonic() + _TABLE_EVERY_S))
        self._refused.update(self._datagrams.refusals())
        now = clock.monotonic()
        if now - self._read_at < _TABLE_EVERY_S and now < deadline:
            return
        self._read_at = now
        yield from self._read_table(now)

    def undecided(self) -> bool:
        """Whether stale entries are being checked, or touches wait for room."""
        return self._checking or bool(self._waiting)

    def close(self) -> None:
        """Close the socket."""
        self._datagrams.close()

    def _read_table(self, now: float) -> Iterator[Answer]:
        self._checking = False
        for entry in self._attachment.neighbours(self._interface):
            if entry.address not in self._open or entry.mac is None:
                continue
            if entry.state is NeighbourState.REACHABLE or entry.address in self._refused:
                self._open.discard(entry.address)
                refused_at = self._refused.get(entry.address)
                # The table tells that a neighbour answered, only a refusal tells when.
                at = now if refused_at is None else refused_at
                yield Answer(entry.address, entry.mac, at, asked=refused_at is not None)
            elif entry.state is NeighbourState.CHECKING:
                self._checking = True


def open_asker(method: Method, attachment: Attachment, interface: Interface, own_address: IPv4Address) -> Asker:
    """The asker for a method."""
    if method is Method.ARP:
        return ArpAsker(attachment, interface, own_address)
    return TouchAsker(attachment, interface)


def plan_for(
    method: Method, pace: float, max_rounds: int | None = None, patience: Patience = USUAL_PATIENCE
) -> SweepPlan:
    """The plan that suits a method, and asks often and long enough for silence to count.

    The kernel repeats touches by itself, and repeating them tells nothing of loss.
    """
    if method is Method.TOUCH:
        rounds = max_rounds or -(-patience.requests // KERNEL_REQUESTS)
        return SweepPlan(
            pace,
            max_rounds=rounds,
            min_rounds=rounds,
            min_span_s=patience.span_s + _GRAIN_S,
            min_round_s=_KERNEL_SPAN_S,
            checks=False,
            patience=patience,
        )
    usual = SweepPlan(pace)
    rounds = max_rounds or max(usual.max_rounds, patience.requests)
    return SweepPlan(
        pace,
        max_rounds=rounds,
        min_rounds=min(rounds, max(usual.min_rounds, patience.requests)),
        min_span_s=max(usual.min_span_s, patience.span_s + _GRAIN_S),
        patience=patience,
    )
