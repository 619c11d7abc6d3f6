"""Scans of a /24 with sixty kernel hosts in network namespaces, cold, as whole processes; needs root and Linux."""

from __future__ import annotations

import contextlib
import os
import pty
import select
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator, Sequence
from ipaddress import IPv4Address
from pathlib import Path

from tests.lab.lab import Lab, LabHost, require_lab
from tests.lab.services import Services
from tests.support import host, made_up

from benchmarks.figure import Figure
from scopion.discovery.asking import Method, open_asker, plan_for
from scopion.discovery.runner import run_scan
from scopion.wire.arp import encode_request

NUMBERS = (1, *range(101, 160))
HOSTS = [LabHost(f"host{each}", f"10:c0:de:00:00:{each:02x}", (f"192.0.2.{each}",)) for each in NUMBERS]
TRUTH = {(address, each.mac) for each in HOSTS for address in each.addresses} | {(Lab.desk_address, Lab.desk_mac)}
RUNS = 7
PACE_SECONDS = 2.0


def measure() -> Iterator[Figure]:
    """Clean, lossy, sleepy, and the pace."""
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


def _clean(lab: Lab) -> Iterator[Figure]:
    runs = [_on_screen(lab, "--no-names") for _ in range(RUNS)]
    shown = sorted(run[0] for run in runs)[RUNS // 2]
    ended = sorted(run[1] for run in runs)[RUNS // 2]
    yield Figure("/24, 60 hosts: all on screen after interpreter start", shown, "s", 0.5, detail=f"median of {RUNS}")
    yield Figure("/24, 60 hosts: scan ended after interpreter start", ended, "s", 2.0, detail=f"median of {RUNS}")
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
            ended = sorted(_on_screen(lab)[1] for _ in range(RUNS))[RUNS // 2]
            rows = lab.scan(Path(folder) / "site")["hosts"]
        finally:
            cleaner.run()
    named = sum(row["name"] is not None for row in rows)
    yield Figure("/24, 60 hosts, with names: ended after interpreter", ended, "s", 2.5, detail=f"median of {RUNS}")
    yield Figure("/24, 60 hosts, half of them with a name: named", named / len(names) * 100, "%", 100, least=True)


class _Cleaner(unittest.TestCase):
    """Ends daemons outside of a test."""

    def run(self, result: unittest.TestResult | None = None) -> None:
        """End them."""
        self.doCleanups()


def _on_screen(lab: Lab, *arguments: str) -> tuple[float, float]:
    """One cold scan in a terminal: when the last host was on the screen, and when the process had ended."""
    bare = _bare_interpreter(lab)
    primary, secondary = pty.openpty()
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "SCOPION_SITE": folder, "COLUMNS": "140", "LINES": "90", "TERM": "xterm-256color"}
        began = time.perf_counter()
        process = subprocess.Popen(
            lab.command(["scan", *arguments]), stdin=secondary, stdout=secondary, stderr=secondary, env=environment
        )
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
    return shown - bare, ended - bare


def _bare_interpreter(lab: Lab) -> float:
    """What it takes to enter the namespace and start Python."""
    command = lab.command([])
    best = float("inf")
    for _ in range(3):
        began = time.perf_counter()
        subprocess.run([*command[:-1], sys.executable, "-c", ""], check=True)
        best = min(best, time.perf_counter() - began)
    return best


def _lossy(lab: Lab) -> Iterator[Figure]:
    found, longest = 0, 0.0
    for _ in range(10):
        with tempfile.TemporaryDirectory() as folder:
            began = time.perf_counter()
            document = lab.scan(Path(folder), "--no-names")
            longest = max(longest, time.perf_counter() - began)
            found += document["scan"]["answered"]
    yield Figure("30 % loss each way: found", found / (10 * len(HOSTS)) * 100, "%", 99.5, least=True, detail="10 scans")
    yield Figure("30 % loss each way: longest process", longest, "s", 6.0, detail="10 scans")


def _sleepy() -> Iterator[Figure]:
    hosts = [host(number, doze_s=1.0 if number % 2 else 0.0) for number in range(101, 161)]
    attachment = made_up(hosts)
    addresses = [IPv4Address(f"192.0.2.{number}") for number in range(1, 255) if number != 10]
    asker = open_asker(Method.ARP, attachment, attachment.interfaces()[0], IPv4Address("192.0.2.10"))
    result = run_scan(addresses, asker, attachment, plan_for(Method.ARP, 2000.0))
    detail = "simulated segment, every second host dozes"
    yield Figure(
        "hosts that sleep for a second: found", result.answered / 60 * 100, "%", 99.5, least=True, detail=detail
    )
    yield Figure("hosts that sleep for a second: duration", result.duration_s, "s", 6.0, detail=detail)


def _pace(lab: Lab) -> Iterator[Figure]:
    for pace in (2_000, 20_000):
        ours = min(float(_in_desk(lab, "ours", pace)) for _ in range(3))
        bare = min(float(_in_desk(lab, "bare", pace)) for _ in range(3))
        yield Figure(
            f"sending at {pace:,} a second / bare send loop",
            ours / bare,
            "x",
            1.15,
            detail=f"{ours:.3f} s, {bare:.3f} s",
        )
    count = int(20_000 * PACE_SECONDS)
    rate = count / min(float(_in_desk(lab, "ours", 20_000)) for _ in range(3))
    yield Figure("requests a second on one core, asked for 20,000", rate, "/s", 19_800, least=True)


def _in_desk(lab: Lab, which: str, pace: int) -> str:
    return lab.run("desk", [sys.executable, "-m", "benchmarks.scanning", which, str(pace)])


def _send(which: str, pace: int) -> float:
    """Inside the desk's namespace: send for some seconds at a pace; the seconds it took."""
    from scopion.attachment.linux import LiveAttachment
    from scopion.discovery.sweep import Sweep, SweepPlan

    os.sched_setaffinity(0, {0})
    attachment = LiveAttachment()
    interface = attachment.interfaces()[0]
    assert interface.mac is not None
    own = interface.addresses[0].ip
    # The addresses of the hosts' /24 over and over would be answered; these are nobody's.
    addresses: Sequence[IPv4Address] = [IPv4Address(0x0A000000 + number) for number in range(int(pace * PACE_SECONDS))]
    if which == "bare":
        return _bare_loop(interface.name, [encode_request(interface.mac, own, address) for address in addresses], pace)
    asker = open_asker(Method.ARP, attachment, interface, own)
    sweep = Sweep(addresses, SweepPlan(pace=float(pace)))
    clock = attachment.clock
    began = clock.monotonic()
    while True:
        for address in sweep.due(clock.monotonic()):
            asker.ask(address)
        if sweep.sent == len(addresses):
            return clock.monotonic() - began
        list(asker.answers(sweep.wake_at()))


def _bare_loop(name: str, frames: Sequence[bytes], pace: int) -> float:
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
