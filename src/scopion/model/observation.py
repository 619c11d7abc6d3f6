"""What a source saw: this MAC used this address at this time, and said this of itself. All that folding accepts."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from ipaddress import IPv4Network

from scopion.model.address import Address
from scopion.model.mac import MacAddress
from scopion.model.value import value

# What identifies a sighting: either may be unknown, not both.
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
    CLIENT_LIST = "client-list"  # a list that somebody copied from a router's page
    LISTING = "listing"  # a neighbour listing from another machine


class Medium(StrEnum):
    """What an adapter is connected by."""

    WIRELESS = "wireless"
    CABLE = "cable"
    UNKNOWN = "unknown"


class TraitKind(StrEnum):
    """What kind of thing was said of an adapter."""

    NAME = "name"
    SERVICE = "service"  # that it offers: _ipp._tcp, a UPnP device type
    MODEL = "model"
    SOFTWARE = "software"
    VENDOR_CLASS = "vendor-class"  # what a DHCP client's maker calls this kind of client
    REQUESTED_OPTIONS = "requested-options"  # the numbers in their order: typical of an operating system
    CLIENT_ID = "client-id"  # hexadecimal
    PORT = "port"  # a TCP port that accepted a connection
    ROLE = "role"  # router, dhcp-server


@value
class Trait:
    """One thing that an adapter said of itself, or that a record says of it; cleaned where it was decoded."""

    kind: TraitKind
    value: str
    source: Source


@value
class Observation:
    """One fact from one source at one time (UTC). MAC or address may be missing, not both."""

    mac: MacAddress | None  # None: a host beyond a router, of which no source has told the MAC
    address: Address | None  # None: an adapter that has no address yet, or none that is known
    at: datetime
    source: Source
    medium: Medium = Medium.UNKNOWN
    rtt_s: float | None = None  # from the latest request to its answer; None when nothing was measured
    traits: tuple[Trait, ...] = ()
    recorded: bool = False  # taken from a record: it was so at that time, and makes nobody present
    undated: bool = False  # recorded, too: the record does not say when it was so, only that it is known of
    subnet: IPv4Network | None = None  # on whose link it was seen, which an IPv6 address does not tell; None: not known
