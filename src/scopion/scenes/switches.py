"""The switches of a made-up site: what each has learned at its ports, by which hosts are there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from ipaddress import IPv4Address

from scopion.attachment.ports import SwitchAccess
from scopion.model.errors import SwitchUnreadable
from scopion.model.observation import Medium
from scopion.model.wires import Learned, LldpNeighbour, PortCounters, SwitchPort, SwitchReading
from scopion.scenes.scene import Period, Scene, SceneHost, SceneSwitch
from scopion.scenes.traffic import octets_of

_RUNS_BEFORE = timedelta(days=1)  # before the story begins


def read_scene_switch(scene: Scene, access: SwitchAccess, here: Sequence[SceneHost], now: datetime) -> SwitchReading:
    """Return what a switch tells while some hosts are ``here``. Raises SwitchUnreadable."""
    address = access.snmp.address
    switch = next((each for each in scene.switches if each.address == address), None)
    if switch is None:
        raise SwitchUnreadable(f"{access.name} ({address}) does not answer SNMP: is that the switch's address?")
    began = scene.moments[0].at - _RUNS_BEFORE
    learned = [Learned(host.mac, port) for host, port in _at_ports(scene, switch, [*_desk(scene), *here])]
    learned += [
        Learned(other.mac, port)
        for other in scene.switches
        if other is not switch and (port := _port_towards(scene, switch, other.name, ""))
    ]
    used = {each.port for each in learned}
    passed = {str(number): [0, 0] for number in range(1, switch.ports + 1)}
    for host, port in _at_ports(scene, switch, [*_desk(scene), *scene.hosts]):
        for way, octets in enumerate(octets_of(host, began, now)):
            passed[port][way] += octets
    return SwitchReading(
        switch=access.name,
        name=switch.name,
        uptime=round((now - began).total_seconds() * 100),
        macs=frozenset({switch.mac}),
        ports=tuple(
            SwitchPort(
                port,
                int(port),
                alias=switch.said.get(port, ""),
                speed_mbit=switch.slow.get(port, 1000) if port in used else 0,
                up=port in used,
                counters=PortCounters(received, sent, errors=0),
            )
            for port, (received, sent) in passed.items()
        ),
        learned=tuple(learned),
        neighbours=tuple(_neighbours(scene, switch, here)),
    )


def _desk(scene: Scene) -> list[SceneHost]:
    """Return the interfaces of the machine at the desk as hosts at their ports."""
    own = {each.name: each.mac for each in scene.interfaces if each.mac is not None}
    return [
        SceneHost(name, own[name], Medium.CABLE, (Period(IPv4Address(0)),), switch=each.name, port=port)
        for each in scene.switches
        for port, name in each.this_machine.items()
        if name in own
    ]


def _at_ports(scene: Scene, switch: SceneSwitch, hosts: Sequence[SceneHost]) -> Iterator[tuple[SceneHost, str]]:
    """Yield the hosts with the port at which a switch learns each; without those that are elsewhere."""
    for host in hosts:
        if port := _port_towards(scene, switch, *_hangs(scene, host)):
            yield host, port


def _hangs(scene: Scene, host: SceneHost) -> tuple[str, str]:
    """Return the switch and the port at which a host hangs: by its own cable, or by that of the access point."""
    if host.port:
        return host.switch, host.port
    point = scene.access_point
    if host.radios and point is not None:
        carrier = next((each for each in scene.hosts if each.name == point.host), None)
        return (carrier.switch, carrier.port) if carrier is not None else ("", "")
    return "", ""


def _port_towards(scene: Scene, switch: SceneSwitch, other: str, port: str) -> str:
    """Return at which port a switch learns what hangs on another; empty if they are not connected."""
    if other == switch.name:
        return port
    switches = {each.name: each for each in scene.switches}
    waiting = [(far, own) for own, far in switch.leads_to.items()]
    met = {switch.name}
    while waiting:
        far, own = waiting.pop(0)
        if far == other:
            return own
        if far in switches and far not in met:
            met.add(far)
            waiting += [(further, own) for further in switches[far].leads_to.values()]
    return ""


def _neighbours(scene: Scene, switch: SceneSwitch, here: Sequence[SceneHost]) -> Iterator[LldpNeighbour]:
    point = scene.access_point.host if scene.access_point is not None else ""
    for host in here:
        if host.lldp and host.switch == switch.name:
            radio = bool(point) and host.name == point
            yield LldpNeighbour(host.port, host.lldp, frozenset({host.mac}), bridges=radio, radio=radio)
