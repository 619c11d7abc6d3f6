"""Observations: this MAC address used this IP address at this time, and said this. Folding accepts nothing else."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from ipaddress import IPv4Network

from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.model.value import value

# The identity of a sighting: one of the two may be unknown.
Pair = tuple[MacAddress | None, Address | None]


class Source(StrEnum):
    """Where an observation or a trait came from."""

    ARP = "arp"  # an answer, or another frame, on the wire
    NDP = "ndp"  # the same for IPv6
    ECHO = "echo"  # an answer to an ICMP echo
    CONNECT = "connect"  # a TCP port that accepted or refused
    NEIGHBOURS = "neighbours"  # the kernel's neighbour table after a touch
    OWN = "own"  # this machine's own interface
    ROUTER = "router"  # a router's address table
    DHCP = "dhcp"
    MDNS = "mdns"
    DNS = "dns"  # a reverse look-up
    NETBIOS = "netbios"
    LLMNR = "llmnr"
    SSDP = "ssdp"
    LEASES = "leases"  # a DHCP server's own file
    CLIENT_LIST = "client-list"  # a list that a person copied from a router's page
    ACCESS_POINT = "access-point"  # an access point that turned it away
    LISTING = "listing"  # a neighbour listing from another machine


class Medium(StrEnum):
    """How an adapter is connected."""

    WIRELESS = "wireless"
    CABLE = "cable"
    UNKNOWN = "unknown"


class TraitKind(StrEnum):
    """The kind of a trait."""

    NAME = "name"
    SERVICE = "service"  # a service that it offers: _ipp._tcp, a UPnP device type
    MODEL = "model"
    SOFTWARE = "software"
    VENDOR_CLASS = "vendor-class"  # how the maker of a DHCP client calls this kind of client
    REQUESTED_OPTIONS = "requested-options"  # the option numbers in their order: typical of an operating system
    CLIENT_ID = "client-id"  # hexadecimal
    PORT = "port"  # a TCP port that accepted a connection
    ROLE = "role"  # router, dhcp-server
    KIND = "kind"  # what people say that it is: their list has a column for it


@value
class Trait:
    """One thing that an adapter says of itself, or that a record says of it. It was cleaned where it was decoded."""

    kind: TraitKind
    value: str
    source: Source


@value
class Observation:
    """One fact from one source at one time (UTC). Either the MAC or the IP address may be missing."""

    mac: MacAddress | None  # None: a host beyond a router whose MAC address no source has told
    address: Address | None  # None: an adapter that has no address yet, or whose address is not known
    at: datetime
    source: Source
    medium: Medium = Medium.UNKNOWN
    rtt_s: float | None = None  # seconds from the latest request to its answer; None: not measured
    traits: tuple[Trait, ...] = ()
    recorded: bool = False  # taken from a record of another time: it makes no device present
    undated: bool = False  # recorded, and the record gives no time
    # it was seen from then until ``at``, again and again, without a silence that counts; None: at that moment
    since: datetime | None = None
    # the subnet of the link on which it was seen (an IPv6 address does not tell it); None: not known
    subnet: IPv4Network | None = None

    @property
    def began(self) -> datetime:
        """Return when it was seen first."""
        return self.since or self.at
