"""Listening to a flood of ARP frames, all different, in a network namespace; needs root and Linux."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from ipaddress import IPv4Address

from tests.lab.lab import Lab, LabHost, require_lab

from benchmarks.figure import Figure
from scopion.discovery.hearing import Hearing
from scopion.model.mac import MacAddress
from scopion.wire.arp import encode_request

RATE, SECONDS = 50_000, 4.0
HOST = LabHost("talker", "10:c0:de:00:00:07", ("192.0.2.7",))


def measure() -> Iterator[Figure]:
    """Decoding alone, and from the wire without loss."""
    yield Figure("frames decoded, all different", _decoded(), "/s", RATE, least=True, detail="one core")
    require_lab()
    lab = Lab([HOST])
    try:
        heard = subprocess.Popen(_inside(lab, "desk", "hear"), stdout=subprocess.PIPE, text=True)
        time.sleep(1.0)
        sent = int(lab.run(HOST.name, [sys.executable, "-m", "benchmarks.listening", "talk"]))
        out, _ = heard.communicate(timeout=60)
    finally:
        lab.close()
    frames, rate = out.split()
    share = int(frames) / sent * 100
    detail = f"{sent:,} frames at {RATE:,} a second, one core each; {float(rate):,.0f} a second taken in"
    yield Figure("a flood of ARP frames on the wire: decoded", share, "%", 100.0, least=True, detail=detail)


def _inside(lab: Lab, name: str, what: str) -> list[str]:
    return ["ip", "netns", "exec", lab.namespace(name), sys.executable, "-m", "benchmarks.listening", what]


def _frames(count: int) -> list[bytes]:
    gateway = IPv4Address("192.0.2.1")
    return [
        encode_request(
            MacAddress(b"\x10\xc0\xde" + number.to_bytes(3)), IPv4Address(0xC0000200 + number % 60000), gateway
        )
        for number in range(1, count + 1)
    ]


def _decoded() -> float:
    frames, now = _frames(100_000), datetime.now(UTC)
    best = 0.0
    for _ in range(3):
        hearing = Hearing()
        began = time.perf_counter()
        for frame in frames:
            hearing.take(frame, now)
        best = max(best, len(frames) / (time.perf_counter() - began))
    return best


def _talk(seconds: float = SECONDS) -> int:
    """Send at the rate, with the sending of a burst spread over each millisecond."""
    os.sched_setaffinity(0, {1})
    frames = _frames(int(RATE * seconds))
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0) as link:
        link.bind(("eth0", 0x0806))
        began = time.monotonic()
        for number, frame in enumerate(frames):
            while began + number / RATE > time.monotonic():
                pass
            link.send(frame)
    return len(frames)


def _hear() -> str:
    """What ``scopion scan --method listen`` does with frames, counted."""
    from scopion.attachment.linux import LiveAttachment
    from scopion.attachment.ports import Traffic
    from scopion.discovery.listening import listen

    os.sched_setaffinity(0, {0})
    attachment = LiveAttachment()
    interface = attachment.interfaces()[0]
    link = attachment.open_link(interface, Traffic.TALK)
    heard = listen(link, attachment, SECONDS + 8.0)
    return f"{heard.understood} {heard.understood / SECONDS:.0f}"


if __name__ == "__main__":
    print(_talk(*map(float, sys.argv[2:])) if sys.argv[1] == "talk" else _hear())
