"""Connects to a server, with and without TLS, and says in plain words why it failed."""

from __future__ import annotations

import socket
import ssl
from pathlib import Path

from scopion.alerts.channels.channel import DeliveryFailed, Trace
from scopion.attachment.connect.bounded_connection import (
    Bounds,
    FullAddress,
    addresses_of,
    bound_tls,
    connected,
    first_connected,
)
from scopion.attachment.connect.connection_words import network_problem, tls_problem
from scopion.attachment.connect.trusted import trusting
from scopion.attachment.live_lock import require_unlocked_towards
from scopion.model.errors import InvalidSettings, LiveNetworkLocked


def connect(host: str, port: int, bounds: Bounds, trace: Trace) -> socket.socket:
    """Return a TCP connection within limits. Raises DeliveryFailed."""
    trace(f"looking for {host}")
    addresses = look_up(host, port, socket.SOCK_STREAM, bounds)
    trace(f"{host} is {', '.join(dict.fromkeys(str(each[4][0]) for each in addresses))}")
    try:
        line, where = first_connected(addresses, connected, bounds)
    except OSError as error:
        problem = network_problem(error, bounds.within_s)
        raise DeliveryFailed(f"{host} could not be reached at port {port}: {problem}") from None
    trace(f"connected to {where[4][0]}, port {port}")
    return line


def look_up(host: str, port: int, kind: socket.SocketKind, bounds: Bounds) -> list[FullAddress]:
    """Return the addresses of a host. Raises DeliveryFailed."""
    require_allowed(host)
    try:
        return addresses_of(host, port, kind, bounds)
    except TimeoutError:
        raise DeliveryFailed(
            f"the name server did not answer within {bounds.within_s:g} seconds for {host}: does it answer at all?"
        ) from None
    except (OSError, UnicodeError):
        raise DeliveryFailed(
            f"the name {host} was not found: is it spelt right, and does this machine have a name server?"
        ) from None


def require_allowed(host: str) -> None:
    """Raise DeliveryFailed if the live network is locked and the host is not this machine."""
    try:
        require_unlocked_towards(host)
    except LiveNetworkLocked as locked:
        raise DeliveryFailed(str(locked), permanent=True) from None


def tls_context(trust: str, folder: Path, bounds: Bounds) -> ssl.SSLContext:
    """Return a TLS context that checks certificates against the system's authorities or a file; for one conversation.

    Raises DeliveryFailed.
    """
    try:
        return bound_tls(trusting(folder / trust if trust else None), bounds)
    except InvalidSettings as error:
        raise DeliveryFailed(str(error)) from None


def secured(line: socket.socket, context: ssl.SSLContext, host: str, port: int, trace: Trace) -> ssl.SSLSocket:
    """Return the connection under TLS, with the server's certificate checked. Raises DeliveryFailed."""
    try:
        safe = context.wrap_socket(line, server_hostname=host)
    except OSError as error:
        line.close()
        raise DeliveryFailed(tls_problem(error, host, port)) from None
    trace(f"{safe.version()}, the certificate is that of {host}")
    return safe
