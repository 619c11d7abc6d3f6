"""ICMP echo: datagram ICMP sockets if the system allows them (Linux: icmp(7), ping_group_range), else raw ones."""

from __future__ import annotations

import selectors
import socket
import time
from random import SystemRandom

from scopion.attachment.permission import how_to_get_raw_frames
from scopion.attachment.ports import Interface
from scopion.model.address import Address, parse_address
from scopion.model.errors import MalformedFrame, NotPermitted
from scopion.wire.cursor import Cursor
from scopion.wire.icmp import Echo, decode_echo, encode_echo
from scopion.wire.ip import ICMP, ICMPV6

_FAMILIES = {4: (socket.AF_INET, ICMP), 6: (socket.AF_INET6, ICMPV6)}
_RECEIVE_BUFFER = 1 << 20
_PACKET = 2048


class IcmpEcho:
    """An ``EchoLine``. Raises NotPermitted when it is made."""

    def __init__(self) -> None:
        # The kernel puts its own identifier into the requests of a datagram socket, and passes on only the replies to
        # them.
        self._identifier = SystemRandom().randrange(1 << 16)
        self._sequence = 0
        self._waiting = selectors.DefaultSelector()
        self._sockets: dict[int, socket.socket] = {}
        for version in _FAMILIES:
            self._open(version)
        if 4 not in self._sockets:
            raise NotPermitted(
                "this user may not send ICMP echo: sysctl net.ipv4.ping_group_range lets its group, or "
                + how_to_get_raw_frames()
            )

    def send(self, address: Address, interface: Interface | None = None) -> bool:
        """Send one request."""
        used = self._sockets.get(address.version)
        if used is None:
            return False
        self._sequence = (self._sequence + 1) & 0xFFFF
        # The kernel chooses the source, and computes IPv6's checksum over it (RFC 3542, 3.1).
        message = encode_echo(address, address, Echo(False, self._identifier, self._sequence))
        scope = interface.index if interface is not None else 0
        try:
            used.sendto(message, (str(address), 0) if address.version == 4 else (str(address), 0, 0, scope))
        except OSError:  # no route, or no room just now
            return False
        return True

    def replies(self, deadline: float) -> tuple[tuple[Address, float], ...]:
        """Return the hosts that have replied."""
        found: list[tuple[Address, float]] = []
        while not found:
            for version, used in self._sockets.items():
                found += self._read(version, used)
            left = deadline - time.monotonic()
            if found or left <= 0:
                break
            self._waiting.select(left)
        return tuple(found)

    def close(self) -> None:
        """Close the sockets."""
        for used in self._sockets.values():
            used.close()
        self._sockets.clear()
        self._waiting.close()

    def _open(self, version: int) -> None:
        family, protocol = _FAMILIES[version]
        for kind in (socket.SOCK_DGRAM, socket.SOCK_RAW):
            try:
                used = socket.socket(family, kind, protocol)
            except OSError:
                continue
            used.setblocking(False)
            used.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _RECEIVE_BUFFER)
            self._sockets[version] = used
            self._waiting.register(used, selectors.EVENT_READ)
            return

    def _read(self, version: int, used: socket.socket) -> list[tuple[Address, float]]:
        found: list[tuple[Address, float]] = []
        while True:
            try:
                packet, sender = used.recvfrom(_PACKET)
            except OSError:
                return found
            if self._is_ours(version, packet, raw=used.type == socket.SOCK_RAW):
                found.append((parse_address(sender[0]), time.monotonic()))

    def _is_ours(self, version: int, packet: bytes, *, raw: bool) -> bool:
        try:
            cursor = Cursor(packet)
            if raw and version == 4:  # a raw socket gives IPv4's header as well
                cursor.take((packet[0] & 0x0F) * 4 if packet else 1)
            echo = decode_echo(_FAMILIES[version][1], cursor.take(cursor.left))
        except MalformedFrame:
            return False
        return echo is not None and echo.reply and (not raw or echo.identifier == self._identifier)
