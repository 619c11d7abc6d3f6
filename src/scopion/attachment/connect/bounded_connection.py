"""A connection that ends: one deadline for all of a conversation, and one bound for all that the other side sends.

Whoever answers one octet a second, or without end, holds a client for ever whose timeout begins anew with each octet.
Every client of ours that speaks with servers goes through here: mail, HTTP, the system log, SSH. Times are those of
``time.monotonic()``, which no clock change moves.
"""

from __future__ import annotations

import socket
import ssl
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar

# What ``getaddrinfo`` tells of an address: family, kind, protocol, name, and where.
FullAddress = tuple[int, int, int, str, Any]
Line = TypeVar("Line", bound=socket.socket)
_MOST_OCTETS = 1024 * 1024  # of a conversation in which only replies come back


class Bounds:
    """What a conversation may take: so many seconds from now on, and so many octets from the other side."""

    def __init__(self, within_s: float, most_octets: int = _MOST_OCTETS) -> None:
        self.within_s = within_s
        self._deadline = time.monotonic() + within_s
        self._octets = most_octets

    def left_s(self) -> float:
        """The seconds that are left, more than none. Raises TimeoutError once they are over."""
        left = self._deadline - time.monotonic()
        if left <= 0:
            raise TimeoutError("timed out")
        return left

    @property
    def are_over(self) -> bool:
        """Whether the deadline has passed."""
        return time.monotonic() >= self._deadline

    def took(self, octets: int) -> None:
        """So many octets have come. Raises TooMuch."""
        self._octets -= octets
        if self._octets < 0:
            raise TooMuch


class TooMuch(ConnectionError):
    """The other side sends more than any answer has."""

    def __init__(self) -> None:
        super().__init__("it sends more than any answer has")
        self.strerror = str(self)


class BoundSocket(socket.socket):
    """A socket whose calls share what is left of its bounds."""

    bounds: Bounds

    def recv_into(self, *arguments: Any) -> int:
        """Also what ``makefile`` and all that read lines use."""
        self.settimeout(self.bounds.left_s())
        count = super().recv_into(*arguments)
        self.bounds.took(count)
        return count

    def recv(self, *arguments: Any) -> bytes:
        """Raises TimeoutError, TooMuch."""
        self.settimeout(self.bounds.left_s())
        octets = super().recv(*arguments)
        self.bounds.took(len(octets))
        return octets

    def send(self, *arguments: Any) -> int:
        """Raises TimeoutError."""
        self.settimeout(self.bounds.left_s())
        return super().send(*arguments)

    def sendall(self, *arguments: Any) -> None:
        """In all its parts. Raises TimeoutError."""
        self.settimeout(self.bounds.left_s())
        super().sendall(*arguments)


class _BoundTls(ssl.SSLSocket):
    """The same under TLS; the bounds are those of the context that has made it."""

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
    """Let what a context wraps keep to bounds; the context is for this one conversation."""
    context.sslsocket_class = _BoundTls
    context.bounds = bounds  # type: ignore[attr-defined]
    return context


def shorten(line: socket.socket, bounds: Bounds) -> None:
    """Let what remains of a conversation keep to other bounds."""
    if isinstance(line, BoundSocket):
        line.bounds = bounds
    elif isinstance(line, ssl.SSLSocket):
        bound_tls(line.context, bounds)


def addresses_of(host: str, port: int, kind: socket.SocketKind, bounds: Bounds) -> list[FullAddress]:
    """What ``getaddrinfo`` tells, which by itself waits for name servers as long as those please.

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
    """A TCP connection to one of the addresses of ``addresses_of``. Raises OSError."""
    line = BoundSocket(*address[:3])
    line.bounds = bounds
    _connect(line, address, within_s)
    return line


def plainly_connected(address: FullAddress, bounds: Bounds, within_s: float) -> socket.socket:
    """The same for a library that sets its own times on a socket; it goes with ``cut_off``. Raises OSError."""
    line = socket.socket(*address[:3])
    _connect(line, address, within_s)
    return line


def first_connected(
    addresses: Sequence[FullAddress], connect: Callable[[FullAddress, Bounds, float], Line], bounds: Bounds
) -> tuple[Line, FullAddress]:
    """A connection to the first address that takes one, and which that is. Raises OSError, what the last one said.

    One that never answers takes no more than its share of the time: a host has two addresses because one may be dead.
    """
    problem = OSError("no address")
    for index, address in enumerate(addresses):
        try:
            return connect(address, bounds, bounds.left_s() / (len(addresses) - index)), address
        except OSError as error:  # also a system without IPv6
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
    """For a library that reads by itself: at the deadline its connection is shut, and whatever waits for it ends."""

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
