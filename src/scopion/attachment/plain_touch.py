"""Datagrams that make any system look for a neighbour: a plain UDP socket, without Linux's report of refusals."""

from __future__ import annotations

import errno
import socket
import time

from scopion.attachment.ports import Interface
from scopion.model.address import Address

_DISCARD_PORT = 9  # RFC 863
_NO_ROOM = frozenset({errno.ENOBUFS, errno.EAGAIN})


class PlainTouch:
    """A ``Datagrams`` that sees no refusals: only the neighbour table tells which hosts are there."""

    def __init__(self, interface: Interface) -> None:
        self._interface = interface
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._socket.setblocking(False)

    def touch(self, address: Address) -> bool:
        """Send an empty datagram; only IPv4 is touched."""
        if address.version == 6:
            return True
        try:
            self._socket.sendto(b"", (str(address), _DISCARD_PORT))
        except OSError as error:
            return error.errno not in _NO_ROOM  # the neighbour table tells whether a host is unreachable
        return True

    def refusals(self) -> tuple[tuple[Address, float], ...]:
        """Return nothing: refusals are not seen."""
        return ()

    def wait(self, deadline: float) -> None:
        """Sleep until the deadline; a listing runs a command, so one listing a second is enough."""
        time.sleep(max(0.0, deadline - time.monotonic()))

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()
