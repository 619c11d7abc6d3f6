"""A connection that ends: one deadline for a whole conversation, and one limit for the octets of the other side.

A server that sends one octet a second, or never stops, would hold a client whose timeout begins again with each octet.
Every client of ours that speaks with servers uses this: mail, HTTP, the system log, SSH. Times are those of
``time.monotonic()``, which a change of the clock does not move.
"""

from __future__ import annotations

import socket
import ssl
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar

# What ``getaddrinfo`` returns for an address: family, kind, protocol, name, and socket address.
FullAddress = tuple[int, int, int, str, Any]
Line = TypeVar("Line", bound=socket.socket)
_MOST_OCTETS = 1024 * 1024  # of a conversation in which only replies come back


class Bounds:
    """The limits of a conversation: seconds from now on, and octets from the other side."""

    def __init__(self, within_s: float, most_octets: int = _MOST_OCTETS) -> None:
        self.within_s = within_s
        self._deadline = time.monotonic() + within_s
        self._octets = most_octets

    def left_s(self) -> float:
        """Return the seconds that are left, always more than zero. Raises TimeoutError once they are over."""
        left = self._deadline - time.monotonic()
        if left <= 0:
            raise TimeoutError("timed out")
        return left

    @property
    def are_over(self) -> bool:
        """Tell whether the deadline has passed."""
        return time.monotonic() >= self._deadline

    def took(self, octets: int) -> None:
        """Count octets that have come. Raises TooMuch."""
        self._octets -= octets
        if self._octets < 0:
            raise TooMuch


class TooMuch(ConnectionError):
    """The other side sends more than any answer has."""

    def __init__(self) -> None:
        super().__init__("it sends more than any answer has")
        self.strerror = str(self)


class BoundSocket(socket.socket):
    """A socket whose calls share what is left of its limits."""

    bounds: Bounds

    def recv_into(self, *arguments: Any) -> int:
        """Receive into a buffer; ``makefile`` and line readers use this, too. Raises TimeoutError, TooMuch."""
        self.settimeout(self.bounds.left_s())
        count = super().recv_into(*arguments)
        self.bounds.took(count)
        return count

    def recv(self, *arguments: Any) -> bytes:
        """Receive octets. Raises TimeoutError, TooMuch."""
        self.settimeout(self.bounds.left_s())
        octets = super().recv(*arguments)
        self.bounds.took(len(octets))
        return octets

    def send(self, *arguments: Any) -> int:
        """Send octets. Raises TimeoutError."""
        self.settimeout(self.bounds.left_s())
        return super().send(*arguments)

    def sendall(self, *arguments: Any) -> None:
        """Send all octets, part by part. Raises TimeoutError."""
        self.settimeout(self.bounds.left_s())
        super().sendall(*arguments)


class _BoundTls(ssl.SSLSocket):
    """The same under TLS; the limits are those of the context that made it."""

    def _renew(self) -> Bounds:
        bounds: Bounds = self.context.bounds  # type: ignore[attr-defined]
        self.settimeout(bounds.left_s())
        return bounds

    def do_handshake(self, block: bool = False) -> None:
        self._renew()
        super().do_handshake(block)

    def read(self, *arguments: Any) -> Any:
        bounds = self._renew()
        found = super().read(*arguments)
        bounds.took(found if isinstance(found, int) else len(found))
        return found

    def send(self, *arguments: Any) -> int:
        self._renew()
        return super().send(*arguments)


def bound_tls(context: ssl.SSLContext, bounds: Bounds) -> ssl.SSLContext:
    """Make what a context wraps keep to limits; the context is for this one conversation."""
    context.sslsocket_class = _BoundTls
    context.bounds = bounds  # type: ignore[attr-defined]
    return context


def shorten(line: socket.socket, bounds: Bounds) -> None:
    """Give the rest of a conversation other limits."""
    if isinstance(line, BoundSocket):
        line.bounds = bounds
    elif isinstance(line, ssl.SSLSocket):
        bound_tls(line.context, bounds)


def addresses_of(host: str, port: int, kind: socket.SocketKind, bounds: Bounds) -> list[FullAddress]:
    """Return what ``getaddrinfo`` finds, which without a limit waits as long as name servers like.

    Raises TimeoutError, OSError, UnicodeError.
    """
    found: list[FullAddress] = []
    problem: list[BaseException] = []

    def look() -> None:
        try:
            found.extend(socket.getaddrinfo(host, port, type=kind))
        except (OSError, UnicodeError) as error:
            problem.append(error)

    looking = threading.Thread(target=look, daemon=True, name="scopion-look-up")
    looking.start()
    looking.join(bounds.left_s())
    if problem:
        raise problem[0]
    if not found:
        raise TimeoutError("timed out")
    return found


def connected(address: FullAddress, bounds: Bounds, within_s: float) -> BoundSocket:
    """Open a TCP connection to one of the addresses of ``addresses_of``. Raises OSError."""
    line = BoundSocket(*address[:3])
    line.bounds = bounds
    _connect(line, address, within_s)
    return line


def plainly_connected(address: FullAddress, bounds: Bounds, within_s: float) -> socket.socket:
    """Open one for a library that sets its own timeouts on a socket; use it with ``cut_off``. Raises OSError."""
    line = socket.socket(*address[:3])
    _connect(line, address, within_s)
    return line


def first_connected(
    addresses: Sequence[FullAddress], connect: Callable[[FullAddress, Bounds, float], Line], bounds: Bounds
) -> tuple[Line, FullAddress]:
    """Return a connection to the first address that accepts one, and the address. Raises the OSError of the last one.

    An address that never answers gets only its share of the time: a host has two addresses because one may be dead.
    """
    problem = OSError("no address")
    for index, address in enumerate(addresses):
        try:
            return connect(address, bounds, bounds.left_s() / (len(addresses) - index)), address
        except OSError as error:  # a system without IPv6 counts, too
            problem = error
    raise problem


def _connect(line: socket.socket, address: FullAddress, within_s: float) -> None:
    try:
        line.settimeout(within_s)
        line.connect(address[4])
    except BaseException:
        line.close()
        raise


@contextmanager
def cut_off(line: socket.socket, bounds: Bounds) -> Iterator[None]:
    """Shut a connection at its deadline, for a library that reads by itself: whatever waits for it ends."""

    def shut() -> None:
        try:
            line.shutdown(socket.SHUT_RDWR)
        except OSError:
            line.close()

    timer = threading.Timer(bounds.left_s(), shut)
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()
