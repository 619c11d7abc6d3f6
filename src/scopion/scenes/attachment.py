"""The attachment of a machine that stands in a scene."""

from __future__ import annotations

from datetime import datetime

from scopion.attachment.ports import Datagrams, Interface, Link, Neighbour, Rights
from scopion.model.errors import InterfaceLost
from scopion.scenes.scene import Scene, SceneHost
from scopion.scenes.segment import SceneClock, SceneDatagrams, SceneLink, Segment


class SceneAttachment:
    """Implements ``Attachment`` for a scene at a moment of its story."""

    def __init__(self, scene: Scene, at: datetime) -> None:
        self.scene = scene
        self.clock = SceneClock(at)
        # What chance does differs from moment to moment, and is the same each time a moment is played.
        seed = scene.seed ^ int(at.timestamp())
        self._segments = {
            interface.index: Segment(_reached(scene.hosts, interface), self.clock, seed + interface.index)
            for interface in scene.interfaces
        }
        self._datagrams: dict[int, SceneDatagrams] = {}

    def interfaces(self) -> tuple[Interface, ...]:
        """The interfaces that the scene file describes."""
        return self.scene.interfaces

    def rights(self) -> Rights:
        """Everything is permitted on a made-up network."""
        return Rights(raw_frames=True)

    def open_link(self, interface: Interface) -> Link:
        """Frames into the interface's segment."""
        return SceneLink(self._segment(interface), interface)

    def open_datagrams(self, interface: Interface) -> Datagrams:
        """Datagrams into it; one table an interface, as a kernel keeps it."""
        segment = self._segment(interface)
        return self._datagrams.setdefault(interface.index, SceneDatagrams(segment))

    def neighbours(self, interface: Interface) -> tuple[Neighbour, ...]:
        """The table that the touches so far have filled."""
        self._segment(interface)
        known = self._datagrams.get(interface.index)
        return known.table() if known else ()

    def _segment(self, interface: Interface) -> Segment:
        if interface.index not in self._segments or not interface.up:
            raise InterfaceLost(f"{interface.name} is down: choose another with --interface, see scopion here")
        return self._segments[interface.index]


def _reached(hosts: tuple[SceneHost, ...], interface: Interface) -> list[SceneHost]:
    """The hosts whose addresses lie in the interface's subnets."""
    return [host for host in hosts if any(interface.address_in(period.address) for period in host.periods)]
