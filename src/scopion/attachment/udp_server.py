"""UDP ports that are listened on for long, for questions of many; the service manager may hand their sockets over.

Each reply leaves from the address that was asked, as RFC 5080, 2.2.1 wants it.
"""

from __future__ import annotations

import os
import selectors
import socket
import struct
import sys
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from scopion.attachment.live_lock import require_unlocked
from scopion.model.address import Address, parse_address
from scopion.model.errors import Refused

_FIRST_HANDED_OVER = 3  # sd_listen_fds(3)
# Half a second of a flood of 10,000 packets a second, so that none is lost while a file is written.
_RECEIVE_BUFFER = 4 << 20
_LONGEST = 4_097  # one octet more than a RADIUS packet may have
_MAPPED = "::ffff:"  # an IPv4 host at a socket of both versions (RFC 4291, 2.5.5.2)
_ANCILLARY = 128
_PKTINFO = getattr(socket, "IP_PKTINFO", 8)
_IPV6_PKTINFO, _IPV6_RECVPKTINFO = getattr(socket, "IPV6_PKTINFO", 50), getattr(socket, "IPV6_RECVPKTINFO", 49)
_IN_PKTINFO, _IN6_PKTINFO = struct.calcsize("@I4s4s"), struct.calcsize("@16sI")


Ancillary = list[tuple[int, int, bytes]]
Way = tuple[socket.socket, Ancillary, Any]  # the socket, what the system tells beside a datagram, and its sender


@dataclass(frozen=True, slots=True)
class Arrival:
    """A datagram, and what is needed to reply."""

    data: bytes
    source: str
    source_port: int
    port: int  # at which it came
    way: Way | None = None  # for ``UdpServer.reply``; None: it came by none


@dataclass(frozen=True, slots=True)
class _Port:
    number: int
    of_every_address: bool  # then the system tells with each datagram which one was asked


class UdpServer:
    """Listens on ports, each of one address or of all."""

    def __init__(self, handed_over: Sequence[socket.socket] = ()) -> None:
        """Take sockets that the service manager has opened; each is used when its port is asked for."""
        self._waiting = selectors.DefaultSelector()
        self._sockets: list[socket.socket] = []
        self._handed_over = list(handed_over)

    def listen(self, address: Address | None, port: int) -> None:
        """Open a port. Raises Refused if another program has it, LiveNetworkLocked."""
        if address is None or not address.is_loopback:
            require_unlocked()
        there = next((each for each in self._handed_over if _is_of(each, address, port)), None)
        used = there if there is not None else _opened(address, port)
        self._sockets.append(used)
        used.setblocking(False)
        with suppress(OSError):
            used.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _RECEIVE_BUFFER)
        if address is None:
            with suppress(OSError):
                if used.family == socket.AF_INET6:
                    used.setsockopt(socket.IPPROTO_IPV6, _IPV6_RECVPKTINFO, 1)
                if sys.platform == "linux":
                    used.setsockopt(socket.IPPROTO_IP, _PKTINFO, 1)
        self._waiting.register(used, selectors.EVENT_READ, _Port(port, of_every_address=address is None))

    def receive(self, wait_s: float, most: int) -> list[Arrival]:
        """Return what has come, at most so many datagrams; wait for the first for so many seconds."""
        found: list[Arrival] = []
        for key, _ in self._waiting.select(wait_s):
            used, port = key.fileobj, key.data
            assert isinstance(used, socket.socket) and isinstance(port, _Port)
            ancillary: Ancillary = []
            while len(found) < most:
                try:
                    if port.of_every_address:
                        data, ancillary, _, sender = used.recvmsg(_LONGEST, _ANCILLARY)
                    else:
                        data, sender = used.recvfrom(_LONGEST)
                except OSError:  # no more, or a reply was refused by its host
                    break
                source = sender[0].removeprefix(_MAPPED)
                found.append(Arrival(data, source, sender[1], port.number, (used, ancillary, sender)))
        return found

    def reply(self, arrival: Arrival, data: bytes, port: int | None = None) -> bool:
        """Send something to the sender of a datagram, to another ``port`` of it if one is given.

        Returns False if it cannot leave: the question comes again.
        """
        assert arrival.way is not None
        used, ancillary, sender = arrival.way
        to = sender if port is None else (sender[0], port, *sender[2:])
        try:
            if ancillary:
                used.sendmsg([data], _from_there(ancillary), 0, to)
            else:
                used.sendto(data, to)
        except OSError:
            return False
        return True

    def send(self, data: bytes, address: Address, port: int) -> bool:
        """Send something by one of the ports, to a host that was not heard. Returns False if it cannot leave."""
        for used in self._sockets:
            is_mapped = used.family == socket.AF_INET6 and address.version == 4
            if used.family == socket.AF_INET and address.version == 6:
                continue
            try:
                used.sendto(data, (f"{_MAPPED if is_mapped else ''}{address}", port))
                return True
            except OSError:
                continue
        return False

    def close(self) -> None:
        """Close the sockets; those that were handed over stay open with the service manager."""
        for each in self._sockets:
            each.close()
        self._sockets.clear()
        self._waiting.close()


def handed_over() -> list[socket.socket]:
    """Return the sockets that the service manager has opened for this process (sd_listen_fds(3))."""
    count = os.environ.get("LISTEN_FDS", "")
    if os.environ.get("LISTEN_PID") != str(os.getpid()) or not count.isdecimal():
        return []
    found = [socket.socket(fileno=_FIRST_HANDED_OVER + number) for number in range(min(int(count), 64))]
    return [each for each in found if each.type == socket.SOCK_DGRAM]


def _opened(address: Address | None, port: int) -> socket.socket:
    where = f" of {address}" if address is not None else ""
    families = [(socket.AF_INET6, "::"), (socket.AF_INET, "0.0.0.0")]
    if address is not None:
        families = [(socket.AF_INET if address.version == 4 else socket.AF_INET6, str(address))]
    error: OSError | None = None
    for family, host in families:
        used = None
        try:
            used = socket.socket(family, socket.SOCK_DGRAM)
            if address is None and family == socket.AF_INET6:
                used.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
            used.bind((host, port))
            return used
        except OSError as problem:
            error = problem
            if used is not None:
                used.close()
    reason = error.strerror if error is not None else "there is no such address"
    raise Refused(f"UDP port {port}{where} cannot be opened: {reason}; does another server use it?")


def _is_of(used: socket.socket, address: Address | None, port: int) -> bool:
    host, its_port = used.getsockname()[:2]
    return its_port == port and (address is None or parse_address(host) == address)


def _from_there(ancillary: Ancillary) -> Ancillary:
    """Return what makes a reply leave from the address that was asked: the interface is left to the routes."""
    for level, kind, data in ancillary:
        if (level, kind) == (socket.IPPROTO_IP, _PKTINFO) and len(data) == _IN_PKTINFO:
            _, local, _ = struct.unpack("@I4s4s", data)
            return [(level, kind, struct.pack("@I4s4s", 0, local, bytes(4)))]
        if (level, kind) == (socket.IPPROTO_IPV6, _IPV6_PKTINFO) and len(data) == _IN6_PKTINFO:
            asked, index = struct.unpack("@16sI", data)
            link_local = asked[:2] == b"\xfe\x80"
            return [(level, kind, struct.pack("@16sI", asked, index if link_local else 0))]
    return []
