"""The roster at size: folding, ten thousand devices, a million events, and a year of a site with 250 devices.

Beside each what ``sqlite3`` alone takes for the same rows (``bare_rows.py``).
"""

from __future__ import annotations

import random
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from functools import cache, partial
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path

from benchmarks import bare_rows
from benchmarks.figure import Figure, beside, in_turns, process
from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, Trait, TraitKind
from scopion.model.targets import Targets
from scopion.roster.folding.fold_observations import fold
from scopion.roster.read_events import EventFilter, find_events
from scopion.roster.scans import begin_scan, end_scan
from scopion.roster.store.open_roster import FILE, Roster
from scopion.roster.store.stored_values import to_ms
from scopion.roster.upkeep.remove_old import Keep, remove_old

START = datetime(2026, 1, 1, tzinfo=UTC)
MINUTE = timedelta(minutes=1)
RUNS = 25
_KEEP = Keep(scans=14, events=1100, stays=1100, traits=400, changes=400)
_ALL_AT = (0, 360, 720, 1_080)  # the minutes of a day at which everybody is folded
DEVICES_OF_A_YEAR, DAYS_OF_A_YEAR = 250, 365


def measure() -> Iterator[Figure]:
    """Measure in folders of their own."""
    with tempfile.TemporaryDirectory(prefix="scopion-bench-") as folder:
        yield from _folding(Path(folder))
        yield from _many_devices(Path(folder) / "many")
        yield from _many_events(Path(folder) / "events")
        yield from _year(Path(folder) / "year")


def command_beside(
    name: str, site: Path, arguments: Sequence[str], bare: Sequence[str], hold: float, *, runs: int = RUNS
) -> Figure:
    """A command beside the bare reading of the same rows: whole processes, less what each takes for one device."""
    with one_device() as one:
        taken = in_turns(
            runs,
            start=_command(one, arguments),
            ours=_command(site, arguments),
            floor=_bare(site, bare),
            bare_start=_bare(one, bare),
        )
    ours, floor = taken["ours"] - taken["start"], taken["floor"] - taken["bare_start"]
    return beside(name, ours, floor, hold, what="bare rows", more=f"each after its start; ours: {taken['start']:.2g} s")


@contextmanager
def one_device() -> Iterator[Path]:
    """The folder of a site that knows one device: what a command takes there is its start."""
    with tempfile.TemporaryDirectory(prefix="scopion-bench-") as folder:
        roster = Roster.open(Path(folder))
        fold(roster, [seen(0, START)], (), START, silent=True)
        roster.close()
        yield Path(folder)


def _command(site: Path, arguments: Sequence[str]) -> Callable[[], float]:
    return process(sys.executable, "-m", "scopion", "--site", str(site), *arguments)


def _bare(site: Path, arguments: Sequence[str]) -> Callable[[], float]:
    return process(sys.executable, "-m", "benchmarks.bare_rows", arguments[0], str(site / FILE), *arguments[1:])


def seen(number: int, at: datetime, address: int | None = None) -> Observation:
    """Return an observation of a device by its number, at its address."""
    place = IPv4Address(0x0A000000 + (number if address is None else address) + 1)
    mac = MacAddress(b"\x10\xc0" + number.to_bytes(4))
    return Observation(mac, place, at, Source.ARP)


def _folding(folder: Path) -> Iterator[Figure]:
    """Fold: each device is seen again and again, some move, some are new; in scans of 250, then in one of 10,000."""
    for size, rounds in ((250, 40), (10_000, 2)):
        once = partial(_folded, folder, size, rounds)
        taken = in_turns(5, ours=partial(once, bare=False), floor=partial(once, bare=True))
        each = {name: seconds * 1e6 for name, seconds in taken.items()}
        more = f"{1 / taken['ours']:,.0f} a second"
        name = f"folding, scans of {size:,}"
        yield beside(name, each["ours"], each["floor"], 6, what="bare rows", unit="us each", more=more)


def _folded(folder: Path, size: int, rounds: int, *, bare: bool) -> float:
    """Return the seconds for one observation."""
    with tempfile.TemporaryDirectory(dir=folder) as place:
        roster = Roster.open(Path(place))
        db = bare_rows.opened(str(Path(place) / FILE))
        chance, at, seconds = random.Random(1), START, 0.0
        for _ in range(rounds):
            at += MINUTE
            group = [seen(n, at, n if chance.random() > 0.02 else n + 20_000) for n in range(size)]
            began = time.perf_counter()
            if bare:
                bare_rows.fold(db, ((str(each.mac), str(each.address), to_ms(each.at)) for each in group))
            else:
                fold(roster, group, {each.address for each in group if each.address}, at)
            seconds += time.perf_counter() - began
        db.close()
        roster.close()
    return seconds / rounds / size


def _many_devices(folder: Path) -> Iterator[Figure]:
    """``scopion devices`` on ten thousand, with names, in the form that a pipe gets and as a table."""
    roster = Roster.open(folder)
    names = [(Trait(TraitKind.NAME, f"host-{number}", Source.DNS),) for number in range(10_000)]
    group = [
        Observation(each.mac, each.address, each.at, Source.ARP, traits=names[number])
        for number, each in enumerate(seen(n, START + MINUTE * n) for n in range(10_000))
    ]
    fold(roster, group, (), START, silent=True)
    fold(roster, [seen(n, START + MINUTE * (n + 10_007)) for n in range(10_000)], (), START, silent=True)
    roster.close()
    for form in ("table", "tsv"):
        name = f"devices --format {form}, 10,000 of them"
        yield command_beside(name, folder, ("devices", "--format", form), ("devices",), 3)


def _many_events(folder: Path) -> Iterator[Figure]:
    """``events --since`` on a million of them."""
    roster = Roster.open(folder)
    fold(roster, [seen(n, START) for n in range(250)], (), START)
    with roster.transaction() as db:
        macs = [(row["mac"], row["device"]) for row in db.execute("SELECT mac, device FROM adapter")]
        db.executemany(
            "INSERT INTO event (at, kind, device, mac, address) VALUES (?, ?, ?, ?, ?)",
            (
                (
                    to_ms(START) + n * 30_000,
                    "left" if n % 2 else "returned",
                    macs[n % 250][1],
                    macs[n % 250][0],
                    "10.0.0.1",
                )
                for n in range(1_000_000)
            ),
        )
    last = find_events(roster, EventFilter(), 1)[0].at
    roster.close()
    since = last - timedelta(days=4)
    arguments = ("events", "--since", since.strftime("%Y-%m-%dT%H:%M:%SZ"), "--format", "tsv")
    yield command_beside("events --since, of a million", folder, arguments, ("events", str(to_ms(since))), 4)


def _year(folder: Path) -> Iterator[Figure]:
    """The size of a year's roster, and ``devices`` after it."""
    detail = copy_year(folder)
    db = bare_rows.opened(str(folder / FILE))
    bare_rows.copied(db, str(folder / "bare.sqlite"))
    db.close()
    ours, floor = ((folder / name).stat().st_size / 1e6 for name in (FILE, "bare.sqlite"))
    name = "a year of 250 devices, swept every minute: the roster"
    yield beside(name, ours, floor, 4, what="its stays and events as bare rows", unit="MB", more=detail)
    yield command_beside("devices after that year", folder, ("devices", "--format", "table"), ("devices",), 1)


def copy_year(folder: Path) -> str:
    """Put a year of a site into a folder; it is made once for all that measure it. Returns what it holds."""
    made, detail = _made_year()
    shutil.copytree(made.name, folder)
    return detail


@cache
def _made_year() -> tuple[tempfile.TemporaryDirectory[str], str]:
    folder = tempfile.TemporaryDirectory(prefix="scopion-bench-")  # it is removed when the process ends
    return folder, _make_year(Path(folder.name))


def _make_year(folder: Path) -> str:
    """A site that is swept each minute: 60 devices are always here, the others come in the morning and leave.

    What a sweep only confirms makes the open stays longer, in their place: it is folded four times a day, what changes
    whenever it does. The scans are all recorded, and removed by the usual retention each day. Returns what it holds.
    """
    roster = Roster.open(folder)
    chance = random.Random(7)
    always = set(range(60))
    began = time.perf_counter()
    for day in range(DAYS_OF_A_YEAR):
        _day(roster, START + timedelta(days=day), always, chance, weekend=day % 7 > 4)
        remove_old(roster, _KEEP, START + timedelta(days=day + 1))
    seconds = time.perf_counter() - began
    stays, events = (roster.db.execute(f"SELECT count(*) FROM {name}").fetchone()[0] for name in ("stay", "event"))
    roster.close()
    return f"{stays:,} stays, {events:,} events, {seconds:.0f} s of folding"


def _day(roster: Roster, day: datetime, always: set[int], chance: random.Random, *, weekend: bool) -> None:
    """Each device that is not always here comes once or twice on a working day, some at another address."""
    times: dict[int, list[tuple[int, int, int]]] = {}  # by device: from and to minute, and its address
    for number in range(60, DEVICES_OF_A_YEAR):
        for _ in range(1 + (chance.random() < 0.5)) if chance.random() < (0.1 if weekend else 0.85) else ():
            begin = chance.randrange(6 * 60, 20 * 60)
            address = number if chance.random() < 0.9 else number + 300
            end = min(begin + chance.randrange(20, 400), 1_430)
            times.setdefault(number, []).append((begin // 10 * 10, end // 10 * 10 + 10, address))
    starts = {(begin, number, address) for number, spans in times.items() for begin, _, address in spans}
    ends = {(end, number, address) for number, spans in times.items() for _, end, address in spans}
    minutes = sorted({minute for minute, _, _ in starts | ends} | set(_ALL_AT))
    here: dict[int, int] = {number: number for number in always}
    targets, subnet = Targets.parse(["10.0.0.0/22"]), IPv4Network("10.0.0.0/22")
    with roster.transaction() as db:
        db.executemany(
            "INSERT INTO scan (targets, subnet, interface, method, started, ended, asked, answered, rounds, outcome) "
            "VALUES ('10.0.0.0/22', '10.0.0.0/22', 'eth0', 'arp', ?, ?, 1022, 200, 1, 'complete')",
            [(to_ms(day + MINUTE * n), to_ms(day + MINUTE * n) + 1_500) for n in range(1_439)],
        )
    for minute in minutes:
        at = day + MINUTE * minute
        gone: set[Address] = set()
        for when, number, address in ends:
            if when == minute and here.get(number) == address:
                del here[number]
                gone.add(IPv4Address(0x0A000000 + address + 1))
        come = {number: address for when, number, address in starts if when == minute}
        here.update(come)
        group = [seen(number, at, address) for number, address in (here if minute in _ALL_AT else come).items()]
        fold(roster, group, gone, at)
    scan = begin_scan(roster, targets, subnet, "eth0", "arp", day + MINUTE * 1_439)
    end_scan(roster, scan, day + MINUTE * 1_439, asked=1_022, answered=len(here), rounds=1, completed=True)
