"""The watch as a process among sixty kernel hosts: memory, share of a core, a flood, and how soon the mail is there.

Beside a bare scan a minute, a bare interpreter with the same libraries, a bare receive loop and a bare mail. Needs root
and Linux. And a made-up site of 2,000 devices in eight subnets, on one core.
"""

from __future__ import annotations

import json
import os
import resource
import smtplib
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator, Sequence
from contextlib import closing, suppress
from ipaddress import IPv4Address
from pathlib import Path

from tests.lab.lab import Lab, LabHost, require_lab
from tests.receivers import MAIL_PORT, OWNER

from benchmarks.figure import Figure, beside, processor_time, resident_at_most, run
from benchmarks.listening import HOST as TALKER
from benchmarks.listening import flood_rate, on_the_wire, ready_talker, talked
from benchmarks.scanning import HOSTS, bare_scan
from scopion.attachment.linux.linux_attachment import LiveAttachment
from scopion.attachment.ports import Traffic
from scopion.discovery.probing import Method, open_prober, plan_for
from scopion.discovery.runner import run_scan
from scopion.model.mac import MacAddress
from scopion.model.targets import Targets
from scopion.operations.site.open_site import Site
from scopion.scenes.story import Story
from scopion.watching.run_watch import WatchOptions, run_watch
from scopion.watching.watch_site import Watch
from scopion.wire.arp import encode_request

WATCHED_S, JOINS = 120.0, 30
FLOOD_S = 10
_BARE = "a bare interpreter with the same libraries"
SETTINGS = f"""
[watch]
metrics_port = 9520
[alerts]
learning_days = 0
burst = 50
{OWNER}"""
_SELF = (sys.executable, "-m", "benchmarks.watching")


def measure() -> Iterator[Figure]:
    """Measure all of it."""
    require_lab()
    lab = Lab([*HOSTS, TALKER])
    with tempfile.TemporaryDirectory() as holder:
        folder = Path(holder)
        mails = _begin(lab, [sys.executable, "-m", "tests.receivers", str(MAIL_PORT), str(folder / "spool")])
        (folder / "site.toml").write_text(SETTINGS)
        (folder / "spool").touch()
        rate = flood_rate()
        bare_flood = on_the_wire(lab, "receive", rate, FLOOD_S)
        with (folder / "log").open("wb") as log:  # a pipe without a reader would hold it up
            watch = subprocess.Popen(
                lab.command(["watch"]), env={**os.environ, "SCOPION_SITE": str(folder)}, stdout=log, stderr=log
            )
        try:
            time.sleep(10.0)
            yield from _quiet(lab, watch)
            yield from _soon(lab, folder)
            yield from _flooded(lab, watch, rate, bare_flood)
        finally:
            for process in (watch, mails):
                process.terminate()
                process.wait(30)
            lab.close()
    yield from _large()


def _begin(lab: Lab, command: list[str]) -> subprocess.Popen[bytes]:
    return subprocess.Popen(["ip", "netns", "exec", lab.namespace("desk"), *command])


def _quiet(lab: Lab, watch: subprocess.Popen[bytes]) -> Iterator[Figure]:
    before, began = processor_time(watch.pid), time.monotonic()
    time.sleep(WATCHED_S)
    share = (processor_time(watch.pid) - before) / (time.monotonic() - began) * 100
    scans = [_cpu_of(bare_scan(lab)) for _ in range(5)]
    floor = statistics.median(scans) / 60 * 100
    name = "watching 60 devices, a sweep a minute: of one core"
    yield beside(name, share, floor, 16, what="a bare scan a minute", unit="%", more=f"over {WATCHED_S:.0f} s")
    bare = _bare_resident()
    yield beside("watching 60 devices: resident", resident_at_most(watch.pid, "VmRSS"), bare, 4, what=_BARE, unit="MB")


def _cpu_of(command: Sequence[str]) -> float:
    """Return the seconds of processor time that a process takes."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    run(command)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def _bare_resident() -> float:
    """The megabytes of an interpreter that has loaded what any program needs that keeps rows, and mails and asks."""
    said = "import sqlite3, smtplib, threading, click; print(open('/proc/self/status').read())"
    status = subprocess.run([sys.executable, "-c", said], capture_output=True, text=True, check=True).stdout
    return int(status.split("VmHWM:")[1].split()[0]) / 1000


def _soon(lab: Lab, folder: Path) -> Iterator[Figure]:
    """From the first frame of a joining host, as it comes to the desk, to the end of the mail's transfer.

    Every other one has IPv6: its kernel is heard as soon as it is plugged in, and its message waits a little longer.
    """
    waits: dict[bool, list[float]] = {False: [], True: []}
    for number in range(JOINS):
        ipv6 = bool(number % 2)
        host = LabHost(f"new{number}", f"10:c0:de:00:11:{number:02x}", (f"192.0.2.{200 + number}",), ipv6=ipv6)
        told = len((folder / "spool").read_text().splitlines())
        listener = subprocess.Popen(
            ["ip", "netns", "exec", lab.namespace("desk"), *_SELF, "first-frame", host.mac], stdout=subprocess.PIPE
        )
        assert listener.stdout is not None
        listener.stdout.readline()  # it listens
        lab.join(host)
        while not ipv6 and not lab.forwards(host.name):
            time.sleep(0.1)
        if not ipv6:
            lab.run(host.name, [*_SELF, "announce", host.addresses[0]])
        frame = float(listener.stdout.readline())
        listener.wait(10)
        deadline = time.monotonic() + 10
        while len((folder / "spool").read_text().splitlines()) <= told and time.monotonic() < deadline:
            time.sleep(0.05)
        waits[ipv6].append(json.loads((folder / "spool").read_text().splitlines()[told])["at"] - frame)
        time.sleep(2.0)
    mail = statistics.median(_bare_mail(lab) for _ in range(7))
    for ipv6, said, meant in ((False, "its mail", 0.6), (True, "its mail, by IPv6", 1.0)):
        what = f"a bare mail after the {meant} s for its names"
        floor = meant + mail
        name = f"from a newcomer's first frame to {said}, median"
        yield beside(name, statistics.median(waits[ipv6]), floor, 1.3, what=what)
        yield beside("the same, longest", max(waits[ipv6]), floor, 2, what=what, more=f"of {len(waits[ipv6])}")


def _bare_mail(lab: Lab) -> float:
    """The seconds to hand a mail over to the server."""
    began = time.perf_counter()
    with lab.inside("desk"), smtplib.SMTP("127.0.0.1", MAIL_PORT) as server:
        server.sendmail("s@kilnhaven.example", ["owner@kilnhaven.example"], "Subject: bare\r\n\r\nNothing.\r\n")
    return time.perf_counter() - began


def _flooded(lab: Lab, watch: subprocess.Popen[bytes], rate: int, bare: float) -> Iterator[Figure]:
    """Frames of made-up devices, all different, as many as the kernel can hand to so many hosts.

    ``bare`` is the share of them that a bare loop takes in.
    """
    before = _metrics(lab)
    # One core for each, as where they are two machines.
    for task in Path(f"/proc/{watch.pid}/task").iterdir():
        os.sched_setaffinity(int(task.name), {0})
    sent = talked(ready_talker(lab, rate, FLOOD_S))
    time.sleep(5.0)
    after = _metrics(lab)
    heard = after["scopion_frames_total"] - before["scopion_frames_total"]
    dropped = after["scopion_frames_dropped_total"] - before["scopion_frames_dropped_total"]
    many = f"{sent:,} in {FLOOD_S} s to {len(HOSTS) + 2} hosts"
    detail = f"{many}, {dropped:,.0f} dropped by the kernel; a bare receive loop: {bare:.1%}"
    share = heard / sent / bare * 100
    yield Figure("a flood of frames while watching: heard", share, "%", 99.0, least=True, detail=detail)
    most = resident_at_most(watch.pid)
    yield beside("the same: resident at most", most, _bare_resident(), 8, what=_BARE, unit="MB")


def _metrics(lab: Lab) -> dict[str, float]:
    with lab.inside("desk"), urllib.request.urlopen("http://127.0.0.1:9520/metrics", timeout=10) as answer:
        lines = answer.read().decode().splitlines()
    found = {}
    for line in lines:
        name, _, value = line.rpartition(" ")
        with suppress(ValueError):
            found[name] = float(value)
    return found


def _large() -> Iterator[Figure]:
    """Eight subnets of 250 made-up devices, swept in turn for ten minutes of their time."""
    with tempfile.TemporaryDirectory() as holder:
        folder = Path(holder)
        site = folder / "site"
        site.mkdir()
        (folder / "scene.toml").write_text(_scene())
        Story.begin(site, str(folder / "scene.toml"))
        subnets = "".join(f'[[subnet]]\nrange = "198.18.{net}.0/24"\n' for net in range(8))
        (site / "site.toml").write_text(f"[names]\nask = false\n{subnets}")
        last: list[Watch] = []
        began = time.process_time()
        run_watch(Site(site), WatchOptions(for_s=600), lambda watch: last.append(watch) if not last else None)
        share = (time.process_time() - began) / 600 * 100
        known, sweeps = last[0].context.known.devices, last[0].context.counts.sweeps["complete"]
        floor = _sweep_alone(site) * sweeps / 600 * 100
    yield Figure("made-up devices in 8 subnets: here", known, "", 2000.0, least=True)
    name = "2,000 made-up devices in 8 subnets: of one core"
    yield beside(
        name,
        share,
        floor,
        8,
        what="the same sweeps alone, remembering nothing",
        unit="%",
        more=f"{sweeps} in ten minutes",
    )


def _sweep_alone(folder: Path) -> float:
    """The seconds of processor time for a sweep of one of these subnets, without a memory; the median of eight."""
    site = Site(folder)
    attachment, taken = site.attachment, []
    for interface in attachment.interfaces():
        own, (subnet,) = interface.addresses[0].ip, interface.subnets
        targets = Targets.of_subnet(subnet).without([own])
        assert targets is not None
        began = time.process_time()
        with closing(open_prober(Method.ARP, attachment, interface, own)) as prober:
            run_scan(targets, prober, attachment, plan_for(Method.ARP, 2_000.0))
        taken.append(time.process_time() - began)
    site.close()
    return statistics.median(taken)


def _scene() -> str:
    parts = ['title = "Large"\n[[moment]]\nat = 2026-09-14T12:00:00Z\ntells = "noon"\n']
    for net in range(8):
        parts.append(
            f'[[interface]]\nname = "net{net}"\nindex = {net + 2}\nmac = "60:f2:a7:10:01:{net:02x}"\n'
            f'addresses = ["198.18.{net}.10/24"]\ngateway = "198.18.{net}.1"\nmedium = "cable"\n'
        )
        parts += [
            f'[[host]]\nname = "h"\nmac = "10:c0:de:01:{net:02x}:{number:02x}"\nat = ["198.18.{net}.{number}"]\n'
            for number in range(1, 254)
            if number not in (10, 11, 12)
        ]
    return "".join(parts)


def _announce(address: str) -> None:
    """Announce an address."""
    attachment = LiveAttachment()
    interface = next(each for each in attachment.interfaces() if each.name == "eth0")
    assert interface.mac is not None
    with closing(attachment.open_link(interface)) as link:
        claimed = IPv4Address(address)
        link.send(encode_request(interface.mac, claimed, claimed))


def _first_frame(mac: str) -> None:
    """Print that one listens, and then the monotonic moment of the first frame of an adapter."""
    attachment, octets = LiveAttachment(), MacAddress.parse(mac).octets
    interface = next(each for each in attachment.interfaces() if each.name == "eth0")
    with closing(attachment.open_link(interface, Traffic.TALK)) as link:
        print("listening", flush=True)
        ends = time.monotonic() + 30
        while (arrival := link.receive(ends)) is not None:
            if arrival.frame[6:12] == octets:
                print(arrival.at, flush=True)
                return


if __name__ == "__main__":
    {"announce": _announce, "first-frame": _first_frame}[sys.argv[1]](sys.argv[2])
