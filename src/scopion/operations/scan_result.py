"""What a scan comes to: the hosts as rows, and the notes that a person would want to be told."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from ipaddress import IPv4Address, IPv4Network

from scopion.attachment.choose import Choice
from scopion.attachment.ports import Interface
from scopion.discovery.asking import Method
from scopion.discovery.runner import Findings
from scopion.model.device import Device, Event, EventKind, Standing
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source
from scopion.model.targets import Targets
from scopion.model.text import joined
from scopion.operations.news import ORDER
from scopion.operations.recognise import Recognition
from scopion.vendors.registry import Vendor, Vendors

# One adapter that answers for so many addresses is a router or firewall that speaks for others (proxy ARP, RFC 1027).
SPEAKS_FOR_OTHERS = 16
# Less loss than this is not worth a word.
WORTH_TELLING_LOSS = 0.05


@dataclass(frozen=True, slots=True)
class Host:
    """One pair of address and MAC that was seen, with all that is known of it."""

    address: IPv4Address
    mac: MacAddress
    vendor: Vendor
    rtt_s: float | None
    device: Device | None  # None: the roster does not know it
    own: bool
    gateway: bool
    news: EventKind | None = None

    @property
    def weight(self) -> int:
        """Where the eye should fall first: the unwanted, then the news by their weight, then the rest."""
        if self.device is not None and self.device.standing is Standing.UNWANTED:
            return -1
        return ORDER.index(self.news) if self.news is not None else len(ORDER)

    @classmethod
    def of(
        cls,
        seen: Observation,
        device: Device | None,
        vendors: Vendors,
        interface: Interface,
        news: EventKind | None = None,
    ) -> Host:
        """The row for an observation."""
        return cls(
            address=seen.address,
            mac=seen.mac,
            vendor=vendors.of(seen.mac),
            rtt_s=seen.rtt_s,
            device=device,
            own=seen.source is Source.OWN,
            gateway=seen.address == interface.gateway,
            news=news,
        )


@dataclass(frozen=True, slots=True)
class ScanResult:
    """Everything that came of a scan."""

    choice: Choice
    subnet: IPv4Network
    targets: Targets
    method: Method
    method_reason: str
    started: datetime
    findings: Findings
    hosts: list[Host]  # what is new first, then by address
    events: list[Event]
    devices: Mapping[int, Device]
    recognition: Recognition
    folded: bool
    baseline: bool
    memory_lost: str | None  # the damaged roster's new name, if what was known got lost
    not_remembered: str  # why the roster could not take it in; empty if it did, or was not to

    @property
    def range(self) -> str:
        """What was scanned, as one says it: the subnet if all of it was."""
        return str(self.subnet if self.targets.covers(self.subnet) else self.targets)

    @property
    def answered(self) -> int:
        """How many of the asked addresses answered."""
        return self.findings.answered


def hosts_of(
    seen: Sequence[Observation],
    targets: Targets,
    devices: Sequence[Device],
    events: Sequence[Event],
    vendors: Vendors,
    interface: Interface,
) -> list[Host]:
    """The rows of a scan: the unwanted and those with news first, then by address."""
    of_mac = {mac: device for device in devices for mac in device.macs}
    news: dict[MacAddress, EventKind] = {}
    for event in events:  # a return to another address is two events: the return comes first, and is the news
        news.setdefault(event.mac, event.kind)
    rows = [
        Host.of(each, of_mac.get(each.mac), vendors, interface, news.get(each.mac))
        for each in seen
        if each.address in targets
    ]
    return sorted(rows, key=lambda row: (row.weight, row.address, row.mac))


def notes(result: ScanResult) -> list[str]:
    """What a person at the desk should know besides the rows, most important first."""
    told = [
        f"{address} is claimed by {joined(whom)}: {len(whom)} adapters use one address"
        for address, whom in _contests(result)
    ]
    for mac, count in Counter(host.mac for host in result.hosts).items():
        if count >= SPEAKS_FOR_OTHERS:
            told.append(f"{mac} answered for {count} addresses: it speaks for others (proxy ARP)")
    others = [host for host in result.hosts if not host.own]
    alone = result.findings.completed and result.targets.covers(result.subnet)
    if alone and others and all(host.gateway for host in others):
        told.append(
            "only the gateway answered: clients may be isolated from each other here, as guest networks do, "
            "so this says nothing about who else is connected"
        )
    if alone and not others:
        told.append(
            "nobody answered, not even a gateway, so nobody counts as gone: is this the right interface? "
            "see scopion here"
        )
    if result.findings.loss >= WORTH_TELLING_LOSS:
        told.append(
            f"about {result.findings.loss * 100:.0f} % of the answers got lost on the way: "
            f"so {result.findings.rounds} rounds were asked"
        )
    return told


def _contests(result: ScanResult) -> list[tuple[IPv4Address, list[str]]]:
    holders: dict[IPv4Address, list[str]] = defaultdict(list)
    for host in result.hosts:
        label = host.device.label if host.device else ""
        holders[host.address].append(f"{label} ({host.mac})" if label else str(host.mac))
    return [(address, whom) for address, whom in sorted(holders.items()) if len(whom) > 1]
