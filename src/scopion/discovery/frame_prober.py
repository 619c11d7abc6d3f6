"""Asking by raw frames: ARP for IPv4 (RFC 826), neighbour solicitations and an echo to all nodes for IPv6.

A host that answers, or claims an address by any other frame, is paired with the MAC address of that frame.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from ipaddress import IPv4Address, IPv6Address
from random import SystemRandom

from scopion.attachment.ports import Attachment, Interface, ReceivedFrame
from scopion.discovery.prober import Answer
from scopion.model.address import Address
from scopion.model.errors import InterfaceLost, MalformedFrame
from scopion.model.mac import MacAddress
from scopion.model.observation import Source
from scopion.wire.arp import REPLY, decode_arp, encode_request
from scopion.wire.ethernet import BROADCAST, TYPE_ARP, decode_header
from scopion.wire.icmp import ALL_NODES, Echo, decode_echo, encode_echo
from scopion.wire.ip import ICMPV6, decode_ip, encode_ip
from scopion.wire.ndp import NdpKind, decode_ndp, encode_solicitation, group_mac

# Frames taken in before the sender gets its turn again, so that a flood cannot stop the sweep.
_TURN = 64
_LINK_HOPS = 64


class FrameProber:
    """Requests over raw frames. Raises NotPermitted and InterfaceLost when it is made."""

    greets = True

    def __init__(self, attachment: Attachment, interface: Interface, own_address: IPv4Address) -> None:
        if interface.mac is None:
            raise InterfaceLost(f"{interface.name} has no MAC address, so ARP does not work on it")
        self._mac = interface.mac
        self._own = own_address
        self._interface = interface
        # Tells the answers to our echo from those to other hosts.
        self._echo = SystemRandom().randrange(1 << 16)
        self._link = attachment.open_link(interface)

    def ask(self, address: Address) -> None:
        """Broadcast a request, or solicit the neighbour."""
        self._send(address, None)

    def greet(self, address: Address, mac: MacAddress) -> None:
        """Send the same to one adapter: on the air such a frame is repeated until it is acknowledged."""
        self._send(address, mac)

    def _send(self, address: Address, to: MacAddress | None) -> None:
        if isinstance(address, IPv4Address):
            self._link.send(encode_request(self._mac, self._own, address, to or BROADCAST))
            return
        source = self._interface.ipv6_towards(address)
        if source is not None:
            self._link.send(encode_solicitation(self._mac, source, address, to))

    def call(self) -> None:
        """Ask all IPv6 nodes of the link for an echo, from each of our addresses: they answer from the matching one."""
        for own in self._interface.ipv6:
            message = encode_echo(own.ip, ALL_NODES, Echo(False, self._echo, 1))
            ends = (self._mac, group_mac(ALL_NODES))
            self._link.send(encode_ip(ends, own.ip, ALL_NODES, ICMPV6, message, _LINK_HOPS))

    def answers(self, deadline: float) -> Iterator[Answer]:
        """Decode what has arrived; any frame by which another host claims an address shows that it is there."""
        for _ in range(_TURN):
            arrival = self._link.receive(deadline)
            if arrival is None:
                return
            deadline = arrival.at  # what else is there already, without more waiting
            with suppress(MalformedFrame):  # any host can send rubbish; it says nothing about presence
                answer = self._answer(arrival)
                if answer is not None and answer.mac != self._mac:
                    yield answer

    def undecided(self) -> bool:
        """Return False: an answer comes or it does not."""
        return False

    def close(self) -> None:
        """Close the link."""
        self._link.close()

    def _answer(self, arrival: ReceivedFrame) -> Answer | None:
        header, cursor = decode_header(arrival.frame)
        if header.type == TYPE_ARP:
            arp = decode_arp(arrival.frame)
            if arp is None or not arp.claims_an_address:
                return None
            to_us = arp.operation == REPLY and arp.target_mac == self._mac
            return Answer(arp.sender_address, arp.sender_mac, arrival.at, Source.ARP, asked=to_us)
        packet = decode_ip(header.type, cursor)
        if packet is None or header.source.is_multicast:
            return None
        ndp = decode_ndp(packet)
        if ndp is not None and isinstance(ndp.claimed, IPv6Address) and self._on_link(ndp.claimed):
            answered = ndp.kind is NdpKind.NEIGHBOUR_ADVERTISEMENT and ndp.solicited
            return Answer(ndp.claimed, ndp.mac or header.source, arrival.at, Source.NDP, asked=answered)
        echo = decode_echo(packet.protocol, packet.payload)
        ours = echo is not None and echo.reply and echo.identifier == self._echo
        if not ours or not self._on_link(packet.source):
            return None
        return Answer(packet.source, header.source, arrival.at, Source.ECHO, asked=False)

    def _on_link(self, address: Address) -> bool:
        """Tell whether an IPv6 address belongs to this link: a frame from a farther one has a router's MAC address."""
        return isinstance(address, IPv6Address) and self._interface.ipv6_towards(address) is not None
