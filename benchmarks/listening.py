"""Listening to a flood of ARP frames, all different, in a network namespace, beside a bare receive loop.

Needs root and Linux.
"""

from __future__ import annotations

import contextlib
import os
import socket
import struct
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from ipaddress import IPv4Address

from tests.lab.lab import Lab, LabHost, require_lab

from benchmarks.figure import Figure, beside, in_turns, timed
from scopion.discovery.hearing import Hearing
from scopion.model.mac import MacAddress
from scopion.wire.arp import encode_request

SECONDS = 4.0
# A frame in the time in which a bare loop unpacks so many, but not more than so many a second.
_AS_MANY, _MOST_A_SECOND = 33, 50_000
_SO_RCVBUFFORCE, _BUFFER = 33, 32 << 20
HOST = LabHost("talker", "10:c0:de:00:00:07", ("192.0.2.7",))


def measure() -> Iterator[Figure]:
    """Measure decoding alone, and from the wire."""
    frames = _frames(100_000)
    taken = in_turns(5, ours=timed(lambda: _decoded(frames)), floor=timed(lambda: _unpacked(frames)))
    each = {name: seconds / len(frames) * 1e6 for name, seconds in taken.items()}
    more = f"{len(frames) / taken['ours']:,.0f} a second on one core"
    name = "frames decoded, all different"
    yield beside(name, each["ours"], each["floor"], 30, what="unpacked into a dictionary", unit="us each", more=more)
    require_lab()
    lab, rate = Lab([HOST]), flood_rate()
    try:
        bare, ours = (on_the_wire(lab, which, rate) for which in ("receive", "hear"))
    finally:
        lab.close()
    detail = f"at {rate:,} a second, one core each: {ours:.1%} heard and decoded; a bare receive loop: {bare:.1%}"
    yield Figure("a flood of ARP frames on the wire", ours / bare * 100, "%", 99.0, least=True, detail=detail)


def flood_rate() -> int:
    """How many frames a second are a flood for this machine: by what a bare loop takes to unpack one."""
    frames = _frames(100_000)
    each = in_turns(5, floor=timed(lambda: _unpacked(frames)))["floor"] / len(frames)
    return min(_MOST_A_SECOND, round(1 / each / _AS_MANY))


def on_the_wire(lab: Lab, which: str, rate: int, seconds: float = SECONDS) -> float:
    """The share of the talker's frames that is taken in at the desk."""
    talker = ready_talker(lab, rate, seconds)
    heard = _inside(lab, "desk", which, seconds)
    time.sleep(1.0)
    sent = talked(talker)
    return int(heard.communicate(timeout=60)[0]) / sent


def ready_talker(lab: Lab, rate: int, seconds: float) -> subprocess.Popen[str]:
    """A talker that has its frames, and sends them when ``talked`` is called."""
    talker = _inside(lab, HOST.name, "talk", seconds, rate)
    assert talker.stdout is not None
    talker.stdout.readline()
    return talker


def talked(talker: subprocess.Popen[str]) -> int:
    """Let the talker send. Returns how many frames it has sent."""
    return int(talker.communicate("go\n", timeout=60)[0])


def _inside(lab: Lab, name: str, what: str, *numbers: float) -> subprocess.Popen[str]:
    command = [sys.executable, "-m", "benchmarks.listening", what, *map(str, numbers)]
    inside = ["ip", "netns", "exec", lab.namespace(name), *command]
    return subprocess.Popen(inside, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)


def _frames(count: int) -> list[bytes]:
    """Requests of made-up adapters, all different; put together from one, for a flood has half a million."""
    maker = b"\x10\xc0\xde"
    whole = encode_request(MacAddress(maker + bytes(3)), IPv4Address(0), IPv4Address("192.0.2.1"))
    before, between, after = whole[:9], whole[12:25], whole[32:]
    return [
        b"".join((before, mac, between, mac, (0xC0000200 + number % 60000).to_bytes(4), after))
        for number in range(1, count + 1)
        for mac in (number.to_bytes(3),)
    ]


def _decoded(frames: Sequence[bytes]) -> None:
    hearing, now = Hearing(), datetime.now(UTC)
    for frame in frames:
        hearing.take(frame, now)


def _unpacked(frames: Sequence[bytes]) -> None:
    """The yardstick: the fields of an ARP packet, and who has which address."""
    fields = struct.Struct("!6s6sHHHBBH6s4s6s4s")
    found = {}
    for frame in frames:
        _, _, _, _, _, _, _, _, mac, address, _, _ = fields.unpack_from(frame)
        found[mac] = address


def _talk(seconds: float, rate: float) -> int:
    """Send at a rate, evenly; how many were sent. A machine that cannot do so many a second sends fewer."""
    os.sched_setaffinity(0, {1})
    frames = _frames(int(rate * seconds))
    print("ready", flush=True)
    sys.stdin.readline()
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0) as link:
        link.bind(("eth0", 0x0806))
        began = time.monotonic()
        for number, frame in enumerate(frames):
            while (now := time.monotonic()) < began + number / rate:
                pass
            if now > began + seconds + 1.0:
                return number
            link.send(frame)
    return len(frames)


def _hear(seconds: float) -> str:
    """What ``scopion scan --method listen`` does with frames, counted."""
    from scopion.attachment.linux.linux_attachment import LiveAttachment
    from scopion.attachment.ports import Traffic
    from scopion.discovery.listening import listen

    os.sched_setaffinity(0, {0})
    attachment = LiveAttachment()
    interface = attachment.interfaces()[0]
    link = attachment.open_link(interface, Traffic.TALK)
    heard = listen(link, attachment, seconds + 8.0)
    return f"{heard.understood}"


def _receive(seconds: float) -> str:
    """The yardstick: a bare receive loop with as large a buffer."""
    os.sched_setaffinity(0, {0})
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0806)) as link:
        link.setsockopt(socket.SOL_SOCKET, _SO_RCVBUFFORCE, _BUFFER)
        link.bind(("eth0", 0x0806))
        found, ends = 0, time.monotonic() + seconds + 8.0
        while (left := ends - time.monotonic()) > 0:
            link.settimeout(left)
            with contextlib.suppress(TimeoutError):
                found += len(link.recv(2_048)) > 0
    return f"{found}"


if __name__ == "__main__":
    roles: dict[str, Callable[..., object]] = {"talk": _talk, "hear": _hear, "receive": _receive}
    print(roles[sys.argv[1]](*map(float, sys.argv[2:])))
