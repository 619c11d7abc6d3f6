"""The search for names as a state machine: which host it asks when, which answer it believes, and that it ends."""

from __future__ import annotations

import random
import unittest
from ipaddress import IPv4Address

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.attachment.ports import Letter
from scopion.discovery.names import GIVE_UP_S, NameSearch, Question
from scopion.discovery.said import host_name, services
from scopion.model.address import Address
from scopion.model.observation import Source
from scopion.wire import dns, netbios

HOST, OTHER, SERVER = (IPv4Address(f"192.0.2.{number}") for number in (20, 66, 1))
REVERSE = dns.reverse_name(HOST)


def search(**options: bool) -> NameSearch:
    found = NameSearch([SERVER], chance=random.Random(5), **options)
    found.ask_about(HOST, 0.0)
    return found


def answer(question: Question, name: str, sender: Address | None = None) -> Letter:
    """The answer that a host gives to a question."""
    number = int.from_bytes(question.payload[:2])
    payload = dns.encode_answer(number, (dns.DnsRecord(REVERSE, "PTR", name),))
    return Letter(payload, sender or question.to, question.port, 0.0)


def of(questions: list[Question], port: int) -> Question:
    return next(question for question in questions if question.port == port)


class Searching(unittest.TestCase):
    def test_three_ways_side_by_side_then_by_group(self) -> None:
        """DNS, multicast DNS to the host alone and NetBIOS at once, and again; then by group; then enough."""
        asking = search()
        first = asking.due(0.0)
        self.assertEqual({(each.to, each.port) for each in first}, {(SERVER, 53), (HOST, 5353), (HOST, 137)})
        self.assertEqual([each.by_resolver for each in first if each.port == 53], [True])
        self.assertEqual({each.port for each in asking.due(0.3)}, {53, 5353, 137})
        self.assertEqual(
            {(each.to, each.port) for each in asking.due(0.6)}, {(dns.MDNS_GROUP, 5353), (dns.LLMNR_GROUP, 5355)}
        )
        self.assertFalse(asking.done(0.9))
        self.assertTrue(asking.done(GIVE_UP_S))

    def test_who_is_named_is_left_alone(self) -> None:
        """After a name nothing more is asked, and the search does not wait until the end."""
        asking = search()
        learnt = asking.heard(answer(of(asking.due(0.0), 53), "printer.kilnhaven.example"))
        assert learnt is not None
        self.assertEqual(
            [(trait.value, trait.source) for trait in learnt.traits], [("printer.kilnhaven.example", "dns")]
        )
        self.assertEqual(asking.due(0.6), [])
        self.assertTrue(asking.done(0.6))

    def test_each_source_tells(self) -> None:
        """Multicast DNS, LLMNR by group and a node status give names with their source."""
        asking = search()
        first = asking.due(0.0)
        status = netbios.NodeStatus(
            int.from_bytes(of(first, 137).payload[:2]),
            (
                netbios.NetbiosName("PRINTER", 0),
                netbios.NetbiosName("KILNS", 0, True),
                netbios.NetbiosName("PRINTER", 0x20),
            ),
            None,
        )
        told = asking.heard(Letter(netbios.encode_status_reply(status), HOST, 137, 0.0))
        assert told is not None
        self.assertEqual([trait.value for trait in told.traits], ["PRINTER", "netbios-file-server"])
        other = search()
        other.due(0.0)
        other.due(0.3)
        by_group = other.due(0.6)
        llmnr = other.heard(answer(of(by_group, 5355), "label-printer", sender=HOST))
        assert llmnr is not None
        self.assertEqual(llmnr.traits[0].source, Source.LLMNR)

    def test_nobody_answers_for_others(self) -> None:
        """Another sender, another number, another name's record, a question, and rubbish are not believed."""
        asking = search()
        mdns = of(asking.due(0.0), 5353)
        self.assertIsNone(asking.heard(answer(mdns, "forged.local", sender=OTHER)))
        wrong = answer(mdns, "forged.local")
        self.assertIsNone(asking.heard(Letter(b"\0\0" + wrong.payload[2:], HOST, 5353, 0.0)))
        elsewhere = dns.DnsRecord(dns.reverse_name(OTHER), "PTR", "forged.local")
        number = int.from_bytes(mdns.payload[:2])
        self.assertIsNone(asking.heard(Letter(dns.encode_answer(number, (elsewhere,)), HOST, 5353, 0.0)))
        self.assertIsNone(asking.heard(Letter(mdns.payload, HOST, 5353, 0.0)))
        self.assertIsNone(asking.heard(Letter(mdns.payload[:2] + b"\xff" * 30, HOST, 5353, 0.0)))
        self.assertIsNotNone(asking.heard(answer(mdns, "honest.local")))

    def test_beyond_a_router_no_group_is_asked(self) -> None:
        """There only the name server and the host itself can answer."""
        asking = search(on_link=False)
        ports = {each.port for at in (0.0, 0.3, 0.6) for each in asking.due(at)}
        self.assertEqual(ports, {53, 137})

    @settings(max_examples=30, deadline=None)
    @given(st.integers(1, 400))
    def test_any_number_of_hosts_is_asked_at_a_pace(self, count: int) -> None:
        """Never more than the pace allows, and it comes to an end."""
        asking = NameSearch([SERVER], chance=random.Random(1))
        for number in range(count):
            asking.ask_about(IPv4Address(0xC0000200 + number), 0.0)
        now, sent = 0.0, 0
        while not asking.done(now):
            sent += len(asking.due(now))
            self.assertLessEqual(sent, 1000 * now + 52)  # a burst, and the grain of the clock
            now += 0.01
            self.assertLess(now, GIVE_UP_S + count * 12 / 1000 + 1)

    def test_what_is_no_name(self) -> None:
        """Names made of the address, without a letter, or with terminal escapes are not taken as they come."""
        for text in ("192-0-2-20.pool.example", "host-192.0.2.20.example", "20.2.0.192.in-addr.arpa", "---", ""):
            self.assertIsNone(host_name(text, Source.DNS), text)
        trait = host_name("ev\x1b[31mil\u202e", Source.MDNS)
        assert trait is not None
        self.assertEqual(trait.value, "ev[31mil")
        kinds = services(
            ["Label Printer._ipp._tcp.local", "_ipp._tcp.local", "_color._sub._http._tcp.local", "nothing.local"]
        )
        self.assertEqual([each.value for each in kinds], ["_ipp._tcp", "_http._tcp"])
