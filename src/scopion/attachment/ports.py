"""The protocols that the live network and a scene both implement, and their values.

No room above this one opens a socket or asks the system about interfaces: it uses an ``Attachment``.
"""

from __future__ import annotations

import errno
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Interface
from pathlib import Path
from typing import Protocol

from scopion.model.address import Address
from scopion.model.broker_keys import BrokerKeys
from scopion.model.clock import Clock
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.model.wires import SwitchReading


@dataclass(frozen=True, slots=True)
class Interface:
    """A network interface of this machine, as it is now."""

    name: str
    index: int
    mac: MacAddress | None  # None: not an Ethernet-like interface
    addresses: tuple[IPv4Interface, ...]
    up: bool  # switched on and with a carrier, so that frames get out
    medium: Medium
    virtual: str = ""  # the kind of virtual interface (bridge, veth, tunnel...); empty for a real one
    gateway: IPv4Address | None = None  # the next hop of its default route
    metric: int = 0  # of that route: the system prefers the lowest metric
    mhz: int | None = None  # the frequency of its radio; None: it has none, or the system does not tell
    carrier_changes: int = 0  # how often its cable or radio link came or went; 0 if the system does not tell
    ipv6: tuple[IPv6Interface, ...] = ()  # only those that are ready for use

    @property
    def can_resolve(self) -> bool:
        """Tell whether ARP works here: Ethernet-like, up, with an IPv4 address."""
        return self.mac is not None and self.up and bool(self.addresses)

    @property
    def subnets(self) -> tuple[IPv4Network, ...]:
        """Return the attached subnets, without those of a single address."""
        return tuple(dict.fromkeys(each.network for each in self.addresses if each.network.prefixlen < 32))

    def address_in(self, address: IPv4Address) -> IPv4Address | None:
        """Return this machine's own address in the subnet of ``address``."""
        return next((each.ip for each in self.addresses if address in each.network), None)

    def reaches(self, address: Address) -> bool:
        """Tell whether an address is on this interface's own link; others are reached through a router."""
        if isinstance(address, IPv6Address):
            return self.ipv6_towards(address) is not None
        return self.address_in(address) is not None

    def ipv6_towards(self, address: IPv6Address) -> IPv6Address | None:
        """Return this machine's own address on the link of an IPv6 address; None if that is another link."""
        return next((each.ip for each in self.ipv6 if address in each.network), None)


class NeighbourState(StrEnum):
    """How far the system's neighbour table trusts an entry (RFC 4861, 7.3.2, which IPv4 follows too)."""

    REACHABLE = "reachable"  # confirmed a moment ago
    STALE = "stale"  # was confirmed once
    CHECKING = "checking"  # being confirmed now
    FAILED = "failed"  # asked several times, no answer
    FIXED = "fixed"  # entered by hand


@dataclass(frozen=True, slots=True)
class Neighbour:
    """One entry of the system's neighbour table. ``mac`` is None while it is not known."""

    address: Address
    mac: MacAddress | None
    state: NeighbourState


@dataclass(frozen=True, slots=True)
class Rights:
    """What this user may do on the network."""

    raw_frames: bool
    how_to_get_more: str = ""  # one line of advice; empty if there is no more to get


@dataclass(frozen=True, slots=True)
class ReceivedFrame:
    """A frame and the monotonic time at which it arrived, as near to the wire as the system tells."""

    frame: bytes
    at: float


class Traffic(StrEnum):
    """Which frames a link lets through."""

    ANSWERS = "answers"  # frames that tell which adapter has an address: ARP, neighbour discovery, ICMPv6 echo replies
    TALK = "talk"  # also what devices say of themselves: DHCP, multicast DNS, NetBIOS, LLMNR, SSDP


class Link(Protocol):
    """Raw frames on one interface, through a filter."""

    def send(self, frame: bytes) -> None:
        """Put a frame on the wire. Raises InterfaceLost."""

    def receive(self, deadline: float) -> ReceivedFrame | None:
        """Return the next frame, or None once the monotonic ``deadline`` has passed. Raises InterfaceLost."""

    def dropped(self) -> int:
        """Return how many frames were lost since the last call because they were not read quickly enough."""

    def close(self) -> None:
        """Close the socket; a second call does nothing."""


class Datagrams(Protocol):
    """Harmless datagrams that make the system look for a neighbour. They need no privilege."""

    def touch(self, address: Address) -> bool:
        """Send one empty datagram. Returns False if the system has no room for it now."""

    def refusals(self) -> tuple[tuple[Address, float], ...]:
        """Return the hosts that have refused a datagram since the last call (so they are there), with the monotonic
        time.
        """

    def wait(self, deadline: float) -> None:
        """Return when something may have been refused, at the latest at the monotonic ``deadline``."""

    def close(self) -> None:
        """Close the socket; a second call does nothing."""


@dataclass(frozen=True, slots=True)
class Letter:
    """A datagram, its sender, and the monotonic time at which it was read."""

    payload: bytes
    sender: Address
    port: int
    at: float


class Mailbox(Protocol):
    """Questions and answers by UDP, to single hosts and to groups. They need no privilege."""

    def send(self, payload: bytes, address: Address, port: int) -> bool:
        """Send one datagram. Returns False if it cannot leave now, or there is no route to the address."""

    def receive(self, deadline: float) -> Letter | None:
        """Return the next datagram, or None once the monotonic ``deadline`` has passed."""

    def close(self) -> None:
        """Close the sockets; a second call does nothing."""


class EchoLine(Protocol):
    """ICMP echo to hosts near and far."""

    def send(self, address: Address, interface: Interface | None = None) -> bool:
        """Send one request. Returns False if it cannot leave now, or there is no route to the address.

        An address or group that is valid on one link only needs the link's interface.
        """

    def replies(self, deadline: float) -> tuple[tuple[Address, float], ...]:
        """Return the hosts that have replied since the last call, with the monotonic time; wait until ``deadline`` for
        one.
        """

    def close(self) -> None:
        """Close the sockets; a second call does nothing."""


@dataclass(frozen=True, slots=True)
class Connected:
    """The result of an attempt to connect: accepted, or refused by the host itself."""

    address: Address
    port: int
    accepted: bool
    at: float


class Connector(Protocol):
    """TCP connections that are closed as soon as they are open. They need no privilege."""

    def start(self, address: Address, port: int) -> bool:
        """Begin to connect. Returns False if there is no room for another attempt now."""

    def results(self, deadline: float) -> tuple[Connected, ...]:
        """Return the results since the last call; wait until ``deadline`` for the first. Silence gives no result."""

    def close(self) -> None:
        """End all attempts; a second call does nothing."""


@dataclass(frozen=True, slots=True)
class SnmpAccess:
    """How to read the tables of a router or switch over SNMP. It holds secrets and is never shown."""

    address: Address
    port: int = 161
    version: str = "2c"  # or 3
    community: str = field(default="", repr=False)
    user: str = ""
    authentication: tuple[str, str] | None = field(default=None, repr=False)  # protocol and key
    privacy: tuple[str, str] | None = field(default=None, repr=False)


@dataclass(frozen=True, slots=True)
class SwitchAccess:
    """How to read a switch."""

    name: str
    snmp: SnmpAccess
    vlans: tuple[int, ...] = ()  # VLANs whose forwarding table it gives only if they are asked for by name
    only_counters: bool = False  # its ports with what they count, and none of the other tables


@dataclass(frozen=True, slots=True)
class SshAccess:
    """How to log in to an access point or a router over SSH. It holds the password and is never shown."""

    host: str
    port: int = 22
    user: str = "root"
    key: str = ""  # a private key's file; empty: the user's own keys and agent
    password: str = field(default="", repr=False)
    known_hosts: str = ""  # a file with known host keys; empty: the user's own file

    def __str__(self) -> str:
        """Return account and host, as a message names them."""
        return f"{self.user}@{self.host}" + (f":{self.port}" if self.port != 22 else "")


@dataclass(frozen=True, slots=True)
class BrokerAccess:
    """How to reach an MQTT broker. It holds the password and is never shown."""

    host: str
    port: int = 8883
    tls: bool = True
    trust: str = ""  # a file with the certificates to trust; empty: the system's authorities
    user: str = ""
    password: str = field(default="", repr=False)
    certificate: str = ""  # files of a client certificate and its key; empty: none
    key: str = ""

    @classmethod
    def of(cls, settings: BrokerKeys, folder: Path, user: str, password: str) -> BrokerAccess:
        """Return the access by settings; files without a path are in the ``folder`` of these."""

        def located(path: str) -> str:
            return str(folder / path) if path else ""

        return cls(
            host=settings.host,
            port=settings.port,
            tls=settings.tls,
            trust=located(settings.trust),
            user=user,
            password=password,
            certificate=located(settings.certificate),
            key=located(settings.key),
        )

    def __str__(self) -> str:
        """Return host and port, as a message names them."""
        return f"{self.host}:{self.port}"


class ControlLine(Protocol):
    """Questions and answers with a daemon's control socket."""

    remark: str  # what a person may want to know of how it is reached; empty: nothing

    def ask(self, command: str) -> str:
        """Send a command and return the daemon's reply. Raises EnforcerUnreachable."""

    def close(self) -> None:
        """Close the socket; a second call does nothing."""


class HearingLine(ControlLine, Protocol):
    """One on which a daemon also says what happens."""

    def hear(self, until: float, take: Callable[[str], None]) -> None:
        """Hand over what the daemon says by itself, a line each, until a monotonic moment. Raises EnforcerUnreachable.

        What it says between two calls waits, as far as there is room for it.
        """


@dataclass(frozen=True, slots=True)
class Ran:
    """The result of running a program."""

    code: int
    output: str
    errors: str


@dataclass(frozen=True, slots=True)
class Program:
    """A job of a shell: run a program with its arguments."""

    command: tuple[str, ...]
    stdin: str = ""


@dataclass(frozen=True, slots=True)
class Control:
    """Ask an access point daemon at its control socket. With ``must``, nothing is done after another reply."""

    socket: str
    command: str
    must: str = ""  # the reply without which the jobs after it are left out; white space around it does not count


@dataclass(frozen=True, slots=True)
class EveryStation:
    """Ask an access point daemon for all its stations, one after the other; the output has their replies."""

    socket: str


@dataclass(frozen=True, slots=True)
class ReadFile:
    """Read a file. The code is ``NO_FILE`` if there is none."""

    path: str


@dataclass(frozen=True, slots=True)
class WriteFile:
    """Replace a file's text as a whole, keeping its owner and mode, and see that it holds what was written.

    Only if it holds ``instead_of`` by then: else the code is ``CHANGED``, and it stays as it is.
    """

    path: str
    text: str
    instead_of: str


@dataclass(frozen=True, slots=True)
class ReadLog:
    """Read the last lines of the system's log that have one of some words; none if the account may not read it."""

    words: tuple[str, ...]


Job = Program | Control | EveryStation | ReadFile | WriteFile | ReadLog
NO_FILE = errno.ENOENT
CHANGED = errno.ESTALE


class Shell(Protocol):
    """Programs, files and control sockets of a machine: this one, or one that is reached over SSH."""

    remarks: list[str]  # what a person may want to know of how it was reached, a sentence each

    def carry_out(self, jobs: Sequence[Job], begins: Callable[[int], None] = lambda _: None) -> list[Ran]:
        """Do jobs in their order, all in one run where a run costs a way there and back.

        Returns what came of each; the list ends with the first reply that is not what it must be. What went wrong with
        a single job is in its ``Ran``. ``begins`` is told the number of each job that is begun, or may have been if the
        connection is cut or the call interrupted. Raises EnforcerUnreachable if the machine cannot be reached.
        """

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """Return a file's mode bits and its group; None if there is no such file."""

    def close(self) -> None:
        """Close the connection; a second call does nothing."""


class Attachment(Protocol):
    """How this machine is attached."""

    @property
    def clock(self) -> Clock:
        """Return the clock of this network."""

    def interfaces(self) -> tuple[Interface, ...]:
        """Return all interfaces but loopback, in the system's order."""

    def rights(self) -> Rights:
        """Return what this user may do."""

    def open_link(self, interface: Interface, traffic: Traffic = Traffic.ANSWERS) -> Link:
        """Open raw frames on an interface. Raises NotPermitted with the way to get permission, or InterfaceLost."""

    def open_datagrams(self, interface: Interface) -> Datagrams:
        """Open datagrams that leave by ``interface``. Raises InterfaceLost."""

    def open_mailbox(self, interface: Interface | None) -> Mailbox:
        """Open UDP by one interface, with its groups, or by the routes for None. Raises InterfaceLost."""

    def open_echo(self) -> EchoLine:
        """Open ICMP echo. Raises NotPermitted if the system allows it neither by datagrams nor by raw sockets."""

    def open_connector(self) -> Connector:
        """Open TCP connections."""

    def router_table(self, access: SnmpAccess) -> tuple[Neighbour, ...]:
        """Return a router's address table, with its own interfaces. Raises RouterUnreadable."""

    def switch(self, access: SwitchAccess) -> SwitchReading:
        """Return the ports of a switch, and what it has learned at each. Raises SwitchUnreadable."""

    def resolvers(self) -> tuple[Address, ...]:
        """Return the name servers that the system asks."""

    def neighbours(self, interface: Interface) -> tuple[Neighbour, ...]:
        """Return the system's neighbour table for ``interface``."""

    def open_control(self, path: str) -> HearingLine:
        """Open the control socket of an access point daemon of this machine. Raises EnforcerUnreachable."""

    def open_shell(self, ssh: SshAccess | None = None) -> Shell:
        """Open programs and files, here or over SSH. Raises EnforcerUnreachable."""
