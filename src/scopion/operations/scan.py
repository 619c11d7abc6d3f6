"""The scan: ask a subnet who is there, recognise whether it is the site's, and fold what was seen into the roster."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from ipaddress import IPv4Address, IPv4Network

from scopion.attachment.choose import Choice, choose_interface
from scopion.discovery.asking import Asker, Method, open_asker, plan_for
from scopion.discovery.pace import DEFAULT_PACE, checked_pace
from scopion.discovery.runner import Findings, OnProgress, Patience, run_scan
from scopion.model.device import Device, Event
from scopion.model.errors import InvalidTarget, ScopionError, StorageFailed
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source
from scopion.model.targets import Targets
from scopion.operations.here import find_gateway_mac
from scopion.operations.recognise import Recognition, recognise
from scopion.operations.scan_result import Host, ScanResult, hosts_of
from scopion.operations.site import Site
from scopion.roster.devices import all_devices
from scopion.roster.folding import fold, note_own_adapters
from scopion.roster.scans import begin_scan, drop_scan, end_scan, known_subnets, note_baseline, note_subnet
from scopion.roster.store import MEMORY_LOST, Roster

OnHost = Callable[[Host], None]


@dataclass(frozen=True, slots=True)
class ScanRequest:
    """What the user asked for; None and empty mean the default."""

    targets: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()
    interface: str | None = None
    method: str | None = None
    pace: float | None = None
    rounds: int | None = None
    remember: bool = False  # fold even on a network that is not the site's


@dataclass(frozen=True, slots=True)
class PreparedScan:
    """A scan that is ready to run: nothing has been sent yet."""

    choice: Choice
    subnet: IPv4Network
    own_address: IPv4Address
    targets: Targets
    addresses: tuple[IPv4Address, ...]  # the targets without this machine's own
    method: Method
    method_reason: str
    pace: float
    rounds: int | None
    remember: bool


def prepare_scan(site: Site, request: ScanRequest) -> PreparedScan:
    """Decide what to ask, from where and how. Raises InvalidTarget, NoInterface, InvalidSettings."""
    interfaces = site.attachment.interfaces()
    wanted = Targets.parse(request.targets) if request.targets else None
    first = next(iter(wanted)) if wanted else None
    choice = choose_interface(interfaces, request.interface, first)
    interface = choice.interface
    subnet = next((each for each in interface.subnets if first is None or first in each), None)
    if subnet is None:
        attached = ", ".join(map(str, interface.subnets))
        raise InvalidTarget(f"{first} is not in the subnet of {interface.name} ({attached}): leave --interface out")
    texts = request.targets or (str(subnet),)
    targets = Targets.parse(texts, request.exclude, [subnet])
    edges = [IPv4Address(edge) for first_and_last in targets.ranges for edge in first_and_last]
    outside = next((edge for edge in edges if edge not in subnet), None)
    if outside is not None:
        raise InvalidTarget(f"{outside} is outside {subnet}, the subnet of {interface.name}: scan one subnet at a time")
    own = {each.ip for each in interface.addresses}
    method, reason = _method(site, request.method or site.settings.scan.method)
    settings = site.settings
    paces = (request.pace, settings.of_subnet(subnet).pace, settings.scan.pace)
    pace = next((each for each in paces if each is not None), DEFAULT_PACE[interface.medium])
    return PreparedScan(
        choice=choice,
        subnet=subnet,
        own_address=next(each.ip for each in interface.addresses if each.network == subnet),
        targets=targets,
        addresses=tuple(address for address in targets if address not in own),
        method=method,
        method_reason=reason,
        pace=checked_pace(pace),
        rounds=request.rounds or settings.scan.rounds,
        remember=request.remember,
    )


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
    started = site.clock.now()
    memory = _Memory.open(site, prepared, started)
    known = {mac: device for device in memory.devices for mac in device.macs}

    def show(seen: Observation) -> None:
        on_host(Host.of(seen, known.get(seen.mac), site.vendors, interface))

    own = _own_observation(prepared, started)
    if own.address in prepared.targets:
        show(own)
    patience = site.settings.absence_in(prepared.subnet)
    findings = run_scan(
        prepared.addresses,
        asker,
        site.attachment,
        plan_for(prepared.method, prepared.pace, prepared.rounds),
        Patience(patience.requests, patience.span_s),
        memory.expected(),
        show,
        on_progress,
    )
    seen = [own, *findings.observations]
    gateway_mac = _gateway_mac(site, prepared, findings.observations)
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
        hosts=hosts_of(seen, prepared.targets, devices, folded.events, site.vendors, interface),
        events=folded.events,
        devices={device.id: device for device in devices},
        recognition=recognition,
        folded=folded.done,
        baseline=folded.baseline,
        memory_lost=memory.lost,
        not_remembered=folded.problem,
    )


@dataclass(slots=True)
class _Folded:
    """What became of the fold."""

    done: bool = False
    baseline: bool = False
    events: list[Event] = field(default_factory=list)
    devices: list[Device] = field(default_factory=list)
    problem: str = ""


class _Memory:
    """The roster as one scan uses it. One that cannot be written does not stop the scan: looking is still worth it."""

    def __init__(self, roster: Roster | None, scan: int, problem: str) -> None:
        self.roster = roster
        self.scan = scan
        self.problem = problem
        self.lost = roster.memory_lost if roster else None
        self.devices = all_devices(roster) if roster else []
        self.subnets = known_subnets(roster) if roster else ()

    @classmethod
    def open(cls, site: Site, prepared: PreparedScan, started: datetime) -> _Memory:
        try:
            roster = site.roster
            name = prepared.choice.interface.name
            scan = begin_scan(roster, prepared.targets, prepared.subnet, name, prepared.method, started)
        except StorageFailed as error:
            return cls(None, 0, str(error))
        return cls(roster, scan, "")

    def expected(self) -> dict[IPv4Address, list[MacAddress]]:
        """Who was at which address when the roster last heard of it."""
        found: dict[IPv4Address, list[MacAddress]] = defaultdict(list)
        for stay in (each for device in self.devices for adapter in device.adapters for each in adapter.stays):
            if stay.present:
                found[stay.address].append(stay.mac)
        return found

    def fold(
        self,
        site: Site,
        prepared: PreparedScan,
        findings: Findings,
        seen: Sequence[Observation],
        gateway_mac: MacAddress | None,
        recognition: Recognition,
    ) -> _Folded:
        """Fold everything in one transaction, or say why not."""
        if self.roster is None:
            return _Folded(problem=self.problem)
        try:
            if not recognition.is_site and not prepared.remember:
                drop_scan(self.roster, self.scan)
                return _Folded()
            return self._fold(self.roster, site, prepared, findings, seen, gateway_mac)
        except ScopionError as error:
            return _Folded(problem=str(error))

    def _fold(
        self,
        roster: Roster,
        site: Site,
        prepared: PreparedScan,
        findings: Findings,
        seen: Sequence[Observation],
        gateway_mac: MacAddress | None,
    ) -> _Folded:
        now = site.clock.now()
        with roster.transaction():
            note_subnet(roster, prepared.subnet, prepared.choice.interface.gateway, gateway_mac, now)
            subnet = next(each for each in known_subnets(roster) if each.range == prepared.subnet)
            events = fold(roster, seen, findings.asked_enough, now, scan=self.scan, silent=not subnet.has_baseline)
            note_own_adapters(roster, _own_adapters(site, prepared), now)
            end_scan(
                roster,
                self.scan,
                now,
                asked=findings.asked,
                answered=findings.answered,
                rounds=findings.rounds,
                completed=findings.completed,
            )
            baseline = findings.completed and prepared.targets.covers(prepared.subnet) and not subnet.has_baseline
            if baseline:
                note_baseline(roster, prepared.subnet, self.scan)
                roster.set_meta(MEMORY_LOST, None)
        return _Folded(True, baseline, events, all_devices(roster))


def _method(site: Site, asked: str) -> tuple[Method, str]:
    if asked != "auto":
        return Method(asked), "it was asked for"
    rights = site.attachment.rights()
    if rights.raw_frames:
        return Method.ARP, "raw frames are permitted"
    return Method.TOUCH, f"raw frames are not permitted; {rights.how_to_get_more}"


def _own_adapters(site: Site, prepared: PreparedScan) -> dict[MacAddress, Medium]:
    """This machine's real adapters, and the one that was used; virtual ones come and go with new addresses."""
    used = prepared.choice.interface.name
    return {
        each.mac: each.medium
        for each in site.attachment.interfaces()
        if each.mac and (not each.virtual or each.name == used)
    }


def _own_observation(prepared: PreparedScan, at: datetime) -> Observation:
    interface = prepared.choice.interface
    assert interface.mac is not None  # choose_interface takes only such
    return Observation(interface.mac, prepared.own_address, at, Source.OWN, interface.medium)


def _gateway_mac(site: Site, prepared: PreparedScan, seen: Sequence[Observation]) -> MacAddress | None:
    interface = prepared.choice.interface
    found = next((each.mac for each in seen if each.address == interface.gateway), None)
    if found is not None or interface.gateway in prepared.addresses:
        return found  # it was asked and did not answer: asking again tells nothing
    return find_gateway_mac(site.attachment, interface, raw_frames=prepared.method is Method.ARP)
