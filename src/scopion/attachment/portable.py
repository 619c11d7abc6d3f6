"""The attachment on macOS and Windows: no raw frames, touches by plain datagrams, and the system's own listings.

It is written after the documented output of the systems' commands and tested on samples of it; it has not run there.
"""

from __future__ import annotations

import re
import socket
import subprocess
import sys
from collections.abc import Mapping
from contextlib import suppress
from ipaddress import IPv4Address, IPv4Interface, IPv6Address, IPv6Interface

from scopion.attachment.live_lock import require_unlocked
from scopion.attachment.neighbour_text import read_neighbours
from scopion.attachment.ports import (
    Datagrams,
    Interface,
    Link,
    Neighbour,
    Rights,
    Traffic,
)
from scopion.attachment.system_clock import SystemClock
from scopion.attachment.system_sockets import SystemSockets
from scopion.model.address import Address, parse_address
from scopion.model.errors import InvalidMacAddress, NotPermitted
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium

_NO_RAW_FRAMES = "raw frames work on Linux only so far"
# The commands whose output is read. They print tables and end at once.
_LISTINGS: Mapping[str, tuple[tuple[str, ...], ...]] = {
    "darwin": (("arp", "-an"), ("ndp", "-an")),
    "win32": (("arp", "-a"), ("netsh", "interface", "ipv6", "show", "neighbors")),
}
_ROUTES: Mapping[str, tuple[str, ...]] = {
    "darwin": ("netstat", "-rn", "-f", "inet"),
    "win32": ("route", "print", "-4", "0.0.0.0"),
}
_COMMAND_S = 10.0


class PortableAttachment(SystemSockets):
    """This machine's real network, as far as any system shows it."""

    def __init__(self, platform: str = sys.platform) -> None:
        self._platform = platform
        self.clock = SystemClock()

    def interfaces(self) -> tuple[Interface, ...]:
        """Return all interfaces but loopback, by psutil."""
        import psutil

        require_unlocked()
        stats = psutil.net_if_stats()
        gateways = read_gateways(_output(_ROUTES.get(self._platform, ())))
        found = []
        for index, (name, addresses) in enumerate(psutil.net_if_addrs().items(), 1):
            macs = [_mac(address.address, address.family) for address in addresses]
            own = [each for address in addresses if (each := _own(address.address, address.netmask or ""))]
            ipv4 = tuple(each for each in own if isinstance(each, IPv4Interface) and not each.ip.is_loopback)
            if any(each.ip.is_loopback for each in own):
                continue
            gateway = next((each for each in gateways if any(each in one.network for one in ipv4)), None)
            found.append(
                Interface(
                    name=name,
                    index=_index(name, index),
                    mac=next(filter(None, macs), None),
                    addresses=ipv4,
                    up=bool(name in stats and stats[name].isup),
                    medium=Medium.UNKNOWN,
                    gateway=gateway,
                    ipv6=tuple(each for each in own if isinstance(each, IPv6Interface)),
                )
            )
        return tuple(found)

    def rights(self) -> Rights:
        """Return that only touching and asking are possible."""
        return Rights(raw_frames=False, how_to_get_more=_NO_RAW_FRAMES)

    def open_link(self, interface: Interface, traffic: Traffic = Traffic.ANSWERS) -> Link:
        """Raise NotPermitted: there are no raw frames."""
        raise NotPermitted(f"{_NO_RAW_FRAMES}: take the method touch")

    def open_datagrams(self, interface: Interface) -> Datagrams:
        """Return a plain UDP socket."""
        from scopion.attachment.plain_touch import PlainTouch

        require_unlocked()
        return PlainTouch(interface)

    def resolvers(self) -> tuple[Address, ...]:
        """Return the gateway only: the system's own name servers are not read here."""
        return ()

    def neighbours(self, interface: Interface) -> tuple[Neighbour, ...]:
        """Return the system's listing, limited to the interface's subnets."""
        text = "\n".join(_output(command) for command in _LISTINGS.get(self._platform, ()))
        return tuple(
            each.neighbour
            for each in read_neighbours(text)
            if (
                interface.ipv6_towards(each.address)
                if isinstance(each.address, IPv6Address)
                else interface.address_in(each.address)
            )
        )


def read_gateways(text: str) -> list[IPv4Address]:
    """Return the next hops of the default routes in ``netstat -rn`` (macOS) or ``route print`` (Windows), in their
    order.
    """
    found = []
    for line in text.splitlines():
        words = line.split()
        if words[:1] == ["default"] and len(words) > 1:
            hop = words[1]
        elif words[:2] == ["0.0.0.0", "0.0.0.0"] and len(words) > 2:
            hop = words[2]
        else:
            continue
        with suppress(ValueError):
            found.append(IPv4Address(hop))
    return found


def _output(command: tuple[str, ...]) -> str:
    """Return what a command of the system prints; empty if there is no such command."""
    if not command:
        return ""
    require_unlocked()
    with suppress(OSError, subprocess.SubprocessError):
        ended = subprocess.run(command, capture_output=True, timeout=_COMMAND_S, check=False)
        return ended.stdout.decode(errors="replace")
    return ""


def _mac(text: str, family: int) -> MacAddress | None:
    if family in (socket.AF_INET, socket.AF_INET6) or not re.fullmatch(r"[0-9A-Fa-f]{2}([:-][0-9A-Fa-f]{2}){5}", text):
        return None
    with suppress(InvalidMacAddress):
        return MacAddress.parse(text)
    return None


def _own(text: str, netmask: str) -> IPv4Interface | IPv6Interface | None:
    """Return an address with its prefix; psutil gives the mask of IPv6 as an address, or not at all."""
    with suppress(ValueError):
        address = parse_address(text)
        if address.version == 4:
            return IPv4Interface(f"{address}/{netmask or 32}")
        prefix = int(IPv6Address(netmask)).bit_count() if netmask else 64
        return IPv6Interface(f"{address}/{prefix}")
    return None


def _index(name: str, otherwise: int) -> int:
    try:
        return socket.if_nametoindex(name)
    except OSError:
        return otherwise
