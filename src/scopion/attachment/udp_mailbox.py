"""Questions and answers by UDP on any system: a socket for each version of IP, opened when it is first needed."""

from __future__ import annotations

import errno
import selectors
import socket
import struct
import sys
import time
from ipaddress import IPv6Address

from scopion.attachment.ports import Interface, Letter
from scopion.model.address import Address, parse_address

_SO_BINDTODEVICE = 25
# Multicast DNS wants it (RFC 6762, section 11); groups of this link go no further in any case.
_GROUP_HOPS = 255
# The largest multicast DNS message is 9,000 bytes; a longer one is cut, and not understood.
_LETTER = 9001
# A hundred answers at a time while this process draws a table.
_RECEIVE_BUFFER = 1 << 20


class UdpMailbox:
    """A ``Mailbox``; with an interface, everything leaves by that interface."""

    def __init__(self, interface: Interface | None) -> None:
        self._interface = interface
        self._sockets: dict[int, socket.socket | None] = {}
        self._waiting = selectors.DefaultSelector()

    def send(self, payload: bytes, address: Address, port: int) -> bool:
        """Send one datagram."""
        used = self._socket(address.version)
        if used is None:
            return False
        scope = self._interface.index if self._interface and _needs_scope(address) else 0
        to = (str(address), port) if address.version == 4 else (str(address), port, 0, scope)
        try:
            used.sendto(payload, to)
        except OSError as error:
            # The system reports the refusal of an earlier datagram instead of sending, so try once more.
            if error.errno != errno.ECONNREFUSED:
                return False
            return self._again(used, payload, to)
        return True

    def receive(self, deadline: float) -> Letter | None:
        """Return the next datagram."""
        while True:
            for used in filter(None, self._sockets.values()):
                letter = self._read(used)
                if letter is not None:
                    return letter
            left = deadline - time.monotonic()
            if left <= 0:
                return None
            if self._sockets:
                self._waiting.select(left)
            else:
                time.sleep(left)  # no question was asked, so no answer can come

    def close(self) -> None:
        """Close the sockets."""
        for used in filter(None, self._sockets.values()):
            used.close()
        self._sockets.clear()
        self._waiting.close()

    def _again(self, used: socket.socket, payload: bytes, to: tuple[str, int] | tuple[str, int, int, int]) -> bool:
        try:
            used.sendto(payload, to)
        except OSError:
            return False
        return True

    def _read(self, used: socket.socket) -> Letter | None:
        try:
            payload, sender = used.recvfrom(_LETTER)
            return Letter(payload, parse_address(sender[0]), sender[1], time.monotonic())
        except OSError:  # no datagram, or a host refused a question: neither is an answer
            return None

    def _socket(self, version: int) -> socket.socket | None:
        if version not in self._sockets:
            self._sockets[version] = self._opened(version)
        return self._sockets[version]

    def _opened(self, version: int) -> socket.socket | None:
        """Return a socket, or None if the system has no such version of IP."""
        family = socket.AF_INET if version == 4 else socket.AF_INET6
        try:
            used = socket.socket(family, socket.SOCK_DGRAM)
            used.setblocking(False)
            used.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _RECEIVE_BUFFER)
            if self._interface is not None:
                self._confine(used, version, self._interface)
        except OSError:
            return None
        self._waiting.register(used, selectors.EVENT_READ)
        return used

    def _confine(self, used: socket.socket, version: int, interface: Interface) -> None:
        if version == 4:
            # struct ip_mreqn: no group, no address, the interface; on other systems than Linux, one of its addresses
            by_index = struct.pack("@4s4si", b"", b"", interface.index)
            by_address = interface.addresses[0].ip.packed if interface.addresses else bytes(4)
            chosen = by_index if sys.platform == "linux" else by_address
            used.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, chosen)
            used.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, _GROUP_HOPS)
        else:
            used.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_IF, interface.index)
            used.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_MULTICAST_HOPS, _GROUP_HOPS)
        if sys.platform != "linux":
            return
        try:
            used.setsockopt(socket.SOL_SOCKET, _SO_BINDTODEVICE, interface.name.encode())
        except OSError:  # allowed to all since Linux 5.7; before that, the routes choose the same interface
            return


def _needs_scope(address: Address) -> bool:
    return isinstance(address, IPv6Address) and (address.is_link_local or address.is_multicast)
