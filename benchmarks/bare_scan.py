"""The floor of a scan: a socket, frames that are ready, and a clock. Runs in the desk's namespace, by itself.

It asks each address of 192.0.2.0/24 once at a pace, prints who answers as it is heard, and waits as long after the last
request as a scan has to, for stations that doze. With ``libraries`` it first loads what any program loads that has
options, draws a live table and keeps rows.
"""

from __future__ import annotations

import importlib
import select
import socket
import struct
import sys
import time

WAIT_S = 1.1
_OWN, _MAC = bytes([192, 0, 2, 10]), bytes.fromhex("60f2a710000a")
_ARP = struct.Struct("!6s6sHHHBBH6s4s6s4s")


def scan(pace: float) -> int:
    """Return how many answered."""
    found: dict[bytes, bytes] = {}
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0806)) as link:
        link.bind(("eth0", 0x0806))
        frames = [
            _ARP.pack(b"\xff" * 6, _MAC, 0x0806, 1, 0x0800, 6, 4, 1, _MAC, _OWN, b"\0" * 6, bytes([192, 0, 2, last]))
            for last in range(1, 255)
        ]
        began = time.monotonic()
        for number, frame in enumerate(frames):
            _hear(link, found, began + number / pace)
            link.send(frame)
        _hear(link, found, time.monotonic() + WAIT_S)
    return len(found)


def _hear(link: socket.socket, found: dict[bytes, bytes], until: float) -> None:
    while (left := until - time.monotonic()) > 0:
        if select.select([link], [], [], left)[0]:
            frame = link.recv(128)
            if frame[20:22] == b"\0\2" and frame[28:32] not in found:
                found[frame[28:32]] = frame[22:28]
                print(socket.inet_ntoa(frame[28:32]), frame[22:28].hex(":"), flush=True)


if __name__ == "__main__":
    for name in ("click", "rich.live", "rich.text", "sqlite3") if sys.argv[2:] == ["libraries"] else ():
        importlib.import_module(name)
    scan(float(sys.argv[1]))
