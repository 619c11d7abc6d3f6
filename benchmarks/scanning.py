"""Scans of a /24 with sixty kernel hosts in network namespaces, cold, as whole processes, beside a bare scan.

Needs root and Linux.
"""

from __future__ import annotations

import contextlib
import math
import os
import pty
import select
import socket
import statistics
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator, Sequence
from functools import partial
from ipaddress import IPv4Address
from pathlib import Path

from tests.lab.lab import Lab, LabHost, require_lab
from tests.lab.services import Services
from tests.support import host, made_up

from benchmarks.bare_scan import WAIT_S
from benchmarks.figure import Figure, beside, in_turns, process
from scopion.discovery.probing import GREETING_PACE, Method, default_pace, open_prober, plan_for
from scopion.discovery.runner import Expected, Watcher, run_scan
from scopion.model.observation import Medium
from scopion.wire.arp import encode_request

NUMBERS = (1, *range(101, 160))
HOSTS = [LabHost(f"host{each}", f"10:c0:de:00:00:{each:02x}", (f"192.0.2.{each}",)) for each in NUMBERS]
TRUTH = {(address, each.mac) for each in HOSTS for address in each.addresses} | {(Lab.desk_address, Lab.desk_mac)}
RUNS = 7
PACE_SECONDS = 2.0
_BARE = "a bare scan with the same libraries"
_UNPACED = 20_000  # frames that are sent to see how many a second this machine can send at all
_PACE = 2_000  # the usual one on cable


def measure() -> Iterator[Figure]:
    """Measure a clean, a lossy and a sleepy segment, and the pace."""
    require_lab()
    lab = Lab(HOSTS)
    try:
        yield from _clean(lab)
        yield from _with_names(lab)
        yield from _pace(lab)
        for each in HOSTS:
            lab.lose(each.name, 30, outgoing=True)
        yield from _lossy(lab)
    finally:
        lab.close()
    yield from _sleepy()
    yield from _known_first()


def _clean(lab: Lab) -> Iterator[Figure]:
    ours, floor = _beside_bare(lab, "--no-names")
    yield beside("/24, 60 hosts: all on screen", ours[0], floor[0], 4, what=_BARE)
    yield beside("/24, 60 hosts: scan ended", ours[1], floor[1], 2, what=_BARE)
    with tempfile.TemporaryDirectory() as folder:
        rows = lab.scan(Path(folder))["hosts"]
    right = {(row["address"], row["mac"]) for row in rows} == TRUTH
    yield Figure("/24, 60 hosts: every MAC right", float(right), "", 1, least=True)


def _with_names(lab: Lab) -> Iterator[Figure]:
    """Half of the hosts have a name with the gateway's name server, the others none anywhere."""
    with tempfile.TemporaryDirectory() as folder:
        cleaner = _Cleaner()
        names = [
            f"--host-record=host{number}.kilnhaven.example,192.0.2.{number}" for number in NUMBERS if number % 2 == 0
        ]
        Services(lab, Path(folder), cleaner).dnsmasq("host1", "--interface=eth0", "--bind-interfaces", *names)
        try:
            time.sleep(0.5)
            ours, floor = _beside_bare(lab)
            rows = lab.scan(Path(folder) / "site")["hosts"]
        finally:
            cleaner.run()
    named = sum(row["name"] is not None for row in rows)
    yield beside("/24, 60 hosts, with names: scan ended", ours[1], floor[1], 2, what=_BARE)
    yield Figure("/24, 60 hosts, half of them with a name: named", named / len(names) * 100, "%", 100, least=True)


class _Cleaner(unittest.TestCase):
    """Ends daemons outside of a test."""

    def run(self, result: unittest.TestResult | None = None) -> None:
        """End the processes."""
        self.doCleanups()


Moments = tuple[float, float]


def _beside_bare(lab: Lab, *arguments: str) -> tuple[Moments, Moments]:
    """The medians of ours and of the bare scan, in turns: when the last host was on the screen, and the end."""
    ours, bare = list[Moments](), list[Moments]()
    for _ in range(RUNS):
        ours.append(_on_screen(lab.command(["scan", *arguments])))
        bare.append(_on_screen(bare_scan(lab, "libraries")))
    shown, ended = zip(*ours, strict=True)
    bare_shown, bare_ended = zip(*bare, strict=True)
    median = statistics.median
    return (median(shown), median(ended)), (median(bare_shown), median(bare_ended))


def bare_scan(lab: Lab, *more: str) -> list[str]:
    """The command of a bare scan at the desk, at the pace that a scan has there."""
    return [*lab.command([])[:-1], sys.executable, "-m", "benchmarks.bare_scan", str(_PACE), *more]


def _on_screen(command: Sequence[str]) -> Moments:
    """One cold scan in a terminal: when the last host was on the screen, and when the process had ended."""
    primary, secondary = pty.openpty()
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "SCOPION_SITE": folder, "COLUMNS": "140", "LINES": "90", "TERM": "xterm-256color"}
        began = time.perf_counter()
        process = subprocess.Popen(command, stdin=secondary, stdout=secondary, stderr=secondary, env=environment)
        os.close(secondary)
        wanted = {address.encode() for each in HOSTS for address in each.addresses}
        seen, shown = b"", 0.0
        while True:
            with contextlib.suppress(OSError):  # the terminal ends with the process
                part = os.read(primary, 65536) if select.select([primary], [], [], 10)[0] else b""
                if part:
                    seen += part
                    if not shown and all(address in seen for address in wanted):
                        shown = time.perf_counter() - began
                    continue
            break
        process.wait(10)
        ended = time.perf_counter() - began
    os.close(primary)
    return shown, ended


def _lossy(lab: Lab) -> Iterator[Figure]:
    found, longest, bare = 0, 0.0, list[float]()
    for _ in range(10):
        with tempfile.TemporaryDirectory() as folder:
            began = time.perf_counter()
            document = lab.scan(Path(folder), "--no-names")
            longest = max(longest, time.perf_counter() - began)
            found += document["scan"]["answered"]
            bare.append(process(*bare_scan(lab, "libraries"))())
    yield Figure("30 % loss each way: found", found / (10 * len(HOSTS)) * 100, "%", 99.5, least=True, detail="10 scans")
    floor = statistics.median(bare)
    what = f"{_BARE}, which asks once"
    yield beside("30 % loss each way: longest of ten scans", longest, floor, 4.5, what=what)


def _sleepy() -> Iterator[Figure]:
    hosts = [host(number, doze_s=1.0 if number % 2 else 0.0) for number in range(101, 161)]
    attachment = made_up(hosts)
    addresses = [IPv4Address(f"192.0.2.{number}") for number in range(1, 255) if number != 10]
    prober = open_prober(Method.ARP, attachment, attachment.interfaces()[0], IPv4Address("192.0.2.10"))
    result = run_scan(addresses, prober, attachment, plan_for(Method.ARP, 2000.0))
    detail = "simulated segment, every second host dozes"
    yield Figure(
        "hosts that sleep for a second: found", result.answered / 60 * 100, "%", 99.5, least=True, detail=detail
    )
    simulated = result.duration_s  # on the scene's own clock: no machine makes it longer
    floor = len(addresses) / 2000.0 + WAIT_S
    yield beside("hosts that sleep for a second: duration", simulated, floor, 3, what="one request each and the wait")


def _known_first() -> Iterator[Figure]:
    """On 2.4 GHz, where a round of broadcasts takes almost three seconds: until the last known device is told."""
    hosts = [host(number, rtt_s=0.02) for number in range(1, 251) if number != 10]
    attachment = made_up(hosts, Medium.WIRELESS)
    interface, clock = attachment.interfaces()[0], attachment.clock
    prober = open_prober(Method.ARP, attachment, interface, IPv4Address("192.0.2.10"))
    expected: Expected = {each.periods[0].address: [each.mac] for each in hosts}
    told: list[float] = []
    began, pace = clock.monotonic(), default_pace(interface)
    watcher = Watcher(lambda _: told.append(clock.monotonic() - began))
    addresses = [IPv4Address(f"192.0.2.{number}") for number in range(1, 255) if number != 10]
    run_scan(addresses, prober, attachment, plan_for(Method.ARP, pace), expected, watcher, greeting_pace=GREETING_PACE)
    what, more = "half a second", f"{len(hosts)} devices; their broadcasts alone: {len(hosts) / pace:.2g} s"
    yield beside(
        "known devices on 2.4 GHz (simulated): all told", max(told[: len(hosts)]), 0.5, 1, what=what, more=more
    )


def _pace(lab: Lab) -> Iterator[Figure]:
    """The usual pace, and half of what a bare loop can send here, but not more than 20,000 a second."""
    most = statistics.median(_UNPACED / _in_desk(lab, "unpaced", _UNPACED) for _ in range(5))
    for pace in (2_000, min(20_000, round(most / 2))):
        taken = in_turns(5, ours=partial(_in_desk, lab, "ours", pace), floor=partial(_in_desk, lab, "bare", pace))
        yield beside(f"sending at {pace:,} a second", taken["ours"], taken["floor"], 1.15, what="a bare send loop")


def _in_desk(lab: Lab, which: str, pace: int) -> float:
    return float(lab.run("desk", [sys.executable, "-m", "benchmarks.scanning", which, str(pace)]))


def _send(which: str, pace: int) -> float:
    """Inside the desk's namespace: send for some seconds at a pace; the seconds it took."""
    from scopion.attachment.linux.linux_attachment import LiveAttachment
    from scopion.discovery.sweep import Sweep, SweepPlan

    os.sched_setaffinity(0, {0})
    attachment = LiveAttachment()
    interface = attachment.interfaces()[0]
    assert interface.mac is not None
    own = interface.addresses[0].ip
    # The addresses of the hosts' /24 over and over would be answered; these have no host.
    count = _UNPACED if which == "unpaced" else int(pace * PACE_SECONDS)
    addresses: Sequence[IPv4Address] = [IPv4Address(0x0A000000 + number) for number in range(count)]
    if which != "ours":
        frames = [encode_request(interface.mac, own, address) for address in addresses]
        return _bare_loop(interface.name, frames, math.inf if which == "unpaced" else pace)
    prober = open_prober(Method.ARP, attachment, interface, own)
    sweep = Sweep(addresses, SweepPlan(pace=float(pace)))
    clock = attachment.clock
    began = clock.monotonic()
    while True:
        for address in sweep.due(clock.monotonic()):
            prober.ask(address)
        if sweep.sent == len(addresses):
            return clock.monotonic() - began
        list(prober.answers(sweep.wake_at()))


def _bare_loop(name: str, frames: Sequence[bytes], pace: float) -> float:
    """The yardstick: frames that are ready, a socket, and a clock."""
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0) as link:
        link.bind((name, 0x0806))
        began = time.monotonic()
        for number, frame in enumerate(frames):
            wait = began + number / pace - time.monotonic()
            if wait > 0.001:
                time.sleep(wait)
            link.send(frame)
        return time.monotonic() - began


if __name__ == "__main__":
    print(_send(sys.argv[1], int(sys.argv[2])))
