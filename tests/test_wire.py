"""The ARP codec: what it writes it reads, and whatever comes it never breaks."""

from __future__ import annotations

import unittest
from contextlib import suppress
from ipaddress import IPv4Address

from hypothesis import given
from hypothesis import strategies as st

from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.wire.arp import REPLY, REQUEST, decode_arp, encode_reply, encode_request

macs = st.binary(min_size=6, max_size=6).map(MacAddress)
addresses = st.integers(0, 2**32 - 1).map(IPv4Address)
# RFC 826 by hand: who has 192.0.2.7, asked by 192.0.2.10.
REQUEST_BYTES = bytes.fromhex(
    "ffffffffffff 60f2a710000a 0806 0001 0800 06 04 0001 60f2a710000a c000020a 000000000000 c0000207"
)
TAGGED = REQUEST_BYTES[:12] + bytes.fromhex("8100 0005") + REQUEST_BYTES[12:]


class Arp(unittest.TestCase):
    @given(macs, addresses, macs, addresses)
    def test_round_trip(self, sender: MacAddress, from_: IPv4Address, asker: MacAddress, to: IPv4Address) -> None:
        """Requests and replies read back as they were meant."""
        request = decode_arp(encode_request(sender, from_, to))
        reply = decode_arp(encode_reply(sender, from_, asker, to))
        assert request and reply
        self.assertEqual((request.operation, request.sender_mac, request.sender_address), (REQUEST, sender, from_))
        self.assertEqual(request.target_address, to)
        self.assertEqual((reply.operation, reply.sender_mac, reply.target_mac), (REPLY, sender, asker))

    def test_bytes_as_the_standard_has_them(self) -> None:
        """A request is RFC 826's bytes, padded to 60; a VLAN tag does not hide it."""
        made = encode_request(
            MacAddress.parse("60:f2:a7:10:00:0a"), IPv4Address("192.0.2.10"), IPv4Address("192.0.2.7")
        )
        self.assertEqual(made, REQUEST_BYTES.ljust(60, b"\0"))
        self.assertEqual(decode_arp(TAGGED), decode_arp(REQUEST_BYTES))

    @given(st.sampled_from([REQUEST_BYTES, TAGGED]), st.integers(0, 45), st.binary(max_size=4))
    def test_a_cut_or_changed_frame_is_refused_never_a_crash(self, frame: bytes, cut: int, noise: bytes) -> None:
        """Any bytes give a packet, None or MalformedFrame; a probe claims no address."""
        self.assertIsNotNone(decode_arp(frame))  # positive control: the corpus itself is good
        with suppress(MalformedFrame):
            decode_arp(frame[:cut])
        with suppress(MalformedFrame):
            packet = decode_arp(frame[:cut] + noise + frame[cut + len(noise) :])
            if packet is not None and packet.sender_address == IPv4Address(0):
                self.assertFalse(packet.claims_an_address)
