"""Servers that answer an octet at a time, or without end, or with a bomb: no client of ours waits, grows or falls.

Each of them would go on for minutes or gigabytes. That a client ends at all shows that its deadline is one for all.
"""

from __future__ import annotations

import gzip
import itertools
import json
import re
import shutil
import socket
import subprocess
import sys
import threading
import unittest
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, closing, suppress

from scopion.attachment.connect.bounded_connection import Bounds, connected, first_connected, plainly_connected
from tests.receivers import Certificates, HostileServer, MailServer
from tests.support import PROGRAM, ProgramTest

_TIMEOUT_S = 2
_MEMORY_KB = 150_000
_OK = b"HTTP/1.1 200 OK\r\n"


def dripped(data: bytes) -> Callable[[], Iterator[bytes]]:
    """An octet at a time."""
    return lambda: (data[at : at + 1] for at in range(len(data)))


def endless(piece: bytes, begin: bytes = b"") -> Callable[[], Iterable[bytes]]:
    """The same piece for ever."""
    return lambda: itertools.chain([begin], itertools.repeat(piece * (65_536 // len(piece))))


class HostileServers(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.begin()
        self.certificates = Certificates(self.site)

    def said_by_channel(self, settings: str) -> str:
        (self.site / "site.toml").write_text(f'[[channel]]\nname = "x"\ntimeout_s = {_TIMEOUT_S}\n{settings}')
        return self.bounded("alerts", "test", "x")

    def bounded(self, *arguments: str) -> str:
        """Run a command that has to fail in one line, by itself, in bounded memory; what it said."""
        script = (
            "import resource, subprocess, sys; "
            "ended = subprocess.run(sys.argv[1:], capture_output=True, text=True, timeout=40); "
            "used = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss; "
            "import json; print(json.dumps([ended.returncode, ended.stderr, used]))"
        )
        command = [PROGRAM, "--site", str(self.site), *arguments]
        ended = subprocess.run([sys.executable, "-c", script, *command], capture_output=True, text=True, check=True)
        code, said, used = json.loads(ended.stdout)
        self.assertEqual(code, 1, said)
        self.assertNotIn("Traceback", said)
        self.assertNotIn("unexpected", said)
        self.assertLess(used, _MEMORY_KB)
        (line,) = [str(each) for each in said.splitlines() if each.startswith("scopion: ")]
        return line

    def email(self, server: HostileServer, security: str = "plain") -> str:
        return self.said_by_channel(
            f'type = "email"\nto = ["o@kilnhaven.example"]\nsender = "s@kilnhaven.example"\nhost = "127.0.0.1"\n'
            f'port = {server.port}\nsecurity = "{security}"\ntrust = "trust.pem"\n'
        )

    def test_mail(self) -> None:
        """Drips and floods before TLS, under it, in the greeting and after it."""
        tls = self.certificates.context
        cases: tuple[tuple[Callable[[], Iterable[bytes]], float, str, str], ...] = (
            (dripped(b"220-" + b"x" * 500), 0.3, "plain", "within 2 seconds|says nothing"),
            (dripped(b"220-" + b"x" * 500), 0.3, "starttls", "within 2 seconds|says nothing"),
            (dripped(b"220-" + b"x" * 500), 0.3, "tls", "within 2 seconds|says nothing"),
            (endless(b"220-hello\r\n"), 0, "plain", "without end"),
            (endless(b"220-hello\r\n"), 0, "tls", "without end"),
            (endless(b"x"), 0, "plain", "without end|refused|does not want"),
            (lambda: [b"220 x\r\n", *[b"250-x\r\n"] * 500], 0.3, "plain", "within 2 seconds"),
            (endless(b"250-x\r\n", b"220 x\r\n"), 0, "plain", "without end"),
        )
        for pieces, pause_s, security, said in cases:
            server = HostileServer(self, pieces, pause_s, tls if security == "tls" else None)
            with self.subTest(security=security, said=said):
                self.assertRegex(self.email(server, security), said)
                self.assertEqual(server.asked, 1)

    def test_the_web(self) -> None:
        """Drips of status, headers and body, 100 Continue without end, headers without end, compressed twice."""
        bomb = gzip.compress(gzip.compress(b"\0" * 300_000_000, 9), 9)
        head = b"HTTP/1.1 500 No\r\nContent-Encoding: gzip, gzip\r\nContent-Length: %d\r\n\r\n" % len(bomb)
        cases: tuple[tuple[Callable[[], Iterable[bytes]], float, str], ...] = (
            (dripped(_OK + b"x" * 500), 0.3, "within 2 seconds"),
            (lambda: [_OK, *(b"X-%d: y\r\n" % number for number in range(500))], 0.3, "within 2 seconds"),
            (lambda: [b"HTTP/1.1 500 No\r\n\r\n", *[b"x"] * 500], 0.3, "500"),
            (endless(b"HTTP/1.1 100 Continue\r\n\r\n"), 0, "more than any answer|gives no answer|within"),
            (endless(b"X: y\r\n", _OK), 0, "gives no answer of HTTP|more than any answer"),
            (endless(b"x", _OK[:5]), 0, "gives no answer of HTTP|more than any answer"),
            (endless(b"x", b"HTTP/1.1 500 No\r\n\r\n"), 0, "500"),
            (lambda: [head, bomb], 0, "500"),
            (lambda: [b"\xff\x00\r\n\r\n"], 0, "gives no answer of HTTP"),
        )
        for pieces, pause_s, said in cases:
            server = HostileServer(self, pieces, pause_s)
            with self.subTest(said=said, pause_s=pause_s):
                line = self.said_by_channel(f'type = "webhook"\nurl = "http://127.0.0.1:{server.port}/x"\n')
                self.assertRegex(line, said)
                self.assertEqual(server.asked, 1)
        server = HostileServer(self, lambda: [_OK + b"\r\n", *[b"x"] * 500], 0.3)  # taken: the body changes nothing
        (self.site / "site.toml").write_text(
            f'[[channel]]\nname = "x"\ntype = "webhook"\nurl = "http://127.0.0.1:{server.port}/x"\ntimeout_s = 2\n'
        )
        self.run_ok("alerts", "test", "x")
        self.assertEqual(server.asked, 1)

    def test_the_broker(self) -> None:
        """Drips before and after its greeting, another protocol, a packet without end, a refusal."""
        greets = b"\x20\x03\x00\x00\x00"  # CONNACK of MQTT 5 (3.2)
        huge = b"\x20\xff\xff\xff\x7f"  # 268,435,455 octets are announced
        cases: tuple[tuple[Callable[[], Iterable[bytes]], float, bool, str], ...] = (
            (dripped(huge + b"x" * 500), 0.3, False, "within 2 seconds|speaks MQTT 5"),
            (dripped(b"x" * 500), 0.3, True, "within 2 seconds"),
            (lambda: [greets, *[b"\xd0\x00"] * 500], 0.3, False, "within 2 seconds"),
            (endless(b"x", huge), 0, False, "speaks MQTT 5"),
            (endless(b"x", huge), 0, True, "speaks MQTT 5"),
            (endless(b"x", greets + b"\x30\xff\xff\xff\x7f"), 0, False, "speaks MQTT 5"),
            (lambda: [b"\x20\x03\x00\x87\x00"], 0, False, "refuses this account"),
            (lambda: [b"HTTP/1.1 400 No\r\n\r\n"], 0, False, "within 2 seconds"),
            (lambda: [b"\x20\x03\x00\x00\xff"], 0, False, "speaks MQTT 5|ended the connection"),
        )
        for pieces, pause_s, tls, said in cases:
            server = HostileServer(self, pieces, pause_s, self.certificates.context if tls else None)
            with self.subTest(said=said, pause_s=pause_s, tls=tls):
                line = self.said_by_channel(
                    f'type = "mqtt"\nhost = "127.0.0.1"\nport = {server.port}\ntopic = "alerts"\ntrust = "trust.pem"\n'
                    f"tls = {str(tls).lower()}\n"
                )
                self.assertRegex(line, said)
                self.assertEqual(server.asked, 1)

    def test_the_registry(self) -> None:
        """A listing that never ends, a bomb, a date of the year 10^9, a way round in circles, a way out of TLS."""
        bomb = gzip.compress(b"Registry,Assignment,Organization Name,Organization Address\r\n" + b"\0" * 400_000_000, 9)
        sized = b"Content-Length: %d\r\n" % len(bomb)
        late = _OK + b"Last-Modified: Mon, 01 Jan 1000000000 00:00:00 GMT\r\nContent-Length: 1\r\n\r\nx"
        cases: tuple[tuple[Callable[[], Iterable[bytes]], str], ...] = (
            (endless(b"x", _OK + b"\r\n"), "larger than 32 MB"),
            (lambda: [_OK + sized + b"\r\n", bomb], "not an IEEE|larger|no IEEE|damaged|is not"),
            (lambda: [late], "not an IEEE|no IEEE|is not|line 1"),
            (
                lambda: [b"HTTP/1.1 302 Go\r\nLocation: /again\r\nContent-Length: 0\r\n\r\n"],
                "leads elsewhere more than",
            ),
        )
        for pieces, said in cases:
            server = HostileServer(self, pieces, 0)
            with self.subTest(said=said):
                line = self.bounded("vendor", "--refresh", f"http://127.0.0.1:{server.port}/oui.csv")
                self.assertRegex(line, said)

    def test_a_router_that_floods(self) -> None:
        """Datagrams that are no SNMP, by the thousand: one error, and nothing of it on standard error."""
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as router:
            router.bind(("127.0.0.1", 0))

            def flood() -> None:
                with suppress(OSError):
                    asker = router.recvfrom(2000)[1]
                    for number in range(20_000):
                        router.sendto(bytes([0x30, number % 256]) * (number % 40), asker)

            threading.Thread(target=flood, daemon=True).start()
            script = (
                "import sys; from ipaddress import IPv4Address; import scopion.attachment.connect.snmp_table as table; "
                "from scopion.attachment.ports import SnmpAccess; table._WHOLE_S = 3.0\n"
                "try:\n table.read_router_table(SnmpAccess(IPv4Address('127.0.0.1'), int(sys.argv[1]), '2c', 'x'))\n"
                "except table.RouterUnreadable as error: print(error)"
            )
            command = [sys.executable, "-c", script, str(router.getsockname()[1])]
            ended = subprocess.run(command, capture_output=True, text=True, check=True, timeout=60)
        self.assertEqual(ended.stderr, "")
        self.assertRegex(ended.stdout, "127.0.0.1 (takes longer|does not tell)")

    def test_an_unsecured_registry_is_asked_for(self) -> None:
        """Plain HTTP lets anybody on the way name vendors: not without a word."""
        said = self.run_program("vendor", "--refresh", "http://registry.kilnhaven.example/oui.csv").stderr
        self.assertIn("--insist", said)

    def test_each_recipient_has_a_delivery_of_its_own(self) -> None:
        """One is told to come later, the other has it: the first is tried again, the second is not told twice."""
        server = MailServer(self, security="plain", password=False)
        server.busy_for = {"late@kilnhaven.example"}
        (self.site / "site.toml").write_text(
            '[[channel]]\nname = "both"\ntype = "email"\nto = ["now@kilnhaven.example", "late@kilnhaven.example"]\n'
            f'sender = "s@kilnhaven.example"\nhost = "127.0.0.1"\nport = {server.port}\nsecurity = "plain"\n'
            "[alerts]\nlearning_days = 0\n"
        )
        self.run_ok("scan", "--no-names")
        for _ in range(2):
            self.run_ok("demo", "--next", str(self.site))
        self.run_ok("scan", "--no-names")
        self.assertNotEqual(self.run_program("watch", "--once").returncode, 0)
        (waiting, *_) = json.loads(self.run_ok("alerts", "list", "--format", "json"))
        self.assertEqual(waiting["state"], "waiting")
        self.assertRegex(waiting["problem"], "late@kilnhaven.example.*now@kilnhaven.example has it")
        first = server.recipients.copy()
        has_it = [str(mail["Message-ID"]) for mail in server.mails]
        changed = self.folder / "changed"
        shutil.copytree(self.site, changed)
        settings = (changed / "site.toml").read_text()
        (changed / "site.toml").write_text(settings.replace(', "late@kilnhaven.example"', ""))
        self.run_ok("--site", str(changed), "alerts", "retry")
        self.run_ok("--site", str(changed), "watch", "--once")
        later = [str(mail["Message-ID"]) for mail in server.mails[len(first) :]]
        self.assertFalse(set(later) & set(has_it))  # the first mail has no recipient left
        (done, *_) = json.loads(self.run_ok("--site", str(changed), "alerts", "list", "--format", "json"))
        self.assertEqual((done["id"], done["state"]), (waiting["id"], "sent"))
        del server.recipients[len(first) :], server.mails[len(first) :]
        server.busy_for = set()
        self.run_ok("alerts", "retry")
        self.run_program("watch", "--once")
        self.assertEqual(first[0], ["now@kilnhaven.example"])
        self.assertEqual(server.recipients[len(first)], ["late@kilnhaven.example"])
        told = [
            (each, str(mail["Message-ID"]))
            for recipients, mail in zip(server.recipients, server.mails, strict=True)
            for each in recipients
        ]
        self.assertEqual(len(told), len(set(told)))
        self.assertEqual(len(told), 2 * len({identity for _, identity in told}))
        self.assertEqual(re.findall("kilnhaven", str(server.mails[0]["To"])), ["kilnhaven"] * 2)

    def test_a_dead_address_leaves_time_for_the_next(self) -> None:
        """A host's first address never answers: the second one is reached within the same deadline."""
        with closing(socket.socket()) as dead, closing(socket.create_server(("127.0.0.1", 0))) as alive:
            dead.bind(("127.0.0.1", 0))
            dead.listen(0)
            with ExitStack() as waiting:  # its queue is full: it takes no more connections
                with suppress(TimeoutError):
                    for _ in range(16):
                        line = waiting.enter_context(closing(socket.socket()))
                        line.settimeout(0.3)
                        line.connect(dead.getsockname())
                    self.fail("it takes everybody")
                addresses = [(socket.AF_INET, socket.SOCK_STREAM, 0, "", each.getsockname()) for each in (dead, alive)]
                for connect in (connected, plainly_connected):
                    line, where = first_connected([*addresses, addresses[0]], connect, Bounds(_TIMEOUT_S))
                    line.close()
                    self.assertEqual(where, addresses[1])


if __name__ == "__main__":
    unittest.main()
