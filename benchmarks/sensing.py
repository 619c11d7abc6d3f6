"""Many places, one roster: 25,000 devices from 100 sensors folded on one core, a day of backlog, and what lists cost.

Beside one place with as many devices, and beside a bare program that reads the same documents from the same broker.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

from benchmarks.figure import Figure, in_turns, process, resident_at_most
from benchmarks.many_places import (
    BOOTED_BEFORE_S,
    DEVICES,
    MINUTE,
    SENSORS,
    days_without_a_line,
    mac_of,
    minute,
    settings,
)
from benchmarks.starting import PROGRAM
from scopion.model.batch import SensorClocks
from scopion.model.observation import Observation, Source
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.sensors.fold_batch import fold_batch
from scopion.operations.site.open_site import Site
from scopion.roster.folding.fold_observations import fold
from scopion.watching.watch_memory import WatchMemory
from scopion.wire.sensor_documents import batch_from_json

_MINUTES, _RUNS = 5, 5
_ALL = SENSORS * DEVICES


def measure() -> Iterator[Figure]:
    """Measure in processes of their own, so that nothing else counts."""
    with tempfile.TemporaryDirectory(prefix="scopion-bench-") as name:
        folder = Path(name)
        (folder / "many").mkdir()
        (folder / "many" / "site.toml").write_text(settings(), encoding="utf-8")
        share, megabytes, octets = _in_a_process("minutes", folder / "many")
        said = f"{octets / SENSORS / 1000:.1f} kB a sensor"
        yield Figure("100 sensors: each minute folded, of a core", share * 100, "%", 50, detail=said)
        yield Figure("100 sensors: resident at most", megabytes, "MB", 400, detail=f"{_ALL:,} devices")
        (folder / "day").mkdir()
        (folder / "day" / "site.toml").write_text(settings(), encoding="utf-8")
        seconds, made, octets = _in_a_process("day", folder / "day")
        said = f"{made:,.0f} batches, {octets / 1e6:.1f} MB"
        yield Figure("100 sensors: a day without a line, folded", seconds, "s", 300, detail=said)
        yield from _listed(folder, share * 60)


def _listed(folder: Path, sweep_s: float) -> Iterator[Figure]:
    """Compare what a sweep and lists cost with one place that has as many devices."""
    one = folder / "one"
    one.mkdir()
    (one / "site.toml").write_text('name = "one"\n', encoding="utf-8")
    (one_s,) = _in_a_process("one", one)
    detail = f"{sweep_s / _ALL * 1e6:.0f} us a device; one place: {one_s / _ALL * 1e6:.0f} us"
    # Batches are also read and judged: what was asked in vain, and two devices of each place that come or go.
    yield Figure("a sweep of 25,000 devices folded, 100 places / one", sweep_s / one_s, "x", 3, detail=detail)
    for what, arguments in (
        ("devices", ("devices", "--format", "json")),
        ("report", ("report", "--html", str(folder / "page.html"))),
    ):
        taken = in_turns(
            _RUNS if what != "report" else 3,
            many=process(PROGRAM, "--site", str(folder / "many"), *arguments),
            one=process(PROGRAM, "--site", str(one), *arguments),
        )
        detail = f"{taken['many']:.2f} s; one place: {taken['one']:.2f} s"
        ratio = taken["many"] / taken["one"]
        yield Figure(f"{what}: 25,000 devices in 100 places / in one", ratio, "x", 1.5, detail=detail)


def _in_a_process(what: str, folder: Path) -> list[float]:
    command = [sys.executable, "-m", "benchmarks.sensing", what, str(folder)]
    return [float(each) for each in subprocess.run(command, capture_output=True, text=True, check=True).stdout.split()]


def _opened(folder: Path) -> Site:
    site = Site(folder)
    site.watch_state = WatchMemory(FloodGuard())
    return site


def _minutes(folder: Path) -> str:
    """Fold the minutes of all sensors; in each, two devices of each place come or go."""
    began = datetime.now(UTC) - (_MINUTES + 3) * MINUTE
    octets, used = 0, 0.0
    with closing(_opened(folder)) as site:
        for number in range(1, _MINUTES + 3):
            at = began + number * MINUTE
            clocks = SensorClocks(at, "boot", BOOTED_BEFORE_S + number * 60.0)
            away = {2 * number, 2 * number + 1}
            batches = [
                minute(sensor, number, clocks, [each for each in range(DEVICES) if each not in away])
                for sensor in range(SENSORS)
            ]
            octets = sum(map(len, batches))
            before = time.process_time()
            for batch in batches:
                fold_batch(site, batch_from_json(batch))
            if number > 2:  # in the first, all devices join
                used += time.process_time() - before
    return f"{used / _MINUTES / 60} {resident_at_most()} {octets}"


def _day(folder: Path) -> str:
    began = datetime.now(UTC) - timedelta(days=1, minutes=5)
    backlog = list(days_without_a_line(began))
    made, octets = sum(len(each) for _, each in backlog), sum(len(each) for _, some in backlog for each in some)
    with closing(_opened(folder)) as site:
        before = time.perf_counter()
        for _, batches in backlog:
            for batch in batches:
                fold_batch(site, batch_from_json(batch))
        return f"{time.perf_counter() - before} {made} {octets}"


def _one(folder: Path) -> str:
    """Make a roster of one place with as many devices, and sweep it; the seconds of a later sweep."""
    from ipaddress import IPv4Address

    now = datetime.now(UTC)
    with closing(_opened(folder)) as site:
        seen = [
            Observation(mac_of(sensor, device), IPv4Address(0x0A000000 + number), now, Source.ARP)
            for number, (sensor, device) in enumerate((s, d) for s in range(SENSORS) for d in range(DEVICES))
        ]
        fold(site.roster, seen, (), now)
        later = [replace(each, at=each.at + MINUTE) for each in seen]
        before = time.process_time()
        fold(site.roster, later, (), now + MINUTE)
        return str(time.process_time() - before)


if __name__ == "__main__":
    print({"minutes": _minutes, "day": _day, "one": _one}[sys.argv[1]](Path(sys.argv[2])))
