"""Switches and the use of the line: what reading a large switch takes, and a year of counts to keep and to show."""

from __future__ import annotations

import multiprocessing
import random
import shutil
import sys
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

from pyasn1.codec.ber import decoder  # type: ignore[import-untyped]
from tests.wires.fake_agent import BRIDGE, V2, FakeAgent, ports

from benchmarks.figure import Figure, beside, in_turns, process
from scopion.attachment.connect.snmp_session import SnmpSession, run_within
from scopion.attachment.connect.snmp_switch import read_switch
from scopion.attachment.ports import SnmpAccess, SwitchAccess
from scopion.model.usage import UsageSource
from scopion.model.wires import Port
from scopion.roster.store.open_roster import FILE, Roster
from scopion.roster.store.stored_values import to_ms
from scopion.roster.usage.history import KEPT
from scopion.roster.wires.switches import KnownPort, note_ports, note_switch

PORTS, ADAPTERS = 48, 500
DEVICES = 250
RUNS = 9
_VLAN_FDB = (*BRIDGE, 7, 1, 2, 2, 1, 2)


def measure() -> Iterator[Figure]:
    """Measure on loopback and in folders of their own."""
    yield from _reading()
    with tempfile.TemporaryDirectory(prefix="scopion-bench-") as folder:
        yield from _year(Path(folder))


def _table() -> dict[tuple[int, ...], Any]:
    chance = random.Random(1)
    table = ports(PORTS)
    for number in range(ADAPTERS):
        mac = tuple(chance.randbytes(6))
        table[*_VLAN_FDB, 1, mac[0] & 254, *mac[1:]] = V2.Integer(number % PORTS + 1)
    table[*BRIDGE, 1, 2, 0] = V2.Integer(PORTS)  # dot1dBaseNumPorts
    table[*BRIDGE, 7, 1, 4, 2, 1, 3, 0, 10] = V2.Integer(1)  # dot1qVlanFdbId
    table[*BRIDGE, 7, 1, 2, 1, 1, 2, 1] = V2.Counter32(ADAPTERS)  # dot1qFdbDynamicCount
    for number in range(1, PORTS + 1):
        for column, value in ((1, f"gi{number}"), (18, f"desk {number}")):
            table[1, 3, 6, 1, 2, 1, 31, 1, 1, 1, column, number] = V2.OctetString(value)
        for column in (6, 10):
            table[1, 3, 6, 1, 2, 1, 31, 1, 1, 1, column, number] = V2.Counter64(number * 10**12)
        table[1, 3, 6, 1, 2, 1, 31, 1, 1, 1, 15, number] = V2.Gauge32(1000)
    return table


def _serve(told: Any) -> None:
    agent = FakeAgent(_table(), values=320)
    told.send(agent.port)
    told.recv()


def _reading() -> Iterator[Figure]:
    """Read a switch whose agent is a process of its own; the floor is the library that decodes the same answers."""
    here, there = multiprocessing.Pipe()
    agent = multiprocessing.Process(target=_serve, args=(there,), daemon=True)
    agent.start()
    access = SwitchAccess("bench", SnmpAccess(IPv4Address("127.0.0.1"), here.recv(), "2c", "x"))
    requests: list[int] = []
    left = SnmpSession.__aexit__

    async def leave(self: SnmpSession, *what: object) -> None:
        requests.append(self.requests)
        await left(self, *what)

    SnmpSession.__aexit__ = leave  # type: ignore[method-assign]
    answers: list[bytes] = []

    def ours() -> float:
        began = time.process_time()
        found = read_switch(access)
        assert (len(found.ports), len(found.learned)) == (PORTS, ADAPTERS)
        return time.process_time() - began

    def floor() -> float:
        began = time.process_time()
        for each in answers:
            decoder.decode(each, asn1Spec=V2.Message())
        return time.process_time() - began

    async def one() -> None:
        async with SnmpSession(access.snmp) as session:
            await session.values([(1, 3, 6, 1, 2, 1, 1, 5, 0)])

    def conversation() -> float:
        began = time.process_time()
        run_within(5, one)
        return time.process_time() - began

    answers += _recorded(access)
    questions = max(requests)
    taken = in_turns(RUNS, ours=ours, floor=floor, conversation=conversation)
    here.send("end")
    agent.join(5)
    rows = PORTS + ADAPTERS
    yield Figure(f"requests for {PORTS} ports and {ADAPTERS} adapters", questions, "", 12)
    once = taken["conversation"]
    detail = f"{rows} rows of eleven columns or one; beside that a conversation takes {once:.2f} s once"
    per_second = rows / (taken["ours"] - once)
    yield Figure("rows of a switch's tables a second, on one core", per_second, "", 2_000, least=True, detail=detail)
    yield beside("reading that switch", taken["ours"], taken["floor"], 3, what="its answers decoded by the library")


def _recorded(access: SwitchAccess) -> list[bytes]:
    """Return the answers of one reading, as they came."""
    from pysnmp.carrier.asyncio.dgram.base import DgramAsyncioProtocol

    kept: list[bytes] = []
    received = DgramAsyncioProtocol.datagram_received

    def keep(self: Any, datagram: bytes, address: Any) -> None:
        kept.append(datagram)
        received(self, datagram, address)

    DgramAsyncioProtocol.datagram_received = keep
    try:
        read_switch(access)
    finally:
        DgramAsyncioProtocol.datagram_received = received
    return kept


def _year(folder: Path) -> Iterator[Figure]:
    """Fill a year of counts for each device and port, as full as it ever gets; then show it."""
    site = folder / "site"
    with_usage = _filled(site)
    size = (site / FILE).stat().st_size / 1e6
    yield Figure(f"counts of {DEVICES} devices for a year", size - with_usage, "MB", 40)
    scopion = (str(Path(sys.executable).with_name("scopion")), "--site", str(site))
    empty = folder / "empty"
    shutil.copytree(site, empty)
    for name, arguments in (("where", ("where", "device 7")), ("usage", ("usage",))):
        taken = in_turns(RUNS, ours=process(*scopion, *arguments), start=process(*scopion, "--version"))
        yield Figure(f"{name}, after the program's start", taken["ours"] - taken["start"], "s", 0.2,
                     detail=f"{taken['ours']:.2f} s with it")  # fmt: skip


def _filled(site: Path) -> float:
    """Write the year; the size of the roster without it, in MB."""
    site.mkdir()
    now = datetime.now(UTC)
    at, begin = to_ms(now), to_ms(now - timedelta(days=365))
    roster = Roster.open(site)
    macs = [f"02:00:00:00:{number >> 8:02x}:{number & 255:02x}" for number in range(DEVICES)]
    with roster.transaction() as db:
        for number, mac in enumerate(macs):
            device = (number + 1, begin, f"device {number}")
            db.execute("INSERT INTO device (id, first_seen, label) VALUES (?, ?, ?)", device)
            adapter = (mac, number + 1, begin, at)
            db.execute("INSERT INTO adapter (mac, device, first_seen, last_seen) VALUES (?, ?, ?, ?)", adapter)
            db.execute(
                "INSERT INTO stay (mac, address, since, until, present) VALUES (?, ?, ?, ?, 1)",
                (mac, f"192.0.2.{number}", begin, at),
            )
        note_switch(roster, "rack", "rack", now)
        known = [KnownPort(0, Port("rack", str(number)), number, up=True, adapters=1) for number in range(1, PORTS + 1)]
        port_numbers = list(note_ports(roster, "rack", known, now).values())
        for mac, port in zip(macs, port_numbers, strict=False):
            db.execute(
                "INSERT INTO wire_stay (mac, port, at_edge, since, until, present) VALUES (?, ?, 1, ?, ?, 1)",
                (mac, port, begin, at),
            )
    roster.shrink()
    bare = (site / FILE).stat().st_size / 1e6
    chance = random.Random(2)
    with roster.transaction() as db:
        subjects = [
            (UsageSource.CABLE if number < PORTS else UsageSource.STATION, mac) for number, mac in enumerate(macs)
        ]
        subjects += [(UsageSource.PORT, str(number)) for number in port_numbers]
        for source, subject in subjects:
            db.execute("INSERT INTO meter (source, subject, place) VALUES (?, ?, 'rack')", (source, subject))
        meters = [row[0] for row in db.execute("SELECT id FROM meter")]
        for step, kept in KEPT.items():
            count = int(min(kept, timedelta(days=365)).total_seconds()) // step
            latest = int(now.timestamp()) // step * step
            for back in range(count):
                rows = ((step, latest - back * step, meter, *_passed(chance)) for meter in meters)
                db.executemany("INSERT INTO usage VALUES (?, ?, ?, ?, ?, 0)", rows)
    roster.shrink()
    roster.close()
    return bare


def _passed(chance: random.Random) -> tuple[int, int]:
    return chance.randrange(10**8), chance.randrange(10**9)
