"""How an access point asks by RADIUS: one check of what was said, for hostapd on real radios and for made-up ones."""

from __future__ import annotations

import contextlib
import socket
import threading
import unittest
from collections.abc import Iterator, Sequence
from time import time
from typing import NamedTuple

from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress, Notation
from scopion.wire.ethernet import decode_header
from scopion.wire.ip import decode_ip, decode_udp
from scopion.wire.radius import Code, RadiusMessage, decode_radius
from scopion.wire.radius_ports import ACCOUNTING_PORT, AUTHENTICATION_PORT, DISCONNECT_PORT
from tests.lab.lab import Lab

REMEMBERS_S = 30  # an access point goes by a decision for so long
START, STOP, INTERIM = 1, 2, 3  # Acct-Status-Type (RFC 2866, 5.1)
_EVERYTHING = 0x0003  # what is sent, too


class Said(NamedTuple):
    """One datagram: when it was heard, which machine is the access point, and what it holds."""

    at: float
    point: str
    octets: bytes


def check_conversation(test: unittest.TestCase, said: Sequence[Said], ssid: str, secret: bytes) -> None:
    """See that an access point keeps the promises on which the server relies.

    In it a device joined, another or the same was refused twice within the memory, and one was disconnected.
    """
    once = {(each.point, each.octets): each for each in reversed(said)}  # a frame is heard at each port of a bridge
    heard = [(each, decode_radius(each.octets, secret)) for each in reversed(once.values())]
    by_code = {code: [pair for pair in heard if pair[1].code == code] for code in Code}
    questions, reports = by_code[Code.ACCESS_REQUEST], by_code[Code.ACCOUNTING_REQUEST]
    orders, obeyed = by_code[Code.DISCONNECT_REQUEST], by_code[Code.DISCONNECT_ACK]
    for name, found in (("questions", questions), ("reports", reports), ("orders", orders), ("obeyed", obeyed)):
        test.assertTrue(found, f"no {name} in {len(heard)} datagrams")
    latest: dict[tuple[str, str], tuple[float, bytes]] = {}
    for each, message in questions:
        mac = MacAddress.parse(message.text("Calling-Station-Id"))
        test.assertEqual(message.text("User-Name"), mac.written(Notation.BARE))
        test.assertEqual(message.password(), mac.written(Notation.BARE))
        _check_ends(test, message, mac, ssid)
        at, authenticator = latest.get((each.point, str(mac)), (0.0, b""))
        if authenticator != message.authenticator:  # it is repeated until it is answered
            test.assertGreaterEqual(each.at - at, REMEMBERS_S - 1, f"{mac} was asked about at {each.point} again")
            latest[each.point, str(mac)] = each.at, message.authenticator
    sessions: dict[str, list[int | None]] = {}
    for _, message in reports:
        number, kind = message.text("Acct-Session-Id"), message.number("Acct-Status-Type")
        if number and kind in (START, INTERIM, STOP):
            _check_ends(test, message, MacAddress.parse(message.text("Calling-Station-Id")), ssid)
            test.assertTrue(message.has_genuine_authenticator())
            sessions.setdefault(number, []).append(kind)
            if kind == STOP:
                test.assertIsNotNone(message.number("Acct-Session-Time"))
                test.assertTrue(message.has("Acct-Input-Octets") and message.has("Acct-Output-Octets"))
    begun = [kinds for kinds in sessions.values() if START in kinds]  # others had begun before
    test.assertTrue(begun)
    for kinds in begun:  # who is back has the number that it had
        test.assertRegex("".join(map(str, kinds)), f"^({START}{INTERIM}*{STOP})*({START}{INTERIM}*)?$")
    ordered = {message.identifier for _, message in orders}
    test.assertTrue({message.identifier for _, message in obeyed} <= ordered)
    gone = {message.text("Calling-Station-Id") for _, message in orders}
    ended = {each.text("Calling-Station-Id") for _, each in reports if each.number("Acct-Status-Type") == STOP}
    test.assertTrue(gone & ended, "who was disconnected was not reported as gone")


def _check_ends(test: unittest.TestCase, message: RadiusMessage, mac: MacAddress, ssid: str) -> None:
    test.assertEqual(message.text("Calling-Station-Id"), mac.written(Notation.HYPHEN))
    bssid, _, network = message.text("Called-Station-Id").partition(":")
    test.assertEqual(MacAddress.parse(bssid).written(Notation.HYPHEN), bssid)
    test.assertEqual(network, ssid)
    test.assertTrue(message.text("NAS-Identifier"))


@contextlib.contextmanager
def overheard(lab: Lab, host: str) -> Iterator[list[Said]]:
    """Collect what access points and the server on a lab's host say to each other, until the end of the block."""
    said: list[Said] = []
    over = threading.Event()
    with lab.inside(host):
        link = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(_EVERYTHING))
    with link:
        link.settimeout(0.2)

        def collect() -> None:
            while not over.is_set():
                with contextlib.suppress(TimeoutError, MalformedFrame):
                    said.extend(_understood(link.recv(4096)))

        collector = threading.Thread(target=collect)
        collector.start()
        try:
            yield said
        finally:
            over.set()
            collector.join()


def _understood(frame: bytes) -> Iterator[Said]:
    header, cursor = decode_header(frame)
    packet = decode_ip(header.type, cursor)
    if packet is None or packet.protocol != socket.IPPROTO_UDP:
        return
    datagram = decode_udp(packet.payload)
    if datagram.destination_port in (AUTHENTICATION_PORT, ACCOUNTING_PORT):
        yield Said(time(), str(packet.source), datagram.payload)
    elif datagram.destination_port == DISCONNECT_PORT:
        yield Said(time(), str(packet.destination), datagram.payload)
    elif datagram.source_port == DISCONNECT_PORT:
        yield Said(time(), str(packet.source), datagram.payload)
