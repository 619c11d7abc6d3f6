"""Free addresses, conflict probes, and waiting: what the answer is, and when it comes."""

from __future__ import annotations

import random
import unittest
from ipaddress import IPv4Address
from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from scopion.discovery.conflict import ConflictProbe
from scopion.wire.arp import ArpPacket, decode_arp, encode_reply, encode_request
from tests.frames import DESK, DESK_4, PRINTER, PRINTER_4, TABLET
from tests.support import ProgramTest

WANTED = IPv4Address("192.0.2.201")


def arp(frame: bytes) -> ArpPacket:
    packet = decode_arp(frame)
    assert packet is not None
    return packet


class Probing(unittest.TestCase):
    @given(st.integers(0, 10**6))
    def test_three_probes_then_silence(self, seed: int) -> None:
        """Three probes one to two seconds apart, two seconds of silence after the last: RFC 5227, 2.1.1."""
        probe = ConflictProbe(WANTED, DESK, 100.0, random.Random(seed))
        sent = []
        now = 100.0
        while not probe.done(now):
            if probe.due(now):
                sent.append(now)
            now += 0.01
        self.assertEqual(len(sent), 3)
        self.assertLess(sent[0], 101.02)
        self.assertTrue(all(0.99 <= after - before <= 2.02 for before, after in pairwise(sent)))
        self.assertGreaterEqual(now, sent[-1] + 2.0)
        self.assertIsNone(probe.conflict)

    def test_who_answers_and_who_probes_as_well(self) -> None:
        """A user of the address is a conflict, another prober too; our own frames and others' business are not."""
        answers = arp(encode_reply(PRINTER, WANTED, DESK, IPv4Address(0)))
        rival = arp(encode_request(TABLET, IPv4Address(0), WANTED))
        ours = arp(encode_request(DESK, IPv4Address(0), WANTED))
        asks = arp(encode_request(TABLET, PRINTER_4, WANTED))
        for packet, expected in ((answers, (PRINTER, True)), (rival, (TABLET, False)), (ours, None), (asks, None)):
            probe = ConflictProbe(WANTED, DESK, 0.0, random.Random(1))
            probe.heard(packet)
            self.assertEqual(probe.conflict and (probe.conflict.mac, probe.conflict.uses), expected)
        self.assertNotEqual(DESK_4, WANTED)


class Spare(ProgramTest):
    def test_what_is_free_and_why_not(self) -> None:
        """Who answers, was there lately, the pool, what is reserved: each is a reason; the rest is free."""
        self.begin()
        self.run_ok("scan")
        settings = (self.site / "site.toml").read_text(encoding="utf-8")
        subnet = (
            '[[subnet]]\nrange = "192.0.2.0/24"\ndhcp_pool = ["192.0.2.60-199"]\nreserved = ["192.0.2.3-192.0.2.9"]\n'
        )
        (self.site / "site.toml").write_text(settings + subnet, encoding="utf-8")
        for _ in range(2):  # to the night: the potter's telephone has left
            self.run_ok("demo", "--next", str(self.site))
        rows = {row["address"]: row for row in self.run_json("spare", "--reasons", "--count", "254")}
        self.assertEqual(len(rows), 254)
        against = {address: row["against"] for address, row in rows.items()}
        self.assertEqual(against["192.0.2.1"], "it is the gateway's")
        self.assertEqual(against["192.0.2.10"], "it is this machine's own")
        self.assertEqual(against["192.0.2.4"], "it is reserved")
        self.assertEqual(against["192.0.2.150"], "the DHCP server gives it out")
        self.assertIn("answers there", against["192.0.2.50"])
        self.assertIn("used it 19 hours ago", against["192.0.2.90"])
        free = [address for address, row in rows.items() if row["spare"]]
        self.assertEqual(free[:2], ["192.0.2.11", "192.0.2.12"])
        self.assertFalse({"192.0.2.50", "192.0.2.144", "192.0.2.31"} & set(free))
        later = self.run_json("spare", "--unused-for", "1h", "--count", "254")
        self.assertEqual((later[-1]["address"], later[-1]["last_user"]), ("192.0.2.31", "48:d0:c4:01:22:31"))

    def test_one_address(self) -> None:
        """The address alone on standard output if it may be taken; else exit code 3 and the reason."""
        self.begin()
        self.assertEqual(self.run_ok("spare", "192.0.2.201"), "192.0.2.201\n")
        for address, reason in (("192.0.2.20", "24:d3:a1:20:7e:14"), ("192.0.2.1", "gateway"), ("192.0.2.10", "own")):
            ended = self.run_program("spare", address)
            self.assertEqual((ended.returncode, ended.stdout), (3, ""))
            self.assertIn(reason, ended.stderr)
        self.assertIn("edge of 192.0.2.0/24", self.run_program("spare", "192.0.2.255").stderr)


class Await(ProgramTest):
    def test_leaving(self) -> None:
        """The potter's telephone goes at six: until then it waits, and who stays all the time is not gone in it."""
        self.begin()
        self.run_ok("scan", "--no-names")
        self.run_ok("demo", "--next", str(self.site))
        ended = self.run_program("await", "--gone", "192.0.2.20", "--timeout", "1m")
        self.assertEqual((ended.returncode, ended.stdout), (3, ""))
        self.assertIn("still answered", ended.stderr)
        self.assertEqual(self.run_ok("await", "--gone", "192.0.2.90", "--timeout", "6h"), "192.0.2.90\n")
        self.assertIn("does not answer now", self.run_program("await", "--gone", "192.0.2.90").stderr)

    def test_what_was_plugged_in_a_moment_before(self) -> None:
        """A box that is here when it begins and was in no scan before is the one; an address of two devices is said."""
        self.begin()
        self.run_ok("scan")
        ended = self.run_program("await", "--timeout", "5s")
        self.assertEqual((ended.returncode, ended.stdout), (3, ""))  # all that are here are known
        self.run_ok("demo", "--next", str(self.site))  # the apprentice's telephone has come, and the kiln has moved
        ended = self.run_program("await", "--timeout", "5s")
        self.assertEqual((ended.returncode, ended.stdout), (0, "192.0.2.91\n"))
        self.assertIn("in no scan before: --new waits for another", ended.stderr)
        contested = self.run_program("await", "--mac", "48:d0:c4:01:22:31")
        self.assertEqual(contested.stdout, "192.0.2.20\n")
        self.assertRegex(contested.stderr, r"[Cc]aution: 192\.0\.2\.20 is used by .*24:d3:a1:20:7e:14.*, too")

    def test_appearing(self) -> None:
        """One that fits is printed at once; --new waits for another; time that is up is exit code 3."""
        self.begin()
        both = self.run_program("await", "--vendor", "ember")
        self.assertEqual((both.returncode, both.stdout), (0, "192.0.2.31\n192.0.2.32\n"))
        self.assertIn("2 devices fit", both.stderr)
        self.assertEqual(self.run_ok("await", "--name", "storage"), "192.0.2.5\n")
        self.assertEqual(self.run_ok("await", "--mac", "24-D3"), "192.0.2.20\n")
        ended = self.run_program("await", "--new", "--vendor", "ember", "--timeout", "30s")
        self.assertEqual((ended.returncode, ended.stdout), (3, ""))
        self.assertIn("no device is called", self.run_program("await", "--gone", "nobody").stderr)
        self.assertIn("too short", self.refused(2, "await", "--mac", "2"))
        self.assertIn("--gone takes", self.refused(2, "await", "--gone", "till", "--new"))
        self.assertIn("length of time", self.refused(2, "await", "--timeout", "soon"))
