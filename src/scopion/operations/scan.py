"""The scan: ask a subnet who is there, recognise whether it is the site's, and fold what was seen into the roster."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime

from scopion.attachment.choose import what_happened
from scopion.discovery.asking import Asker, Method, open_asker, plan_for
from scopion.discovery.runner import Findings, OnProgress, run_scan
from scopion.discovery.sweep import Patience
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source
from scopion.operations.here import ask_gateway_mac
from scopion.operations.prepare import PreparedScan
from scopion.operations.recognise import recognise
from scopion.operations.remember import Memory
from scopion.operations.scan_result import Host, ScanResult, hosts_of
from scopion.operations.site import Site
from scopion.roster.scans import KnownSubnet

OnHost = Callable[[Host], None]


def run_prepared(
    site: Site,
    prepared: PreparedScan,
    on_host: OnHost = lambda _: None,
    on_progress: OnProgress = lambda _: None,
) -> ScanResult:
    """Scan and fold. What was found is never lost: a roster that cannot be written is told in the result."""
    asker = open_asker(prepared.method, site.attachment, prepared.choice.interface, prepared.own_address)
    try:
        return _scanned(site, prepared, asker, on_host, on_progress)
    finally:
        asker.close()


def _scanned(site: Site, prepared: PreparedScan, asker: Asker, on_host: OnHost, on_progress: OnProgress) -> ScanResult:
    interface = prepared.choice.interface
    vendors = site.vendors
    started = site.clock.now()
    memory = Memory.open(site, prepared, started)
    known = {mac: device for device in memory.devices for mac in device.macs}

    def show(seen: Observation) -> None:
        on_host(Host.of(seen, known.get(seen.mac), vendors, interface))

    own = _own_observation(prepared, started)
    if own.address in prepared.targets:
        show(own)
    absence = site.settings.absence_in(prepared.subnet)
    plan = plan_for(prepared.method, prepared.pace, prepared.rounds, Patience(absence.requests, absence.span_s))
    findings = run_scan(
        prepared.addresses or (),
        asker,
        site.attachment,
        plan,
        memory.expected(),
        show,
        on_progress,
    )
    _distrust_a_dead_interface(site, prepared, findings)
    seen = [own, *findings.observations]
    gateway_mac = _gateway_mac(site, prepared, findings.observations, memory.subnets)
    familiar = {each.mac for each in findings.observations} & known.keys() - {gateway_mac}
    recognition = recognise(
        prepared.subnet,
        gateway_mac,
        memory.subnets,
        familiar=len(familiar),
        named=[each.range for each in site.settings.subnet],
    )
    folded = memory.fold(site, prepared, findings, seen, gateway_mac, recognition)
    devices = folded.devices or memory.devices
    return ScanResult(
        choice=prepared.choice,
        subnet=prepared.subnet,
        targets=prepared.targets,
        method=prepared.method,
        method_reason=prepared.method_reason,
        started=started,
        findings=findings,
        hosts=hosts_of(seen, prepared.targets, devices, folded.events, vendors, interface),
        events=folded.events,
        devices={device.id: device for device in devices},
        recognition=recognition,
        folded=folded.done,
        baseline=folded.baseline,
        memory_lost=memory.lost,
        not_remembered=folded.problem,
    )


def _distrust_a_dead_interface(site: Site, prepared: PreparedScan, findings: Findings) -> None:
    """A scan whose interface went away meanwhile is partial: its silence says nothing about who has left."""
    before = prepared.choice.interface
    now = next((each for each in site.attachment.interfaces() if each.name == before.name), None)
    happened = what_happened(before, now, prepared.own_address)
    if happened and findings.completed:
        findings.completed = False
        findings.interruption = happened
        findings.asked_enough.clear()


def _own_observation(prepared: PreparedScan, at: datetime) -> Observation:
    interface = prepared.choice.interface
    assert interface.mac is not None  # choose_interface takes only such
    return Observation(interface.mac, prepared.own_address, at, Source.OWN, interface.medium)


def _gateway_mac(
    site: Site, prepared: PreparedScan, seen: Sequence[Observation], known: Sequence[KnownSubnet]
) -> MacAddress | None:
    """Who answered for the gateway; if several did, the one that is known, so that a forger cannot hide the site."""
    interface = prepared.choice.interface
    found = [each.mac for each in seen if each.address == interface.gateway]
    if found or interface.gateway in (prepared.addresses or ()):
        expected = {each.gateway_mac for each in known if each.range == prepared.subnet}
        return next((mac for mac in found if mac in expected), found[0] if found else None)
    return ask_gateway_mac(site.attachment, interface, raw_frames=prepared.method is Method.ARP)
