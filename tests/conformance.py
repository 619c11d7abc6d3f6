"""What every attachment must do. The made-up segment and the kernel's segment both pass these same tests.

A subclass gives an attachment at 192.0.2.10 on eth0, among hosts at ``hosts`` and none at ``vacant``.
"""

from __future__ import annotations

import unittest
from abc import abstractmethod
from collections.abc import Mapping
from ipaddress import IPv4Address, IPv4Network

from scopion.attachment.ports import Attachment, Interface, Link, NeighbourState, ReceivedFrame
from scopion.discovery.probing import Method, open_prober, plan_for
from scopion.discovery.runner import run_scan
from scopion.model.errors import InterfaceLost
from scopion.model.mac import MacAddress
from scopion.wire.arp import REPLY, decode_arp, encode_request

OWN = IPv4Address("192.0.2.10")


def arp_frame(link: Link, until: float) -> ReceivedFrame | None:
    """The next ARP frame: kernels also speak of their IPv6 addresses, whenever they like."""
    while (arrival := link.receive(until)) is not None:
        if decode_arp(arrival.frame) is not None:
            return arrival
    return None


class AttachmentConformance(unittest.TestCase):
    """The promises of ``attachment.ports``."""

    attachment: Attachment
    hosts: Mapping[IPv4Address, MacAddress]
    vacant = IPv4Address("192.0.2.250")

    @abstractmethod
    def pull_the_plug(self) -> None:
        """Take eth0 down."""

    @property
    def eth0(self) -> Interface:
        """The interface on the segment."""
        return next(each for each in self.attachment.interfaces() if each.name == "eth0")

    def test_the_interface_is_described(self) -> None:
        """Address, subnet, MAC, gateway, and that it is up."""
        interface = self.eth0
        self.assertTrue(interface.can_resolve)
        self.assertEqual(interface.subnets, (IPv4Network("192.0.2.0/24"),))
        self.assertEqual(interface.address_in(self.vacant), OWN)
        self.assertEqual(str(interface.mac), "60:f2:a7:10:00:0a")
        self.assertEqual(interface.gateway, IPv4Address("192.0.2.1"))
        self.assertTrue(self.attachment.rights().raw_frames)

    def test_a_request_is_answered_by_its_host_only(self) -> None:
        """One frame out, one reply in, to us, with a time between sending and now; nothing for a vacant address."""
        interface, clock = self.eth0, self.attachment.clock
        assert interface.mac is not None
        link = self.attachment.open_link(interface)
        self.addCleanup(link.close)
        for address, mac in self.hosts.items():
            sent = clock.monotonic()
            link.send(encode_request(interface.mac, OWN, address))
            arrival = arp_frame(link, sent + 2.0)
            assert arrival is not None
            packet = decode_arp(arrival.frame)
            assert packet is not None
            self.assertEqual((packet.operation, packet.sender_mac, packet.sender_address), (REPLY, mac, address))
            self.assertEqual(packet.target_mac, interface.mac)
            self.assertLessEqual(sent - 0.001, arrival.at)
            self.assertLessEqual(arrival.at, clock.monotonic())
        link.send(encode_request(interface.mac, OWN, self.vacant))
        before = clock.monotonic()
        self.assertIsNone(arp_frame(link, before + 0.3))
        self.assertGreaterEqual(clock.monotonic(), before + 0.3)  # it has waited, and no longer than a moment more
        self.assertLess(clock.monotonic(), before + 1.0)

    def test_an_adapter_can_be_asked_alone(self) -> None:
        """A request that is sent to one adapter is answered by that, and by no other that has the address."""
        interface, clock = self.eth0, self.attachment.clock
        prober = open_prober(Method.ARP, self.attachment, interface, OWN)
        self.addCleanup(prober.close)
        wrong = MacAddress(b"\x10\xc0\xde\x77\x77\x77")
        for address, mac in self.hosts.items():
            for to, expected in ((wrong, set()), (mac, {mac})):
                prober.greet(address, to)
                until, heard = clock.monotonic() + 0.3, set()
                while clock.monotonic() < until:
                    heard |= {answer.mac for answer in prober.answers(until) if answer.address == address}
                self.assertEqual(heard, expected)

    def test_touching_fills_the_neighbour_table(self) -> None:
        """A harmless datagram makes the system learn the MAC; a vacant address fails after some seconds."""
        interface, clock = self.eth0, self.attachment.clock
        datagrams = self.attachment.open_datagrams(interface)
        self.addCleanup(datagrams.close)
        for address in (*self.hosts, self.vacant):
            self.assertTrue(datagrams.touch(address))
        refused = set()
        deadline = clock.monotonic() + 4.0
        while clock.monotonic() < deadline:
            datagrams.wait(min(deadline, clock.monotonic() + 0.1))
            refused |= {address for address, _ in datagrams.refusals()}
        table = {entry.address: entry for entry in self.attachment.neighbours(interface)}
        for address, mac in self.hosts.items():
            self.assertEqual(table[address].mac, mac)
            self.assertIs(table[address].state, NeighbourState.REACHABLE)
        self.assertIs(table[self.vacant].state, NeighbourState.FAILED)
        self.assertEqual(refused, set(self.hosts))

    def test_all_methods_find_the_same(self) -> None:
        """Sweeps by raw frames, touches and echo pair the same addresses with the same MACs."""
        interface = self.eth0
        addresses = [*self.hosts, self.vacant]
        for method in (Method.ARP, Method.TOUCH, Method.ECHO):
            prober = open_prober(method, self.attachment, interface, OWN)
            self.addCleanup(prober.close)
            found = run_scan(addresses, prober, self.attachment, plan_for(method, 500.0), {self.vacant: ()})
            pairs = {seen.address: seen.mac for seen in found.observations if isinstance(seen.address, IPv4Address)}
            self.assertEqual(pairs, self.hosts, method)
            self.assertEqual(found.asked_enough & {self.vacant}, {self.vacant}, method)

    def test_a_link_that_is_lost_says_so(self) -> None:
        """When the interface goes down, sending or receiving raises InterfaceLost, and a scan ends as partial."""
        interface = self.eth0
        prober = open_prober(Method.ARP, self.attachment, interface, OWN)
        self.addCleanup(prober.close)
        self.pull_the_plug()
        found = run_scan([*self.hosts], prober, self.attachment, plan_for(Method.ARP, 500.0))
        self.assertFalse(found.completed)
        self.assertIn("eth0", found.interruption)
        self.assertEqual(found.asked_enough, set())
        with self.assertRaises(InterfaceLost):
            prober.ask(self.vacant)
