"""A made-up /16 with five thousand hosts: the memory it takes, and how its sending keeps up with a bare loop.

The floor of the memory is a bare list of the addresses and a dictionary of the hosts.
"""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Iterator
from ipaddress import IPv4Address, IPv4Interface

from tests.support import NOON

from benchmarks.figure import Figure, beside, resident_at_most
from scopion.attachment.ports import Interface
from scopion.discovery.probing import Method, open_prober, plan_for
from scopion.discovery.runner import run_scan
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.model.targets import Targets
from scopion.scenes.attachment import SceneAttachment
from scopion.scenes.scene import Period, Scene, SceneHost, SceneMoment

HOSTS, PACE = 5_000, 20_000.0


def measure() -> Iterator[Figure]:
    """Measure in a process of its own, so that nothing else counts."""
    command = [sys.executable, "-m", "benchmarks.large"]
    ended = subprocess.run(command, capture_output=True, text=True, check=True)
    megabytes, found, ratio, seconds = map(float, ended.stdout.split())
    bare = subprocess.run([*command, "bare"], capture_output=True, text=True, check=True)
    detail = f"{found:,.0f} of {HOSTS:,} hosts found, {seconds:.1f} s of computing"
    what = "bare addresses and hosts"
    yield beside("/16 scene: resident at most", megabytes, float(bare.stdout), 5, what=what, unit="MB", more=detail)
    yield Figure("/16 scene: found", found / HOSTS * 100, "%", 99.5, least=True)
    yield Figure(
        "/16 scene: first round / a bare loop at the same pace", ratio, "x", 1.15, detail=f"{PACE:,.0f} a second"
    )


def _run() -> str:
    interface = Interface(
        "eth0", 2, MacAddress.parse("60f2a710000a"), (IPv4Interface("10.7.0.10/16"),), True, Medium.CABLE
    )
    step = 65_000 // HOSTS
    hosts = tuple(
        SceneHost(
            f"host {number}",
            MacAddress(b"\x10\xc0" + (number + 1).to_bytes(4)),
            Medium.CABLE,
            (Period(IPv4Address(0x0A070100 + number * step)),),
        )
        for number in range(HOSTS)
    )
    attachment = SceneAttachment(Scene("large", "large", 1, None, (interface,), hosts, (SceneMoment(NOON, ""),)), NOON)
    prober = open_prober(Method.ARP, attachment, interface, IPv4Address("10.7.0.10"))
    targets = Targets.of_subnet(interface.subnets[0]).without([IPv4Address("10.7.0.10")])
    assert targets is not None
    clock = attachment.clock
    sent: list[float] = []
    ask = prober.ask
    prober.ask = lambda address: (sent.append(clock.monotonic()), ask(address))[1]  # type: ignore[method-assign, func-returns-value]
    began = time.perf_counter()
    found = run_scan(targets, prober, attachment, plan_for(Method.ARP, PACE))
    seconds = time.perf_counter() - began
    first_round = sent[len(targets) - 1] - sent[0]
    return f"{resident_at_most()} {found.answered} {first_round / (len(targets) / PACE)} {seconds}"


def _bare() -> str:
    addresses = [IPv4Address(0x0A070000 + number) for number in range(65_536)]
    hosts = {address: number.to_bytes(6) for number, address in enumerate(addresses[::13])}
    assert len(addresses) > len(hosts) > HOSTS
    return f"{resident_at_most()}"


if __name__ == "__main__":
    print(_bare() if sys.argv[1:] else _run())
