"""The live attachment on Linux: interfaces and routes from the kernel, sockets for frames and datagrams."""

from __future__ import annotations

import socket
import struct
import sys
from contextlib import suppress
from ipaddress import IPv4Address, IPv4Interface, IPv6Interface, ip_address
from pathlib import Path

from scopion.attachment.linux import netlink
from scopion.attachment.live_lock import require_unlocked
from scopion.attachment.permission import packet_socket
from scopion.attachment.ports import (
    Datagrams,
    Interface,
    Link,
    Neighbour,
    NeighbourState,
    Rights,
    Traffic,
)
from scopion.attachment.system_clock import SystemClock
from scopion.attachment.system_sockets import SystemSockets
from scopion.model.address import Address, parse_address
from scopion.model.errors import NotPermitted
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.model.text import clean

_RESOLV_CONF = Path("/etc/resolv.conf")
_ETHERNET = 1  # ARPHRD_ETHER
_UP, _LOOPBACK, _NOARP, _RUNNING = 0x1, 0x8, 0x80, 0x40
_IFLA_ADDRESS, _IFLA_IFNAME, _IFLA_LINKINFO, _IFLA_INFO_KIND = 1, 3, 18, 1
_IFLA_CARRIER_CHANGES = 35
_IFA_ADDRESS, _IFA_LOCAL = 1, 2
_IFA_NOT_READY = 0x48  # tentative, or in use by another host (RFC 4862, 5.4)
_RTA_OIF, _RTA_GATEWAY, _RTA_PRIORITY = 4, 5, 6
_MAIN_TABLE, _UNICAST = 254, 1
_NDA_DST, _NDA_LLADDR = 1, 2
_STATES = {  # NUD_* of linux/neighbour.h
    0x01: NeighbourState.CHECKING,  # incomplete: the first question was sent
    0x02: NeighbourState.REACHABLE,
    0x04: NeighbourState.STALE,
    0x08: NeighbourState.CHECKING,  # delay: a question follows unless the entry is confirmed
    0x10: NeighbourState.CHECKING,  # probe
    0x20: NeighbourState.FAILED,
    0x40: NeighbourState.FIXED,  # noarp
    0x80: NeighbourState.FIXED,  # permanent
}


class LiveAttachment(SystemSockets):
    """This machine's real network. Raises LiveNetworkLocked if the lock forbids it."""

    def __init__(self) -> None:
        require_unlocked()
        self.clock = SystemClock()

    def interfaces(self) -> tuple[Interface, ...]:
        """Return all interfaces but loopback, from three of the kernel's tables."""
        addresses = _addresses()
        gateways = _gateways()
        found = []
        for record in netlink.dump(netlink.RTM_GETLINK, socket.AF_UNSPEC):
            _, kind, index, flags, _ = struct.unpack("=HHiII", record.fixed)
            if flags & _LOOPBACK:
                continue
            name = clean(record.attributes[_IFLA_IFNAME].rstrip(b"\0").decode(errors="replace"))
            link = netlink.attributes(record.attributes.get(_IFLA_LINKINFO, b""))
            virtual = link.get(_IFLA_INFO_KIND, b"").rstrip(b"\0").decode(errors="replace")
            octets = record.attributes.get(_IFLA_ADDRESS, b"")
            ethernet = kind == _ETHERNET and not flags & _NOARP and len(octets) == 6
            known = addresses.get(index, ())
            medium = _medium(name, virtual, ethernet)
            gateway, metric = gateways.get(index, (None, 0))
            found.append(
                Interface(
                    name=name,
                    index=index,
                    mac=MacAddress(octets) if ethernet else None,
                    addresses=tuple(each for each in known if isinstance(each, IPv4Interface)),
                    ipv6=tuple(each for each in known if isinstance(each, IPv6Interface)),
                    up=bool(flags & _UP and flags & _RUNNING),
                    medium=medium,
                    mhz=_frequency(index) if medium is Medium.WIRELESS else None,
                    virtual=virtual if ethernet else virtual or "tunnel",
                    gateway=gateway,
                    metric=metric,
                    carrier_changes=int.from_bytes(record.attributes.get(_IFLA_CARRIER_CHANGES, b""), sys.byteorder),
                )
            )
        return tuple(found)

    def rights(self) -> Rights:
        """Tell whether a packet socket may be opened, by opening one."""
        require_unlocked()
        try:
            packet_socket().close()
        except NotPermitted as refused:
            return Rights(raw_frames=False, how_to_get_more=str(refused))
        return Rights(raw_frames=True)

    def open_link(self, interface: Interface, traffic: Traffic = Traffic.ANSWERS) -> Link:
        """Open a packet socket."""
        from scopion.attachment.linux.packet_link import PacketLink

        require_unlocked()
        return PacketLink(interface, traffic)

    def open_datagrams(self, interface: Interface) -> Datagrams:
        """Open a UDP socket."""
        from scopion.attachment.linux.udp_touch import UdpTouch

        require_unlocked()
        return UdpTouch(interface)

    def resolvers(self) -> tuple[Address, ...]:
        """Return what resolv.conf names (resolv.conf(5)); nothing if it cannot be read."""
        return read_resolvers(_RESOLV_CONF)

    def neighbours(self, interface: Interface) -> tuple[Neighbour, ...]:
        """Return the kernel's neighbour tables for an interface, of both versions."""
        require_unlocked()
        found = []
        for record in netlink.dump(netlink.RTM_GETNEIGH, socket.AF_UNSPEC, interface.index):
            index, state = struct.unpack_from("=iH", record.fixed, 4)
            address, octets = record.attributes.get(_NDA_DST, b""), record.attributes.get(_NDA_LLADDR, b"")
            if index == interface.index and state in _STATES and len(address) in (4, 16):
                mac = MacAddress(octets) if len(octets) == 6 else None
                found.append(Neighbour(ip_address(address), mac, _STATES[state]))
        return tuple(found)


def _frequency(index: int) -> int | None:
    from scopion.attachment.linux.wireless import frequency_of  # most machines that look after a network are on cable

    return frequency_of(index)


def read_resolvers(path: Path) -> tuple[Address, ...]:
    """Return the name servers of a resolv.conf, in its order."""
    found = []
    with suppress(OSError, UnicodeDecodeError):
        for line in path.read_text(encoding="utf-8").splitlines():
            words = line.split()
            with suppress(ValueError):
                found += [parse_address(words[1])] if words[:1] == ["nameserver"] and len(words) > 1 else []
    return tuple(found)


def _medium(name: str, virtual: str, ethernet: bool) -> Medium:
    # The kernel's wireless stack marks its interfaces here. A bridge may have wireless ports, so its medium stays
    # unknown.
    marks = ("phy80211", "wireless")
    if any(Path("/sys/class/net", name, mark).exists() for mark in marks):
        return Medium.WIRELESS
    return Medium.CABLE if ethernet and virtual in ("", "vlan", "macvlan") else Medium.UNKNOWN


def _addresses() -> dict[int, list[IPv4Interface | IPv6Interface]]:
    found: dict[int, list[IPv4Interface | IPv6Interface]] = {}
    for record in netlink.dump(netlink.RTM_GETADDR, socket.AF_UNSPEC):
        _, prefix, flags, _, index = struct.unpack("=BBBBI", record.fixed)
        local = record.attributes.get(_IFA_LOCAL) or record.attributes.get(_IFA_ADDRESS) or b""
        if len(local) == 4:
            found.setdefault(index, []).append(IPv4Interface((local, prefix)))
        elif len(local) == 16 and not flags & _IFA_NOT_READY:
            found.setdefault(index, []).append(IPv6Interface((local, prefix)))
    return found


def _gateways() -> dict[int, tuple[IPv4Address, int]]:
    """Return for each interface the next hop of its default route with the lowest metric, and the metric."""
    found: dict[int, tuple[IPv4Address, int]] = {}
    for record in netlink.dump(netlink.RTM_GETROUTE, socket.AF_INET):
        length, table, kind = record.fixed[1], record.fixed[4], record.fixed[7]
        hop, out = record.attributes.get(_RTA_GATEWAY), record.attributes.get(_RTA_OIF)
        if length or table != _MAIN_TABLE or kind != _UNICAST or not hop or not out:
            continue
        index = int.from_bytes(out, sys.byteorder)
        metric = int.from_bytes(record.attributes.get(_RTA_PRIORITY, b""), sys.byteorder)
        if index not in found or metric < found[index][1]:
            found[index] = (IPv4Address(hop), metric)
    return found
