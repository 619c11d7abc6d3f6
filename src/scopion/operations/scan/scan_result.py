"""The result of a scan: the hosts as rows, and the notes that a person wants to be told."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Network

from scopion.attachment.choose import Choice
from scopion.discovery.probing import Method
from scopion.discovery.runner import Findings
from scopion.model.address import Address
from scopion.model.device import Device, Event, EventKind
from scopion.model.observation import TraitKind
from scopion.model.targets import Targets
from scopion.model.text import joined
from scopion.operations.scan.describe_hosts import Host
from scopion.operations.scan.recognise_network import Recognition
from scopion.roster.folding.find_contests import claimants, speakers

# Less loss than this is not worth a word.
WORTH_TELLING_LOSS = 0.05
_DHCP_SERVER = (TraitKind.ROLE, "dhcp-server")
_DHCP_HEARD_WITHIN = timedelta(days=1)


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
    memory_lost: str | None  # the damaged roster's new name, if the roster was lost
    doubt: str  # why no absence was decided; empty: it was
    calls_ipv6: bool  # whether IPv6-only hosts were called
    not_remembered: str  # why the roster could not take it in; empty if it did, or was not asked to
    ports: Mapping[Address, Mapping[int, str]] = field(
        default_factory=dict
    )  # what was said at each port that was tried

    @property
    def range(self) -> str:
        """Return what was scanned, in words: the subnet if all of it was."""
        return str(self.subnet if self.targets.covers(self.subnet) else self.targets)

    @property
    def answered(self) -> int:
        """Return how many of the asked addresses answered."""
        return self.findings.answered


def notes(result: ScanResult) -> list[str]:
    """Return notes for the person at the desk beside the rows, the most important first."""
    told = [
        f"{address} is claimed by {joined(macs)}: {len(macs)} adapters use one address"
        for address, macs in _contests(result)
        if not any(event.kind is EventKind.CONTESTED and event.address == address for event in result.events)
    ]
    for mac, count in speakers(result.findings.observations).items():
        told.append(
            f"{mac} answered for {count} addresses: a proxy, a repeater, or a machine with many addresses. They are "
            "one adapter on this network, and denying it would hit all that is behind it"
        )
    told += _odd_roles(result)
    told += result.findings.remarks
    others = [host for host in result.hosts if not host.own]
    asked = result.findings.heard is None
    alone = asked and result.findings.completed and result.targets.covers(result.subnet)
    if alone and others and all(host.gateway for host in others):
        told.append(
            "only the gateway answered: clients may be isolated from each other here, as guest networks do, "
            "so this says nothing about who else is connected"
        )
    if alone and not others:
        told.append(
            "no device answered, not even a gateway, so no device counts as gone: is this the right interface? "
            "see scopion here"
        )
    if result.doubt and others:
        told.append(f"{result.doubt}: no device counts as gone yet, a scan some minutes from now decides")
    if result.findings.loss >= WORTH_TELLING_LOSS:
        told.append(
            f"about {result.findings.loss * 100:.0f} % of the answers were lost, so {result.findings.rounds} rounds "
            "were needed"
        )
    return told


def _odd_roles(result: ScanResult) -> list[str]:
    """Return notes on several DHCP servers, and on adapters that several routers share."""
    servers = {
        host.mac: f"{host.name or host.mac} at {host.address}"
        for host in result.hosts
        if host.mac and _gives_out_addresses(host, result)
    }
    told = []
    if len(servers) > 1:
        told.append(
            f"{joined(list(servers.values()))} give out addresses (DHCP): unless that is meant, one of them sends "
            "people the wrong way; often it is a second router, plugged in by the wrong socket"
        )
    for host in result.hosts:
        if host.mac and host.mac.is_virtual_router:
            told.append(f"{host.address} belongs to {host.mac}, which several routers share (VRRP or its like)")
    return told


def _gives_out_addresses(host: Host, result: ScanResult) -> bool:
    """Tell whether it was heard as a DHCP server now or within a day: it may have been repaired since."""
    heard = [trait for seen in result.findings.observations if seen.mac == host.mac for trait in seen.traits]
    since = result.started - _DHCP_HEARD_WITHIN
    heard += [each.trait for each in host.device.traits if each.last_seen > since] if host.device else []
    return any((trait.kind, trait.value) == _DHCP_SERVER for trait in heard)


def _contests(result: ScanResult) -> list[tuple[Address, list[str]]]:
    labels = {host.mac: host.name for host in result.hosts if host.mac}
    return [
        (address, [f"{labels[mac]} ({mac})" if labels.get(mac) else str(mac) for mac in macs])
        for address, macs in sorted(claimants(result.findings.observations).items())
    ]
