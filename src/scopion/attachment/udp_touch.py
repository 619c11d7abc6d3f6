"""Datagrams without any privilege on Linux: an empty one to each address makes the kernel look for the neighbour.

They go to UDP port 9, discard (RFC 863), where next to nobody listens. A host that refuses one (ICMP port unreachable)
thereby says that it is there; the socket's error queue (ip(7), IP_RECVERR) brings that, with its address.
"""

from __future__ import annotations

import errno
import select
import socket
import time
from ipaddress import IPv4Address

from scopion.attachment.linux_errors import interface_lost
from scopion.attachment.ports import Interface

DISCARD_PORT = 9
_IP_RECVERR = 11
_MSG_ERRQUEUE = 0x2000
_SO_BINDTODEVICE = 25
_ORIGIN_ICMP, _UNREACHABLE, _PORT_UNREACHABLE = 2, 3, 3  # sock_extended_err: origin, type, code
_NO_ROOM = frozenset({errno.ENOBUFS, errno.EAGAIN, errno.ENOMEM})
# Reported for an earlier datagram, not for this one: nobody answered there, which the neighbour table says as well.
_OTHERS_TROUBLE = frozenset({errno.EHOSTUNREACH, errno.ECONNREFUSED, errno.EPERM, errno.EACCES, errno.EHOSTDOWN})


class UdpTouch:
    """A ``Datagrams`` on one UDP socket. Raises InterfaceLost."""

    def __init__(self, interface: Interface) -> None:
        self.interface = interface
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            self._socket.setsockopt(socket.IPPROTO_IP, _IP_RECVERR, 1)
            # Binding to the device is open to all users since Linux 5.7; before, the routes choose the same one.
            self._bind_to_device()
            self._socket.setblocking(False)
        except OSError as error:
            self._socket.close()
            raise interface_lost(interface, error) from error
        self._poll = select.poll()
        self._poll.register(self._socket, 0)  # errors are always reported

    def touch(self, address: IPv4Address) -> bool:
        """Send an empty datagram; the kernel resolves the address first, which is the point."""
        for _ in range(3):  # a pending error of an earlier datagram is reported instead of sending: once more
            try:
                self._socket.sendto(b"", (str(address), DISCARD_PORT))
                return True
            except OSError as error:
                if error.errno in _NO_ROOM:
                    return False
                if error.errno not in _OTHERS_TROUBLE:
                    raise interface_lost(self.interface, error) from error
        return False

    def refusals(self) -> tuple[tuple[IPv4Address, float], ...]:
        """What the error queue holds: hosts that have refused the datagram."""
        found: list[tuple[IPv4Address, float]] = []
        while True:
            try:
                _, ancillary, _, peer = self._socket.recvmsg(0, 512, _MSG_ERRQUEUE)
            except BlockingIOError:
                return tuple(found)
            except OSError as error:
                raise interface_lost(self.interface, error) from error
            for level, kind, data in ancillary:
                if level == socket.IPPROTO_IP and kind == _IP_RECVERR and _is_refusal(data):
                    found.append((IPv4Address(peer[0]), time.monotonic()))

    def wait(self, deadline: float) -> None:
        """Sleep until the error queue has something, or the deadline."""
        left = deadline - time.monotonic()
        if left > 0:
            self._poll.poll(left * 1000)

    def close(self) -> None:
        """Give the socket back."""
        self._socket.close()

    def _bind_to_device(self) -> None:
        try:
            self._socket.setsockopt(socket.SOL_SOCKET, _SO_BINDTODEVICE, self.interface.name.encode())
        except PermissionError:
            return


def _is_refusal(data: bytes) -> bool:
    """Whether an extended error is a port unreachable that the touched host itself sent."""
    if len(data) < 24:
        return False
    origin, kind, code = data[4], data[5], data[6]
    return origin == _ORIGIN_ICMP and kind == _UNREACHABLE and code == _PORT_UNREACHABLE
