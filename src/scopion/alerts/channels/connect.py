"""Connects to a server, with and without TLS, and says in plain words why it failed."""

from __future__ import annotations

import errno
import re
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
from scopion.attachment.live_lock import require_unlocked
from scopion.model.errors import LiveNetworkLocked
from scopion.model.text import clean

_ADVICE = {
    errno.ECONNREFUSED: "nothing listens there: see whether the port is right and the server is running",
    errno.EHOSTUNREACH: "there is no route to it: is this machine on the network, and the address right?",
    errno.ENETUNREACH: "there is no route to its network: is this machine connected?",
    errno.ECONNRESET: "it broke off the connection: is it the right port, or does it refuse this machine?",
}


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
    if re.fullmatch(r"localhost|127(\.\d{1,3}){3}", host):
        return
    try:
        require_unlocked()
    except LiveNetworkLocked as locked:
        raise DeliveryFailed(str(locked), permanent=True) from None


def network_problem(error: OSError, timeout_s: float) -> str:
    """Return what the system said of a connection, and what to look at."""
    if isinstance(error, TimeoutError):
        return f"no answer within {timeout_s:g} seconds: does a firewall drop it, or is it the wrong port?"
    return _ADVICE.get(error.errno or 0, error.strerror or clean(str(error), 120))


def tls_context(trust: str, folder: Path, bounds: Bounds) -> ssl.SSLContext:
    """Return a TLS context that checks certificates against the system's authorities or a file; for one conversation.

    Raises DeliveryFailed.
    """
    if not trust:
        return bound_tls(ssl.create_default_context(), bounds)
    path = folder / trust
    try:
        return bound_tls(ssl.create_default_context(cafile=str(path)), bounds)
    except (OSError, ssl.SSLError) as error:
        reason = error.strerror if isinstance(error, FileNotFoundError | PermissionError) else "it holds no certificate"
        raise DeliveryFailed(f"{path} should hold the certificates to trust: {reason}") from None


def secured(line: socket.socket, context: ssl.SSLContext, host: str, port: int, trace: Trace) -> ssl.SSLSocket:
    """Return the connection under TLS, with the server's certificate checked. Raises DeliveryFailed."""
    try:
        safe = context.wrap_socket(line, server_hostname=host)
    except OSError as error:
        line.close()
        raise DeliveryFailed(tls_problem(error, host, port)) from None
    trace(f"{safe.version()}, the certificate is that of {host}")
    return safe


def tls_problem(error: OSError, host: str, port: int) -> str:
    """Return why a connection could not be secured."""
    if isinstance(error, ssl.SSLCertVerificationError):
        said = clean(error.verify_message or "it is not trusted").rstrip(".")
        if error.verify_code in (62, 64):  # X509_V_ERR_HOSTNAME_MISMATCH, X509_V_ERR_IP_ADDRESS_MISMATCH
            return (
                f"the certificate of the server at port {port} is not that of {host}: write the host as its "
                f"certificate has it ({said})"
            )
        if error.verify_code == 10:  # X509_V_ERR_CERT_HAS_EXPIRED
            return f"the certificate of {host} has expired: its administrator has to renew it, or this clock is wrong"
        return (
            f"the certificate of {host} is not signed by an authority that this machine trusts ({said}): if it "
            "is your own server, name its certificate with trust"
        )
    if isinstance(error, ssl.SSLError) and error.reason in ("WRONG_VERSION_NUMBER", "RECORD_LAYER_FAILURE"):
        return f"{host} does not speak TLS at port {port}: is it the port for starttls or plain instead?"
    if isinstance(error, TimeoutError):
        return f"{host} did not answer at port {port} when TLS began: is it the port for starttls or plain instead?"
    return f"{host} broke off at port {port} when TLS began ({clean(str(error), 120)}): is it the right port?"
