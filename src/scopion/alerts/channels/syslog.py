"""A syslog receiver (RFC 5424), by UDP (RFC 5426), TCP with counted octets (RFC 6587, 3.4.1) or TLS (RFC 5425).

UDP and TCP do not confirm a message. By UDP we only know that the name was found and no host has refused; by TCP and
TLS that the receiver's machine has taken it and kept the connection.
"""

from __future__ import annotations

import os
import select
import socket
from contextlib import suppress
from pathlib import Path

from scopion import __version__
from scopion.alerts.alert_settings import SyslogSettings
from scopion.alerts.channels.channel import DeliveryFailed, Trace
from scopion.alerts.channels.connect import connect, look_up, secured, tls_context
from scopion.alerts.message import Message
from scopion.attachment.connect.bounded_connection import Bounds, shorten
from scopion.attachment.connect.connection_words import network_problem
from scopion.model.alert import Severity

_NUMBERS = {Severity.HIGH: 1, Severity.NORMAL: 4, Severity.LOW: 6}  # alert, warning, informational (RFC 5424, 6.2.1)
# The enterprise number for documentation (RFC 5612): we have none of our own.
_STRUCTURE = "scopion@32473"
_UDP_MOST = 1180  # fits into one frame with IPv6 (RFC 5426, 3.2)
_REFUSAL_WAIT_S = 0.2
_BREAKS_OFF_WAIT_S = 0.05


class SyslogChannel:
    """Sends to one receiver, with a connection for each message: alerts are rare."""

    lasts_s = None

    def __init__(self, settings: SyslogSettings, folder: Path) -> None:
        self._settings = settings
        self._folder = folder

    def deliver(self, message: Message, trace: Trace) -> None:
        """Send the message. Raises DeliveryFailed."""
        settings = self._settings
        line, bounds = formatted(message, settings.facility), Bounds(settings.timeout_s)
        try:
            if settings.transport == "udp":
                self._by_datagram(line[:_UDP_MOST].decode("utf-8", "ignore").encode(), bounds, trace)
            else:
                self._by_stream(b"%d %s" % (len(line), line), bounds, trace)
        except OSError as error:
            raise DeliveryFailed(f"{settings.host}: {network_problem(error, settings.timeout_s)}") from None

    def _by_datagram(self, line: bytes, bounds: Bounds, trace: Trace) -> None:
        settings = self._settings
        family, kind, protocol, _, address = look_up(settings.host, settings.at_port, socket.SOCK_DGRAM, bounds)[0]
        with socket.socket(family, kind, protocol) as sender:
            sender.connect(address)
            sender.send(line)
            # If no program listens, the receiver's system says so, unless a firewall drops that.
            if select.select([sender], [], [], _REFUSAL_WAIT_S)[0]:
                sender.recv(1)
        trace(f"sent to {address[0]}, port {settings.at_port}, by UDP: whether it arrived is not known")

    def _by_stream(self, octets: bytes, bounds: Bounds, trace: Trace) -> None:
        settings = self._settings
        host, port = settings.host, settings.at_port
        context = tls_context(settings.trust, self._folder, bounds) if settings.transport == "tls" else None
        line = connect(host, port, bounds, trace)
        try:
            if context is not None:
                line = secured(line, context, host, port, trace)
            line.sendall(octets)
            shorten(line, Bounds(_BREAKS_OFF_WAIT_S))
            with suppress(TimeoutError):  # it listens and is silent, as it should be
                if line.recv(1) == b"":
                    raise DeliveryFailed(f"{host} broke off the connection: does it take syslog at port {port}?")
            trace(f"{host} has taken {len(octets)} octets")
        finally:
            line.close()


def formatted(message: Message, facility: int) -> bytes:
    """Return the message in the form of RFC 5424, section 6, in UTF-8."""
    header = (
        f"<{facility * 8 + _NUMBERS[message.severity]}>1 "
        f"{message.at.isoformat(timespec='milliseconds').replace('+00:00', 'Z')} "
        f"{_word(socket.gethostname(), 255)} scopion {os.getpid()} {_word(_kind(message), 32)}"
    )
    fields = {"id": message.identity, "site": message.site, "severity": str(message.severity), "version": __version__}
    for event in message.events[:1] if len(message.events) == 1 else ():
        fields |= {key: str(event[key]) for key in ("kind", "mac", "address") if key in event}
    structure = " ".join(f'{key}="{_quoted(value)}"' for key, value in fields.items())
    # The byte order mark says that the text is UTF-8 (6.4).
    return f"{header} [{_STRUCTURE} {structure}] ".encode() + b"\xef\xbb\xbf" + message.subject.encode()


def _kind(message: Message) -> str:
    if message.test:
        return "test"
    kinds = {str(event.get("kind", "")) for event in message.events}
    return kinds.pop() if len(kinds) == 1 and not message.more else "digest"


def _word(text: str, limit: int) -> str:
    """Return printable ASCII without blanks, or the sign for an empty value."""
    return "".join(each for each in text if 33 <= ord(each) <= 126)[:limit] or "-"


def _quoted(text: str) -> str:
    """Escape the three characters that would end a value (6.3.3)."""
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("]", "\\]")
