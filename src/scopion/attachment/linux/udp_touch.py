"""Datagrams without privilege on Linux: an empty one to each address makes the kernel look for the neighbour.

They go to UDP port 9, discard (RFC 863), where hardly any host listens. A host that refuses one (ICMP port unreachable)
shows that it is there; the socket's error queue (ip(7), IP_RECVERR) brings that, with its address.
"""

from __future__ import annotations

import errno
import select
import socket
import time
from ipaddress import IPv6Address

from scopion.attachment.linux.socket_errors import interface_lost
from scopion.attachment.ports import Interface
from scopion.model.address import Address, parse_address

DISCARD_PORT = 9
# By version of IP: the family, the option level, and the option that turns the error queue on.
_RECVERR = {4: (socket.AF_INET, socket.IPPROTO_IP, 11), 6: (socket.AF_INET6, socket.IPPROTO_IPV6, 25)}
_MSG_ERRQUEUE = 0x2000
_SO_BINDTODEVICE = 25
# sock_extended_err: origin, type and code of a port unreachable, by version (RFC 792, RFC 4443).
_REFUSALS = {(2, 3, 3), (3, 1, 4)}
_NO_ROOM = frozenset({errno.ENOBUFS, errno.EAGAIN, errno.ENOMEM})
# Reported for an earlier datagram, not for this one: no host answered there, which the neighbour table says, too.
_OTHERS_TROUBLE = frozenset({errno.EHOSTUNREACH, errno.ECONNREFUSED, errno.EPERM, errno.EACCES, errno.EHOSTDOWN})
# A system without IPv6, or an interface without an IPv6 address: no host can be touched this way.
_NO_IPV6 = frozenset({errno.EAFNOSUPPORT, errno.ENETUNREACH, errno.EADDRNOTAVAIL})


class UdpTouch:
    """A ``Datagrams`` on a UDP socket for each version of IP. Raises InterfaceLost."""

    def __init__(self, interface: Interface) -> None:
        self.interface = interface
        self._poll = select.poll()
        self._sockets = {4: self._opened(4)}
        if interface.ipv6:
            self._sockets[6] = self._opened(6)

    def touch(self, address: Address) -> bool:
        """Send an empty datagram; the kernel resolves the address first, which is what we want."""
        used = self._sockets.get(address.version)
        if used is None:
            return True
        scope = self.interface.index if isinstance(address, IPv6Address) and address.is_link_local else 0
        to = (str(address), DISCARD_PORT) if address.version == 4 else (str(address), DISCARD_PORT, 0, scope)
        for _ in range(3):  # the system reports the error of an earlier datagram instead of sending: try once more
            try:
                used.sendto(b"", to)
                return True
            except OSError as error:
                if error.errno in _NO_ROOM:
                    return False
                if address.version == 6 and error.errno in _NO_IPV6:
                    return True
                if error.errno not in _OTHERS_TROUBLE:
                    raise interface_lost(self.interface, error) from error
        return False

    def refusals(self) -> tuple[tuple[Address, float], ...]:
        """Return the hosts in the error queues: they have refused the datagram."""
        return tuple(found for version, used in self._sockets.items() for found in self._refusals(version, used))

    def wait(self, deadline: float) -> None:
        """Sleep until an error queue has something, or the deadline."""
        left = deadline - time.monotonic()
        if left > 0:
            self._poll.poll(left * 1000)

    def close(self) -> None:
        """Close the sockets."""
        for used in self._sockets.values():
            used.close()

    def _opened(self, version: int) -> socket.socket:
        family, level, option = _RECVERR[version]
        used = socket.socket(family, socket.SOCK_DGRAM)
        try:
            used.setsockopt(level, option, 1)
            # Any user may bind to the device since Linux 5.7; before that, the routes choose the same device.
            self._bind_to_device(used)
            used.setblocking(False)
        except OSError as error:
            used.close()
            raise interface_lost(self.interface, error) from error
        self._poll.register(used, 0)  # errors are always reported
        return used

    def _refusals(self, version: int, used: socket.socket) -> list[tuple[Address, float]]:
        _, level, option = _RECVERR[version]
        found: list[tuple[Address, float]] = []
        while True:
            try:
                _, ancillary, _, peer = used.recvmsg(0, 512, _MSG_ERRQUEUE)
            except BlockingIOError:
                return found
            except OSError as error:
                raise interface_lost(self.interface, error) from error
            for its_level, kind, data in ancillary:
                if (its_level, kind) == (level, option) and _is_refusal(data):
                    found.append((parse_address(peer[0]), time.monotonic()))

    def _bind_to_device(self, used: socket.socket) -> None:
        try:
            used.setsockopt(socket.SOL_SOCKET, _SO_BINDTODEVICE, self.interface.name.encode())
        except PermissionError:
            return


def _is_refusal(data: bytes) -> bool:
    """Tell whether an extended error is a port unreachable that the touched host itself sent."""
    return len(data) >= 24 and tuple(data[4:7]) in _REFUSALS
