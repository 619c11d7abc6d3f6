"""The scan: finds the hosts of a subnet, recognises whether it is the site's, and folds what was
seen into the roster.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from dataclasses import replace
from datetime import datetime
from ipaddress import IPv4Address, IPv6Address

from scopion.attachment.ports import NeighbourState, Traffic
from scopion.discovery.listening import listen
from scopion.discovery.name_task import NameTask
from scopion.discovery.port_task import PortTask
from scopion.discovery.probing import Method, open_prober, plan_for
from scopion.discovery.runner import Findings, Progress, SideTask, Watcher, run_scan
from scopion.discovery.sweep import Patience
from scopion.discovery.touch_prober import TouchProber
from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Pair, Source
from scopion.operations.scan.ask_network import interruption, name_servers
from scopion.operations.scan.describe_hosts import Describer, Host
from scopion.operations.scan.find_whereabouts import ask_gateway_mac, find_gateway_mac
from scopion.operations.scan.fold_scan import Memory, adapters_of
from scopion.operations.scan.prepare_scan import PreparedScan
from scopion.operations.scan.read_router_tables import pair_by_router
from scopion.operations.scan.recognise_network import Belonging, Recognition, recognise
from scopion.operations.scan.scan_result import ScanResult
from scopion.operations.site.open_site import Site

OnHost = Callable[[Host], None]
OnProgress = Callable[[Progress], None] | None


def run_prepared(
    site: Site,
    prepared: PreparedScan,
    on_host: OnHost = lambda _: None,
    on_progress: OnProgress = None,
) -> ScanResult:
    """Scan and fold; ``on_progress`` is for a person who looks on.

    What was found is never lost: a roster that cannot be written is told in the result.
    """
    with ExitStack() as stack:
        return _Scan(site, prepared, on_host, on_progress, stack).run()


class _Scan:
    """One scan from its first question to its result; what it opens is closed with the stack."""

    def __init__(
        self, site: Site, prepared: PreparedScan, on_host: OnHost, on_progress: OnProgress, stack: ExitStack
    ) -> None:
        self._ports: Mapping[Address, Mapping[int, str]] = {}
        self._site = site
        self._prepared = prepared
        self._interface = prepared.choice.interface
        self._on_host = on_host
        self._on_progress = on_progress
        self._stack = stack
        self._met: dict[Pair, list[Observation]] = defaultdict(list)
        self._doubtful: set[tuple[MacAddress | None, Address]] = set()
        self._calls_ipv6 = True

    def run(self) -> ScanResult:
        """Look, then conclude. Raises NotPermitted, InterfaceLost before anything was asked."""
        # Before anything is remembered, the system must let us look.
        look = self._opened_listening() if self._prepared.method is Method.LISTEN else self._opened_asking()
        started = self._site.clock.now()
        self._memory = Memory.open(self._site, self._prepared, started)
        self._doubtful |= self._memory.just_left(self._site)
        self._describer = Describer(
            self._site.vendors, self._site.kinds, self._memory.devices, [self._interface.gateway]
        )
        own = self._own_observations(started)
        if own and own[0].address in self._prepared.targets:
            self._show(own[0])
        findings = look()
        self._distrust_a_dead_interface(findings)
        return self._concluded(findings, own, started)

    def _opened_listening(self) -> Callable[[], Findings]:
        """Prepare to listen; nothing is sent."""
        link = self._site.attachment.open_link(self._interface, Traffic.TALK)
        self._stack.callback(link.close)

        def look() -> Findings:
            seconds = self._prepared.listen_s

            def tell(passed: float, frames: int) -> None:
                if self._on_progress is not None:
                    self._on_progress(Progress(round(passed), round(seconds), len(self._met), frames))

            on_link = self._interface.reaches
            heard = listen(link, self._site.attachment, seconds, self._show, tell, on_link)
            more = (
                f"{heard.passed_over} sightings of more devices than are kept were passed over: a machine makes them up"
            )
            return Findings(
                remarks=[more] if heard.passed_over else [],
                observations=heard.observations,
                heard=heard,
                completed=heard.completed,
                interruption=heard.interruption,
                duration_s=heard.duration_s,
            )

        return look

    def _opened_asking(self) -> Callable[[], Findings]:
        """Prepare to ask."""
        prepared, attachment = self._prepared, self._site.attachment
        own = prepared.own_address
        prober = open_prober(prepared.method, attachment, self._interface, own, self._doubtful)
        self._calls_ipv6 = not isinstance(prober, TouchProber) or prober.calls_ipv6
        self._stack.callback(prober.close)

        def look() -> Findings:
            absence = self._site.settings.absence_in(prepared.subnet)
            plan = plan_for(prepared.method, prepared.pace, prepared.rounds, Patience(absence.requests, absence.span_s))
            findings = run_scan(
                prepared.addresses or (),
                prober,
                attachment,
                plan,
                self._memory.expected(),
                Watcher(self._show, self._on_progress),
                self._side_tasks(),
                also=self._known_ipv6(),
                greeting_pace=prepared.greeting_pace,
            )
            if prepared.router is not None:
                pair_by_router(self._site, prepared.router, prepared.subnet, findings)
            return findings

        return look

    def _side_tasks(self) -> list[SideTask]:
        """Return the work beside the sweep."""
        prepared, found = self._prepared, list[SideTask]()
        if prepared.names:
            on_link = self._interface if prepared.attached else None
            known = self._memory.freshly_named(self._site)
            servers = name_servers(self._site, self._interface)
            names = NameTask(self._site.attachment, on_link, servers, known, prepared.pace)
            self._stack.callback(names.close)
            self._stack.callback(self._note_asked, names)  # before it is closed
            found.append(names)
        if prepared.ports:
            ports = PortTask(self._site.attachment, prepared.ports)
            self._stack.callback(ports.close)
            self._ports = ports.states
            found.append(ports)
        return found

    def _note_asked(self, names: NameTask) -> None:
        """Remember hosts without names: the very next sweep need not ask them again."""
        if self._site.watch_state is not None:
            self._site.watch_state.note_asked(names.asked, self._site.clock.monotonic())

    def _known_ipv6(self) -> list[IPv6Address] | None:
        """Return the IPv6 addresses of devices last seen on this link; None for a part of a subnet."""
        if not self._prepared.attached or not self._prepared.whole:
            return None
        known = [each for each in self._memory.expected() if isinstance(each, IPv6Address)]
        return [each for each in known if self._interface.ipv6_towards(each) is not None]

    def _show(self, seen: Observation) -> None:
        group = self._met[seen.mac, seen.address]
        group.append(seen)
        if seen.address is not None:
            self._on_host(self._describer.host(group))

    def _own_observations(self, at: datetime) -> list[Observation]:
        """Return this machine itself, at its address in the subnet and those of IPv6; none beyond a router."""
        interface, own = self._interface, self._prepared.own_address
        if interface.mac is None or own is None:
            return []
        addresses: list[Address] = [own, *(each.ip for each in interface.ipv6)]
        return [Observation(interface.mac, each, at, Source.OWN, interface.medium) for each in addresses]

    def _distrust_a_dead_interface(self, findings: Findings) -> None:
        """Make a scan partial whose interface went away meanwhile: its silence says nothing about absence."""
        happened = interruption(self._site, self._prepared)
        if happened and findings.completed:
            findings.completed = False
            findings.interruption = happened
            findings.asked_enough.clear()

    def _concluded(self, findings: Findings, own: Sequence[Observation], started: datetime) -> ScanResult:
        prepared, memory, site = self._prepared, self._memory, self._site
        interfaces = site.attachment.interfaces()
        ours = {each.mac for each in interfaces if each.mac}
        # Another interface of this machine answers like any host, as a container's does: it is no stranger.
        seen = [
            *own,
            *(replace(each, source=Source.OWN) if each.mac in ours else each for each in findings.observations),
        ]
        gateway_mac = self._gateway_mac(findings.observations)
        recognition = self._recognised(findings.observations, gateway_mac)
        gateway = gateway_mac if prepared.attached else None
        own_adapters = adapters_of(interfaces, prepared, seen)
        folded = memory.fold(site, prepared, findings, seen, gateway, recognition, own_adapters)
        devices = folded.devices or memory.devices
        describer = Describer(site.vendors, site.kinds, devices, [self._interface.gateway])
        return ScanResult(
            choice=prepared.choice,
            subnet=prepared.subnet,
            targets=prepared.targets,
            method=prepared.method,
            method_reason=prepared.method_reason,
            started=started,
            findings=findings,
            hosts=describer.hosts(_concerned(seen, prepared), folded.events),
            events=folded.events,
            devices={device.id: device for device in devices},
            recognition=recognition,
            folded=folded.done,
            baseline=folded.baseline,
            memory_lost=memory.lost,
            doubt=folded.doubt,
            calls_ipv6=self._calls_ipv6,
            not_remembered=folded.problem,
            ports=self._ports,
        )

    def _gateway_mac(self, seen: Sequence[Observation]) -> MacAddress | None:
        """Return the adapter that answered for the gateway; of several the known one: a forger cannot hide the site."""
        prepared, gateway = self._prepared, self._interface.gateway
        found = [each.mac for each in seen if each.address == gateway and each.mac is not None]
        asked = prepared.attached and prepared.method is not Method.LISTEN and gateway in (prepared.addresses or ())
        if found or asked:
            expected = {each.gateway_mac for each in self._memory.subnets if each.gateway == gateway}
            return next((mac for mac in found if mac in expected), found[0] if found else None)
        if prepared.method is Method.LISTEN:  # what the system knows already costs no frame
            known = self._site.attachment.neighbours(self._interface)
            return next((e.mac for e in known if e.address == gateway and e.state is not NeighbourState.FAILED), None)
        raw = prepared.method is Method.ARP
        ask = ask_gateway_mac if prepared.attached else find_gateway_mac
        return ask(self._site.attachment, self._interface, raw_frames=raw)

    def _recognised(self, seen: Sequence[Observation], gateway_mac: MacAddress | None) -> Recognition:
        """Decide whether the subnet is one of the site's; one beyond a router is if this machine stands in the site."""
        prepared, memory = self._prepared, self._memory
        named = [each.range for each in self._site.settings.here]
        known = {mac for device in memory.devices for mac in device.macs}
        familiar = len({each.mac for each in seen} & known - {gateway_mac})
        if prepared.attached:
            near = [mac for address, macs in memory.expected().items() if address in prepared.subnet for mac in macs]
            return recognise(
                prepared.subnet, gateway_mac, memory.subnets, familiar=familiar, expected=len(set(near)), named=named
            )
        if prepared.subnet not in named and prepared.subnet not in {each.range for each in memory.subnets}:
            return Recognition(
                Belonging.ELSEWHERE, f"{prepared.subnet} is not one of its subnets: site.toml can name it"
            )
        nearby = [each for each in memory.subnets if self._site.settings.of_subnet(each.range).router is None]
        if not nearby:
            return Recognition(Belonging.OURS, "site.toml names it, and no attached subnet is known yet")
        for subnet in self._interface.subnets:
            standing = recognise(subnet, gateway_mac, memory.subnets, named=named)
            if standing.verdict is not Belonging.ELSEWHERE:
                return Recognition(Belonging.OURS, f"site.toml names it, and this machine stands in {subnet}")
        return Recognition(Belonging.ELSEWHERE, f"this machine stands elsewhere, {standing.reason}")


def _concerned(seen: Sequence[Observation], prepared: PreparedScan) -> list[Observation]:
    """Return what was seen of the asked addresses: in a part of the subnet, only of the adapters in it."""
    if prepared.whole:
        return [each for each in seen if each.address in prepared.targets or not isinstance(each.address, IPv4Address)]
    macs = {each.mac for each in seen if each.mac and each.address in prepared.targets}
    return [
        each
        for each in seen
        if each.address in prepared.targets or (isinstance(each.address, IPv6Address) and each.mac in macs)
    ]
