"""Receivers for alerts on 127.0.0.1: real servers for mail, HTTP and syslog, which refuse, dawdle and break off."""

from __future__ import annotations

import contextlib
import http.server
import json
import logging
import socket
import ssl
import sys
import threading
import time
import unittest
from collections.abc import Callable, Iterable
from email import message_from_bytes, policy
from email.message import EmailMessage
from pathlib import Path
from typing import Any

import trustme
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult, Envelope, LoginPassword

PASSWORD = "kiln-and-glaze"
SLOW_S = 3.0
# What site.toml says of a mail server of a process of its own (serve_mail), and of a file beside it.
MAIL_PORT = 2525
OWNER = f"""[[channel]]
name = "owner"
type = "email"
to = ["owner@kilnhaven.example"]
sender = "scopion@kilnhaven.example"
host = "127.0.0.1"
port = {MAIL_PORT}
security = "plain"
"""
BOOK = """[[channel]]
name = "book"
type = "file"
path = "book.jsonl"
"""
# What the server says of clients that refuse its certificate, as the tests ask them to, and of its own future.
logging.getLogger("mail.log").addHandler(logging.NullHandler())
logging.getLogger("mail.log").propagate = False


class Certificates:
    """An authority that no other program trusts, and its certificate for this machine."""

    def __init__(self, folder: Path, *names: str) -> None:
        authority = trustme.CA()
        self.trust = folder / "trust.pem"
        authority.cert_pem.write_to_path(self.trust)
        self.context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        authority.issue_cert(*(names or ("127.0.0.1", "localhost"))).configure_cert(self.context)


class HostileServer:
    """Says what it is told to, whatever it is asked: piece by piece, as slowly, and for as long as it likes."""

    def __init__(
        self,
        test: unittest.TestCase,
        pieces: Callable[[], Iterable[bytes]],
        pause_s: float,
        context: Any = None,
        host: str = "127.0.0.1",
    ) -> None:
        self._pieces, self._pause_s, self._context = pieces, pause_s, context
        self.asked = 0
        self._listener = socket.create_server((host, 0))
        self.port: int = self._listener.getsockname()[1]
        test.addCleanup(self._listener.close)
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                line, _ = self._listener.accept()
                self.asked += 1
                threading.Thread(target=self._talk, args=(line,), daemon=True).start()

    def _talk(self, line: socket.socket) -> None:
        with contextlib.suppress(OSError), line, self._secured(line) as said:
            for piece in self._pieces():
                said.sendall(piece)
                time.sleep(self._pause_s)
            time.sleep(60)

    def _secured(self, line: socket.socket) -> socket.socket:
        return self._context.wrap_socket(line, server_side=True) if self._context else line


class MailServer:
    """An SMTP server that keeps what it takes, until it is told to behave otherwise."""

    def __init__(
        self,
        test: unittest.TestCase | None,
        certificates: Certificates | None = None,
        *,
        security: str = "starttls",
        password: bool = True,
        port: int = 0,
    ) -> None:
        self.mails: list[EmailMessage] = []
        self.recipients: list[list[str]] = []
        self.answer: Callable[[Envelope], str | None] = lambda _: None  # what to say in place of taking the mail
        self.busy_for: set[str] = set()  # recipients who are told to come later
        self.wait_s = 0.0
        self.sessions = 0
        tls = certificates.context if certificates else None
        server = self

        class Handler:
            async def handle_DATA(self, smtp: SMTP, session: Any, envelope: Envelope) -> str:
                return await server._take(envelope)

            async def handle_EHLO(
                self, smtp: SMTP, session: Any, envelope: Envelope, hostname: str, responses: list[str]
            ) -> list[str]:
                session.host_name = hostname
                server.sessions += 1
                return responses

            async def handle_RCPT(
                self, smtp: SMTP, session: Any, envelope: Envelope, address: str, options: list[str]
            ) -> str:
                if address in server.busy_for:
                    return "451 4.3.0 come later"
                if "nobody" in address:
                    return "550 5.1.1 no such mailbox"
                envelope.rcpt_tos.append(address)
                return "250 OK"

            async def handle_MAIL(
                self, smtp: SMTP, session: Any, envelope: Envelope, address: str, options: list[str]
            ) -> str:
                if "stranger" in address:
                    return "553 5.7.1 sender address rejected: not owned by user"
                envelope.mail_from = address
                return "250 OK"

        def authenticate(_: Any, __: Any, ___: Any, mechanism: str, data: Any) -> AuthResult:
            good = isinstance(data, LoginPassword) and data.password == PASSWORD.encode()
            return AuthResult(success=good, handled=False)

        settings: dict[str, Any] = {"authenticator": authenticate, "auth_require_tls": False} if password else {}
        if security == "starttls" and tls is not None:
            settings |= {"tls_context": tls, "require_starttls": True}
        self._controller = Controller(
            Handler(),
            hostname="127.0.0.1",
            port=port or free_port(),
            ssl_context=tls if security == "tls" else None,
            **settings,
        )
        self._controller.start()
        self._running = True
        if test is not None:
            test.addCleanup(self.stop)

    @property
    def port(self) -> int:
        """Where it listens."""
        return int(self._controller.port)

    def stop(self) -> None:
        """End it; allowed twice."""
        if self._running:
            self._running = False
            self._controller.stop()

    async def _take(self, envelope: Envelope) -> str:
        import asyncio

        if self.wait_s:
            await asyncio.sleep(self.wait_s)
        refusal = self.answer(envelope)
        if refusal is not None:
            return refusal
        assert isinstance(envelope.content, bytes)
        self.mails.append(message_from_bytes(envelope.content, _class=EmailMessage, policy=policy.default))
        self.recipients.append(list(envelope.rcpt_tos))
        return "250 OK"


class WebServer:
    """An HTTP server that keeps what is posted to it."""

    def __init__(self, test: unittest.TestCase, certificates: Certificates | None = None) -> None:
        self.posts: list[tuple[dict[str, str], bytes]] = []
        self.requests = 0
        self.status = 204
        self.headers: dict[str, str] = {}
        self.wait_s = 0.0
        self.dawdles_s = 0.0  # it has taken a post, and takes its time to say so
        server = self

        class Handler(http.server.BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                length = int(self.headers["Content-Length"])
                body = self.rfile.read(length)
                if len(body) < length:  # who posted it was ended meanwhile: no server takes that for a post
                    return
                server.requests += 1
                time.sleep(server.wait_s)
                if server.status < 300:
                    server.posts.append((dict(self.headers), body))
                    time.sleep(server.dawdles_s)
                self.send_response(server.status)
                for name, value in server.headers.items():
                    self.send_header(name, value)
                self.end_headers()

            def log_message(self, format: str, *args: object) -> None:
                pass

        self._server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        if certificates is not None:
            self._server.socket = certificates.context.wrap_socket(self._server.socket, server_side=True)
        threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True).start()
        test.addCleanup(self.stop)

    @property
    def port(self) -> int:
        """Where it listens."""
        return int(self._server.server_address[1])

    def stop(self) -> None:
        """End it."""
        self._server.shutdown()
        self._server.server_close()


class SyslogServer:
    """A syslog receiver by UDP, TCP or TLS that keeps the octets."""

    def __init__(self, test: unittest.TestCase, transport: str, certificates: Certificates | None = None) -> None:
        self.received: list[bytes] = []
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM if transport == "udp" else socket.SOCK_STREAM)
        self._socket.bind(("127.0.0.1", 0))
        self.port = int(self._socket.getsockname()[1])
        if transport != "udp":
            self._socket.listen()
        if certificates is not None:
            self._socket = certificates.context.wrap_socket(self._socket, server_side=True)
        threading.Thread(target=self._by_datagram if transport == "udp" else self._by_stream, daemon=True).start()
        test.addCleanup(self._socket.close)

    def _by_datagram(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                self.received.append(self._socket.recv(65_536))

    def _by_stream(self) -> None:
        while True:
            try:
                line, _ = self._socket.accept()
            except ssl.SSLError:
                continue
            except OSError:
                return
            with line, contextlib.suppress(OSError):
                octets = b""
                while more := line.recv(65_536):
                    octets += more
                self.received.append(octets)


def free_port() -> int:
    """A port at which no program listened a moment ago."""
    with socket.socket() as each:
        each.bind(("127.0.0.1", 0))
        return int(each.getsockname()[1])


def serve_mail(port: int, spool: Path, mood: str = "") -> None:
    """A mail server in a process of its own, in whatever namespace that is: a line of JSON for each mail.

    A ``greylisting`` one takes nothing at the first attempt, a ``slow`` one takes its time for each mail.
    """
    server = MailServer(None, password=False, port=port)
    if mood == "greylisting":
        server.answer = _greylisting()
    elif mood == "slow":
        server.wait_s = SLOW_S
    told = 0
    while True:
        for mail in server.mails[told:]:
            line = {"subject": mail["Subject"], "id": mail["Message-ID"], "at": time.monotonic(), "text": _text(mail)}
            with spool.open("a", encoding="utf-8") as file:
                file.write(json.dumps(line) + "\n")
            told += 1
        time.sleep(0.005)


def _greylisting() -> Callable[[Envelope], str | None]:
    seen: set[bytes] = set()

    def answer(envelope: Envelope) -> str | None:
        assert isinstance(envelope.content, bytes)
        identity = envelope.content.partition(b"Message-ID:")[2].split(b"\n")[0]
        if identity in seen:
            return None
        seen.add(identity)
        return "451 4.7.1 greylisted, please come back later"

    return answer


def _text(mail: EmailMessage) -> str:
    """The plain part."""
    part = mail.get_body(("plain",))
    return str(part.get_content()) if part is not None else ""


if __name__ == "__main__":
    serve_mail(int(sys.argv[1]), Path(sys.argv[2]), *sys.argv[3:])
