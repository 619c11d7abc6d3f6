"""The RADIUS server: questions a second beside an echo server of its codec, how long each waits, and a crowd.

The server is a process as it is at a site, with the priority that its service gives it and 250 entries on its list;
questions come over this machine's loopback.
"""

from __future__ import annotations

import os
import select
import signal
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

from benchmarks.bare_radius import SECRET
from benchmarks.figure import Figure, beside, in_turns, run
from benchmarks.starting import PROGRAM
from scopion.model.mac import MacAddress, Notation
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.roster.wifi.lists import ListMode
from scopion.wire.radius import Code, encode_request
from scopion.wireless.enforcers.enforcer import Held
from scopion.wireless.radius.published import PublishedList, fixed_policy, published_text

SSID, PORT, FLOOR_PORT = "Kilnhaven", 21812, 21899
QUESTIONS, CROWD, RUNS = 5_000, 500, 9
_AT_ONCE = 64  # questions on their way, as several access points have them
_PACE_S, _WAITS = 0.005, 2_000
_PRIORITY = ("nice", "-n", "-5")
_SETTINGS = f"""
[[enforcer]]
name = "shop"
type = "radius"
network = "{SSID}"
listen = "127.0.0.1"
port = {PORT}
accounting_port = {PORT + 1}
access_point = [{{ name = "counter", address = "127.0.0.1", secret = "file:secret" }}]
"""
MACS = [MacAddress(bytes.fromhex("10c0de") + number.to_bytes(3)) for number in range(250)]


def measure() -> Iterator[Figure]:
    """Measure in a folder of its own."""
    with tempfile.TemporaryDirectory(prefix="scopion-bench-") as name, ExitStack() as running:
        folder = Path(name)
        running.enter_context(_serving(folder / "served"))
        running.enter_context(_process(*_PRIORITY, sys.executable, "-m", "benchmarks.bare_radius", str(FLOOR_PORT)))
        questions = [_question(number) for number in range(QUESTIONS)]
        for port in (PORT, FLOOR_PORT):
            _asked(port, questions[:300])
        taken = in_turns(RUNS, ours=partial(_asked, PORT, questions), floor=partial(_asked, FLOOR_PORT, questions))
        yield beside("RADIUS: 5,000 questions, 250 entries", taken["ours"], taken["floor"], 2, what="the codec's echo")
        yield Figure("RADIUS: answers a second, on one core", QUESTIONS / taken["ours"], "/s", 5_000, least=True)
        crowd = [_question(number) for number in range(CROWD)]
        yield Figure("RADIUS: 500 stations at once, until the last is answered", _burst(crowd), "s", 1)
        with _busy(folder / "site"), _as_another_machine():
            waits = _waits([_question(number) for number in range(_WAITS)])
        detail = f"median {statistics.median(waits) * 1e3:.2f} ms, longest {max(waits) * 1e3:.0f} ms"
        yield Figure(
            "RADIUS: 99 of 100 waits, beside scans and reports",
            statistics.quantiles(waits, n=100)[98] * 1e3,
            "ms",
            20,
            detail=detail,
        )


@contextmanager
def _serving(folder: Path) -> Iterator[None]:
    folder.mkdir()
    (folder / "site.toml").write_text(_SETTINGS, encoding="utf-8")
    (folder / "secret").write_text(SECRET, encoding="utf-8")
    (folder / "secret").chmod(0o600)
    files = RadiusFiles(folder)
    held = Held(allow=frozenset(MACS), mode=ListMode.ALLOW)
    files.write(files.list_of(SSID), published_text(PublishedList(fixed_policy(SSID, held), datetime.now(UTC))))
    with _process(*_PRIORITY, PROGRAM, "--site", str(folder), "wifi", "radius", "serve"):
        yield


@contextmanager
def _process(*command: str) -> Iterator[None]:
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        time.sleep(3)
        yield
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait()


@contextmanager
def _busy(site: Path) -> Iterator[None]:
    """Scan and report on the made-up site, again and again, in two processes."""
    run((PROGRAM, "demo", "--begin", str(site)))
    environment = {**os.environ, "SCOPION_SITE": str(site)}
    both = [
        subprocess.Popen(
            ["sh", "-c", f"while {PROGRAM} {command} >{os.devnull} 2>&1; do :; done"],
            env=environment,
            start_new_session=True,
        )
        for command in ("scan", f"report --html {site}/page.html")
    ]
    try:
        time.sleep(1)
        yield
    finally:
        for each in both:
            os.killpg(each.pid, signal.SIGTERM)
            each.wait()


@contextmanager
def _as_another_machine() -> Iterator[None]:
    """An access point does not wait for this machine's processor; without privilege it does here."""
    before = os.getpriority(os.PRIO_PROCESS, 0)
    with suppress(PermissionError):
        os.setpriority(os.PRIO_PROCESS, 0, -15)
    try:
        yield
    finally:
        os.setpriority(os.PRIO_PROCESS, 0, before)


def _question(number: int) -> bytes:
    mac = MACS[number % len(MACS)]
    written = mac.written(Notation.BARE)
    return encode_request(
        Code.ACCESS_REQUEST,
        SECRET.encode(),
        {
            "User-Name": written,
            "Calling-Station-Id": mac.written(Notation.HYPHEN),
            "Called-Station-Id": f"02-00-00-00-00-01:{SSID}",
            "NAS-Identifier": "counter.kilnhaven.example",
        },
        identifier=number % 256,
        password=written,
    ).octets


def _sockets(port: int) -> list[socket.socket]:
    """Several, because an access point has only 256 identifiers for each port that it asks from."""
    found = []
    for _ in range(4):
        used = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        used.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 << 20)
        used.connect(("127.0.0.1", port))
        found.append(used)
    return found


def _asked(port: int, questions: list[bytes], at_once: int = _AT_ONCE) -> float:
    """Return the seconds until all are answered, so many on their way at a time."""
    sockets = _sockets(port)
    began, sent, answered = time.perf_counter(), 0, 0
    while answered < len(questions):
        while sent < len(questions) and sent - answered < at_once:
            sockets[sent % 4].send(questions[sent])
            sent += 1
        ready, _, _ = select.select(sockets, [], [], 5)
        if not ready:
            raise RuntimeError(f"{len(questions) - answered} of {len(questions)} questions were not answered")
        for each in ready:
            each.recv(4_097)
            answered += 1
    taken = time.perf_counter() - began
    for each in sockets:
        each.close()
    return taken


def _burst(questions: list[bytes]) -> float:
    return _asked(PORT, questions, len(questions))


def _waits(questions: list[bytes]) -> list[float]:
    """Return the seconds that each question waits for its answer, at two hundred a second."""
    (used, *others) = _sockets(PORT)
    waits, due = [], time.perf_counter()
    for question in questions:
        due += _PACE_S
        time.sleep(max(0.0, due - time.perf_counter()))
        began = time.perf_counter()
        used.send(question)
        used.recv(4_097)
        waits.append(time.perf_counter() - began)
    for each in (used, *others):
        each.close()
    return waits
