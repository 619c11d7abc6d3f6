"""Raw frames on Linux: a packet socket (packet(7)) whose kernel filter lets only useful frames through."""

from __future__ import annotations

import ctypes
import errno
import select
import socket
import struct
import time

from scopion.attachment.linux.packet_filter import filter_for
from scopion.attachment.linux.socket_errors import interface_lost
from scopion.attachment.permission import packet_socket
from scopion.attachment.ports import Interface, ReceivedFrame, Traffic
from scopion.model.errors import InterfaceLost, NotPermitted

_ETH_P_ALL = 0x0003
_SO_ATTACH_FILTER = 26
_SO_RCVBUFFORCE = 33
_SOL_PACKET, _PACKET_ADD_MEMBERSHIP, _PACKET_IGNORE_OUTGOING = 263, 1, 23
_PACKET_MR_ALLMULTI = 2
# frames that passed the filter, and how many of them were dropped
_PACKET_STATISTICS, _STATISTICS = 6, struct.Struct("@II")
_SO_TIMESTAMPNS = 35
_TIMESPEC = struct.Struct("@ll")
_FRAME = 2048  # more than an Ethernet frame of 1,514; a longer one is cut and refused
# Room for five thousand frames while this process draws a table: 4 MiB; the kernel counts 768 bytes for a short frame.
_RECEIVE_BUFFER = 1 << 22
# A listener has to hear everything: room for most of a second of 50,000 frames, used only during a flood.
_LISTENING_BUFFER = 1 << 25
# If the kernel's time differs by more than this, the clock was set meanwhile: then the time of reading is used.
_BELIEVED_S = 2.0


class PacketLink:
    """A ``Link`` on a packet socket. Raises NotPermitted, InterfaceLost."""

    def __init__(self, interface: Interface, traffic: Traffic) -> None:
        self.interface = interface
        # Round trips are measured by the kernel's clock. A listener does without it, and takes in a third more frames.
        self._stamped = traffic is Traffic.ANSWERS
        try:
            self._socket = packet_socket()
        except NotPermitted as refused:
            raise NotPermitted(f"this user may not send raw frames; {refused}") from None
        try:
            self._attach_filter(traffic)
            self._widen_buffer()
            if self._stamped:
                self._socket.setsockopt(socket.SOL_SOCKET, _SO_TIMESTAMPNS, 1)
            self._socket.setsockopt(_SOL_PACKET, _PACKET_IGNORE_OUTGOING, 1)
            self._socket.bind((interface.name, _ETH_P_ALL))
            self._hear_groups(interface)
            self._socket.setblocking(False)
        except OSError as error:
            self._socket.close()
            raise interface_lost(interface, error) from error
        self._poll = select.poll()
        self._poll.register(self._socket, select.POLLIN)

    def send(self, frame: bytes) -> None:
        """Put a frame on the wire; wait while the device's own queue is full. Raises InterfaceLost."""
        while True:
            try:
                self._socket.send(frame)
                return
            except BlockingIOError:
                self._wait_for_room()
            except OSError as error:
                if error.errno != errno.ENOBUFS:
                    raise interface_lost(self.interface, error) from error
                time.sleep(0.001)  # the device's own queue is full: a frame leaves it every few microseconds

    def receive(self, deadline: float) -> ReceivedFrame | None:
        """Return the next frame that the filter lets through, with the kernel's time of its arrival."""
        while True:
            try:
                if not self._stamped:
                    return ReceivedFrame(self._socket.recv(_FRAME), time.monotonic())
                frame, ancillary, _, _ = self._socket.recvmsg(_FRAME, 64)
                return ReceivedFrame(frame, _arrived(ancillary))
            except BlockingIOError:
                left = deadline - time.monotonic()
                if left <= 0:
                    return None
                self._poll.poll(left * 1000)  # rounded up to a millisecond by the system
            except OSError as error:
                raise interface_lost(self.interface, error) from error

    def dropped(self) -> int:
        """Return the kernel's count since the last call; reading it resets it (packet(7))."""
        try:
            counted = self._socket.getsockopt(_SOL_PACKET, _PACKET_STATISTICS, _STATISTICS.size)
        except OSError:  # closed meanwhile, or the interface is gone
            return 0
        return int(_STATISTICS.unpack(counted)[1])

    def close(self) -> None:
        """Close the socket."""
        self._socket.close()

    def _wait_for_room(self) -> None:
        if not select.select([], [self._socket], [], 1.0)[1]:
            raise InterfaceLost(f"{self.interface.name} has taken no frame for a second: is its cable or radio stuck?")

    def _attach_filter(self, traffic: Traffic) -> None:
        steps = filter_for(traffic)
        buffer = ctypes.create_string_buffer(b"".join(struct.pack("=HBBI", *step) for step in steps))
        pointer = struct.pack("@HL", len(steps), ctypes.addressof(buffer))
        self._socket.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, pointer)

    def _widen_buffer(self) -> None:
        try:
            size = _RECEIVE_BUFFER if self._stamped else _LISTENING_BUFFER
            self._socket.setsockopt(socket.SOL_SOCKET, _SO_RCVBUFFORCE, size)
        except OSError:  # only the network's administrator may exceed the system's limit
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _RECEIVE_BUFFER)

    def _hear_groups(self, interface: Interface) -> None:
        """Let every multicast frame in: neighbour discovery uses groups that this machine has not joined.

        A membership of the packet socket sends no frame, so no other machine notices it.
        """
        request = struct.pack("@iHH8s", interface.index, _PACKET_MR_ALLMULTI, 0, b"")
        self._socket.setsockopt(_SOL_PACKET, _PACKET_ADD_MEMBERSHIP, request)


def _arrived(ancillary: list[tuple[int, int, bytes]]) -> float:
    """Return when a frame arrived, on the monotonic clock; the kernel notes it on the other clock."""
    now, wall = time.monotonic(), time.time()
    for level, kind, data in ancillary:
        if level == socket.SOL_SOCKET and kind == _SO_TIMESTAMPNS and len(data) >= _TIMESPEC.size:
            seconds, nanoseconds = _TIMESPEC.unpack_from(data)
            age: float = wall - (seconds + nanoseconds / 1e9)
            if 0.0 <= age < _BELIEVED_S:
                return now - age
    return now
