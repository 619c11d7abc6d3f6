"""The attachment of a machine that stands in a scene."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from ipaddress import IPv4Address
from pathlib import Path

from scopion.attachment.ports import (
    Connector,
    Datagrams,
    EchoLine,
    HearingLine,
    Interface,
    Link,
    Mailbox,
    Neighbour,
    NeighbourState,
    Rights,
    Shell,
    SnmpAccess,
    SshAccess,
    SwitchAccess,
    Traffic,
)
from scopion.model.address import Address
from scopion.model.errors import EnforcerUnreachable, InterfaceLost, RouterUnreadable
from scopion.model.wires import SwitchReading
from scopion.scenes.access_point import AccessPoint, SceneControlLine
from scopion.scenes.asking_points import AskingPoints, RadiusServer
from scopion.scenes.datagrams import SceneConnector, SceneDatagrams, SceneEcho, SceneMailbox
from scopion.scenes.scene import Scene, SceneHost
from scopion.scenes.scene_clock import SceneClock
from scopion.scenes.scene_files import SceneShell
from scopion.scenes.segment import SceneLink, Segment
from scopion.scenes.switches import read_scene_switch
from scopion.scenes.voices import talk


class SceneAttachment:
    """Implements ``Attachment`` for a scene at a moment of its story."""

    def __init__(
        self,
        scene: Scene,
        at: datetime,
        folder: Path | None = None,
        server: Callable[[], RadiusServer | None] = lambda: None,
    ) -> None:
        """Stand in a scene; ``server`` is asked by access points that ask by RADIUS."""
        self.scene = scene
        self.clock = SceneClock(at)
        self._folder = folder
        self._access_point: AccessPoint | None = None
        if scene.access_point is not None:
            self._access_point = AccessPoint(scene.access_point, self.clock, folder)
            self._access_point.look_after(scene.hosts)
        self.asking_points = AskingPoints(scene.asking_points, self.clock, server, folder)
        self.asking_points.look_after(scene.hosts)
        admits = self._admits
        # Chance differs from moment to moment, and is the same each time a moment is played.
        seed = scene.seed ^ int(at.timestamp())
        self._segments = {
            interface.index: Segment(_reached(scene.hosts, interface), self.clock, seed + interface.index, admits)
            for interface in scene.interfaces
        }
        self._everywhere = Segment(scene.hosts, self.clock, seed, admits)
        self._datagrams: dict[int, SceneDatagrams] = {}

    def _admits(self, host: SceneHost) -> bool:
        """Tell whether access points let a host onto the network; one on cable is."""
        if self._access_point is not None and not self._access_point.admits(host):
            return False
        return self.asking_points.admits(host)

    def interfaces(self) -> tuple[Interface, ...]:
        """Return the interfaces that the scene file describes."""
        return self.scene.interfaces

    def rights(self) -> Rights:
        """Return all rights: everything is permitted on a made-up network."""
        return Rights(raw_frames=True)

    def open_link(self, interface: Interface, traffic: Traffic = Traffic.ANSWERS) -> Link:
        """Open frames into the interface's segment."""
        segment = self._segment(interface)
        if traffic is Traffic.TALK and interface.gateway is not None:
            segment.announce(talk(segment.present(), interface.gateway, segment.chance))
        if traffic is Traffic.TALK:
            segment.announce_comings()
        return SceneLink(segment, interface)

    def open_datagrams(self, interface: Interface) -> Datagrams:
        """Open datagrams into it; each interface has one table, as in a kernel."""
        return self._table(interface)

    def open_mailbox(self, interface: Interface | None) -> Mailbox:
        """Open questions to an interface's hosts, or to the name server alone."""
        segment = self._segment(interface) if interface is not None else self._everywhere
        return SceneMailbox(segment, self.resolvers())

    def open_echo(self) -> EchoLine:
        """Open echo to every host of the scene, also beyond a router."""
        return SceneEcho(self._everywhere, self._resolve, self._segment)

    def open_connector(self) -> Connector:
        """Open connections to every host of the scene."""
        return SceneConnector(self._everywhere, self._resolve)

    def router_table(self, access: SnmpAccess) -> tuple[Neighbour, ...]:
        """Return what the made-up router would have in its table: all hosts that are there."""
        if access.address not in self.resolvers():
            raise RouterUnreadable(f"{access.address} does not answer SNMP: is that the router's address?")
        everybody = ((address, host.mac) for host, address in self._everywhere.present() if address is not None)
        return tuple(Neighbour(address, mac, NeighbourState.REACHABLE) for address, mac in everybody)

    def switch(self, access: SwitchAccess) -> SwitchReading:
        """Return what a made-up switch tells now."""
        here = [host for host, _ in self._everywhere.present()]
        return read_scene_switch(self.scene, access, here, self.clock.now())

    def resolvers(self) -> tuple[Address, ...]:
        """Return the gateways: they answer for the names of a made-up site."""
        return tuple(each.gateway for each in self.scene.interfaces if each.gateway is not None)

    def neighbours(self, interface: Interface) -> tuple[Neighbour, ...]:
        """Return the table that the touches so far have filled."""
        self._segment(interface)
        known = self._datagrams.get(interface.index)
        return known.table() if known else ()

    def open_control(self, path: str) -> HearingLine:
        """Open the socket of the made-up access point. Raises EnforcerUnreachable if the scene has none."""
        if self._access_point is None:
            raise EnforcerUnreachable("this made-up site has no access point")
        return SceneControlLine(self._access_point, path)

    def open_shell(self, ssh: SshAccess | None = None) -> Shell:
        """Open the files in the story's folder, and the made-up access point."""
        return SceneShell(self._folder, self.open_control)

    def _table(self, interface: Interface) -> SceneDatagrams:
        return self._datagrams.setdefault(interface.index, SceneDatagrams(self._segment(interface)))

    def _resolve(self, address: Address) -> None:
        """Make the system look for the neighbour, as every packet to an address of a link does."""
        for interface in self.scene.interfaces:
            if interface.up and isinstance(address, IPv4Address) and interface.address_in(address):
                self._table(interface).resolve(address)

    def _segment(self, interface: Interface) -> Segment:
        if interface.index not in self._segments or not interface.up:
            raise InterfaceLost(f"{interface.name} is down: choose another with --interface, see scopion here")
        return self._segments[interface.index]


def _reached(hosts: tuple[SceneHost, ...], interface: Interface) -> list[SceneHost]:
    """Return the hosts whose addresses are in the interface's subnets."""
    return [
        host
        for host in hosts
        if any(interface.address_in(period.address) for period in host.periods)
        or (not host.periods and any(interface.ipv6_towards(address) for address in host.ipv6))
    ]
