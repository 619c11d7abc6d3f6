"""Decodes frames that were heard or captured into observations: which adapter has which address, what devices say.

Pure: a frame and its time go in, observations come out; rubbish gives none. A sender is believed only about itself,
except a DHCP server, which tells what it grants.
"""

from __future__ import annotations

import re
from collections import Counter, OrderedDict
from collections.abc import Callable, Mapping
from datetime import datetime, timedelta
from ipaddress import IPv4Address

from scopion.discovery.said import host_name, netbios_traits, services
from scopion.model.address import Address, is_of_a_host
from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, Trait, TraitKind
from scopion.model.text import clean
from scopion.wire import dhcp, dns, netbios, ssdp
from scopion.wire.arp import decode_arp, is_plain_arp
from scopion.wire.ethernet import TYPE_ARP, decode_header
from scopion.wire.ip import UDP, IpPacket, UdpDatagram, decode_ip, decode_udp
from scopion.wire.ndp import NdpKind, decode_ndp

# Most frames repeat: an adapter asks for its gateway every minute, a server announces itself. Frames up to this length
# are remembered, this many of them, and decoded once: 64 KB for 1,000 ARP frames.
_REMEMBERED, _SHORT = 1024, 64
_TRAIT_LENGTH = 200
# A client takes at most this long from its request to its probe; this many clients at a time are remembered.
_REQUEST_HOLDS, _MOST_REQUESTS = timedelta(seconds=30), 1024
_MODEL_KEYS = ("model=", "ty=", "md=")
_NO_MAC = MacAddress(bytes(6))


class Hearing:
    """Takes frames in turn. ``decoded``, ``foreign`` (no protocol of ours) and ``malformed`` count them.

    ``on_link`` tells whether an address is on the link that is listened to. A frame to a group stays on the link. A
    datagram to a single host may have come through a router, and then it has the router's MAC address: without
    ``on_link`` (a capture of unknown origin) it pairs nothing.
    """

    def __init__(self, on_link: Callable[[Address], bool] = lambda _: False) -> None:
        self._on_link = on_link
        self.decoded: Counter[Source] = Counter()
        self.foreign = 0
        self.malformed = 0
        self._short: OrderedDict[bytes, tuple[Observation, ...]] = OrderedDict()
        # The addresses that DHCP clients have asked for lately, and when. A server's answer usually goes to the client
        # alone, so that a switch does not pass it to us.
        self.requested: dict[MacAddress, tuple[IPv4Address, datetime]] = {}

    @property
    def frames(self) -> int:
        """Return how many frames were taken."""
        return self.decoded.total() + self.foreign + self.malformed

    def take(self, frame: bytes, at: datetime) -> tuple[Observation, ...]:
        """Return what a frame tells. A frame that was heard a moment ago tells the same again, with its first time."""
        known = self._short.get(frame)
        if known is not None:
            self.decoded[known[0].source] += 1
            return known
        try:
            told = self._decode(frame, at)
        except MalformedFrame:
            self.malformed += 1
            return ()
        if not told:
            self.foreign += 1
            return ()
        self.decoded[told[0].source] += 1
        if len(frame) <= _SHORT:
            if len(self._short) >= _REMEMBERED:
                self._short.popitem(last=False)
            self._short[frame] = told
        return told

    def _arp(self, frame: bytes, at: datetime) -> tuple[Observation, ...]:
        packet = decode_arp(frame)
        if packet is None or packet.sender_mac.is_multicast or packet.sender_mac == _NO_MAC:
            return ()
        address = packet.sender_address if packet.claims_an_address and is_of_a_host(packet.sender_address) else None
        if not packet.claims_an_address:
            # A probe (RFC 5227) tells that the adapter is there and wants an address, not that it has it. Only if it
            # has asked for it by DHCP it probes what it was granted (RFC 2131, 4.4.1).
            wanted, since = self.requested.get(packet.sender_mac, (None, at))
            if wanted == packet.target_address and at - since <= _REQUEST_HOLDS:
                address = wanted
        return (Observation(packet.sender_mac, address, at, Source.ARP),)

    def _note_request(self, datagram: UdpDatagram, at: datetime) -> None:
        """Remember which address a client asks for; the number is limited, and the oldest are dropped first."""
        message = dhcp.decode_dhcp(datagram.payload)
        if message is None or message.from_server or message.kind is not dhcp.DhcpKind.REQUEST:
            return
        wanted = message.requested_address or message.client_address
        if wanted is not None and is_of_a_host(wanted) and self._on_link(wanted):
            self.requested.pop(message.mac, None)
            while len(self.requested) >= _MOST_REQUESTS:
                self.requested.pop(next(iter(self.requested)))
            self.requested[message.mac] = wanted, at

    def forget(self) -> None:
        """Forget the frames that were heard, so that they give their observations again with new times."""
        self._short.clear()

    def _decode(self, frame: bytes, at: datetime) -> tuple[Observation, ...]:
        if is_plain_arp(frame):
            return self._arp(frame, at)
        header, cursor = decode_header(frame)
        if header.source.is_multicast or header.source == _NO_MAC:
            raise MalformedFrame(f"a frame from {header.source}, which cannot be a sender")
        if header.type == TYPE_ARP:
            return self._arp(frame, at)
        packet = decode_ip(header.type, cursor)
        if packet is None:
            return ()
        ndp = decode_ndp(packet)
        if ndp is not None:
            return _ndp(packet, header.source, at)
        if packet.protocol != UDP:
            return ()
        datagram = decode_udp(packet.payload)
        for port in (datagram.destination_port, datagram.source_port):
            if port in _SPEAKERS:
                near = header.destination.is_multicast or self._on_link(packet.source)
                if port in (dhcp.SERVER_PORT, dhcp.CLIENT_PORT):
                    self._note_request(datagram, at)
                return _SPEAKERS[port](header.source, packet, datagram, at) if near else _relayed(port, datagram, at)
        return ()


def _ndp(packet: IpPacket, sender: MacAddress, at: datetime) -> tuple[Observation, ...]:
    message = decode_ndp(packet)
    if message is None:
        return ()
    claimed = message.claimed if message.claimed is not None and is_of_a_host(message.claimed) else None
    roles = (Trait(TraitKind.ROLE, "router", Source.NDP),) if message.routes else ()
    router = message.kind is NdpKind.ROUTER_ADVERTISEMENT
    return (Observation(message.mac or sender, claimed, at, Source.NDP, traits=roles if router else ()),)


def _dhcp(sender: MacAddress, packet: IpPacket, datagram: UdpDatagram, at: datetime) -> tuple[Observation, ...]:
    message = dhcp.decode_dhcp(datagram.payload)
    if message is None:
        return ()
    if message.from_server:
        return _granted(message, sender, packet, at)
    traits = [host_name(message.host_name, Source.DHCP)] if message.host_name else []
    options = {
        TraitKind.VENDOR_CLASS: clean(message.vendor_class, _TRAIT_LENGTH),
        TraitKind.REQUESTED_OPTIONS: ",".join(map(str, message.options.get(dhcp.REQUESTED_OPTIONS, b""))),
        TraitKind.CLIENT_ID: message.options.get(dhcp.CLIENT_IDENTIFIER, b"").hex(),
    }
    traits += [Trait(kind, value[:_TRAIT_LENGTH], Source.DHCP) for kind, value in options.items() if value]
    said = tuple(trait for trait in traits if trait is not None)
    return (Observation(message.mac, message.client_address, at, Source.DHCP, traits=said),)


def _relayed(port: int, datagram: UdpDatagram, at: datetime) -> tuple[Observation, ...]:
    """Return what a frame tells that may have come through a router: only a DHCP server's grant names its client in
    full.
    """
    message = dhcp.decode_dhcp(datagram.payload) if port in (dhcp.SERVER_PORT, dhcp.CLIENT_PORT) else None
    if message is None or message.kind is not dhcp.DhcpKind.ACK or message.granted_address is None:
        return ()
    return (Observation(message.mac, message.granted_address, at, Source.DHCP),)


def _granted(message: dhcp.DhcpMessage, sender: MacAddress, packet: IpPacket, at: datetime) -> tuple[Observation, ...]:
    """Return what a server says: it is a server, and an acknowledgement grants an address to the client."""
    found = []
    if message.server == packet.source:  # a relay passes on what another server says (RFC 2131, 4.1)
        role = Trait(TraitKind.ROLE, "dhcp-server", Source.DHCP)
        found.append(Observation(sender, packet.source, at, Source.DHCP, traits=(role,)))
    if message.kind is dhcp.DhcpKind.ACK and message.granted_address is not None:
        found.append(Observation(message.mac, message.granted_address, at, Source.DHCP))
    return tuple(found)


def _mdns(sender: MacAddress, packet: IpPacket, datagram: UdpDatagram, at: datetime) -> tuple[Observation, ...]:
    if datagram.source_port != dns.MDNS_PORT or not is_of_a_host(packet.source):
        return ()  # questions from other ports are single ones (RFC 6762, 5.1): they announce nothing
    message = dns.decode_dns(datagram.payload)
    traits: list[Trait | None] = []
    if message.response:
        # Only names of the sender's own address: a proxy announces those of other hosts, too.
        own = [each.name for each in (*message.values("A"), *message.values("AAAA")) if each.value == packet.source]
        traits += [host_name(name, Source.MDNS) for name in dict.fromkeys(own[:1])]
        traits += services(each.name for each in (*message.values("PTR"), *message.values("SRV")))
        traits.append(_model(message))
    said = tuple(dict.fromkeys(trait for trait in traits if trait is not None))
    return (Observation(sender, packet.source, at, Source.MDNS, traits=said),)


def _model(message: dns.DnsMessage) -> Trait | None:
    for record in message.values("TXT"):
        for text in record.value if isinstance(record.value, tuple) else ():
            if text.casefold().startswith(_MODEL_KEYS):
                model = clean(text.partition("=")[2], _TRAIT_LENGTH)
                return Trait(TraitKind.MODEL, model, Source.MDNS) if model else None
    return None


def _llmnr(sender: MacAddress, packet: IpPacket, datagram: UdpDatagram, at: datetime) -> tuple[Observation, ...]:
    message = dns.decode_dns(datagram.payload)
    if not is_of_a_host(packet.source):
        return ()
    traits: list[Trait | None] = []
    if message.response and datagram.source_port == dns.LLMNR_PORT:
        addresses = (*message.values("A"), *message.values("AAAA"))
        own = [record.name for record in addresses if record.value == packet.source]
        reverse = dns.reverse_name(packet.source)
        own += [str(record.value) for record in message.values("PTR") if record.name.casefold() == reverse]
        traits += [host_name(name, Source.LLMNR) for name in own[:1]]
    said = tuple(trait for trait in traits if trait is not None)
    return (Observation(sender, packet.source, at, Source.LLMNR, traits=said),)


def _netbios(sender: MacAddress, packet: IpPacket, datagram: UdpDatagram, at: datetime) -> tuple[Observation, ...]:
    message = netbios.decode_netbios(datagram.payload)
    if not is_of_a_host(packet.source):
        return ()
    names = (message.name,) if isinstance(message, netbios.NameClaim) else message.names if message else ()
    return (Observation(sender, packet.source, at, Source.NETBIOS, traits=netbios_traits(names)),)


def _ssdp(sender: MacAddress, packet: IpPacket, datagram: UdpDatagram, at: datetime) -> tuple[Observation, ...]:
    message = ssdp.decode_ssdp(datagram.payload)
    if not is_of_a_host(packet.source) or datagram.destination_port != ssdp.PORT:
        return ()  # an answer to a single host may come from beyond the link; one to the group does not
    traits = []
    if message is not None and not message.leaving:
        kind = re.search(r"([a-z0-9.-]{1,60}:device:[a-z0-9_]{1,60})", clean(message.target).casefold())
        traits += [Trait(TraitKind.SERVICE, kind[1], Source.SSDP)] if kind else []
        software = clean(message.server, _TRAIT_LENGTH)
        traits += [Trait(TraitKind.SOFTWARE, software, Source.SSDP)] if software else []
    return (Observation(sender, packet.source, at, Source.SSDP, traits=tuple(traits)),)


_Speaker = Callable[[MacAddress, IpPacket, UdpDatagram, datetime], tuple[Observation, ...]]
_SPEAKERS: Mapping[int, _Speaker] = {
    dhcp.SERVER_PORT: _dhcp,
    dhcp.CLIENT_PORT: _dhcp,
    dns.MDNS_PORT: _mdns,
    dns.LLMNR_PORT: _llmnr,
    netbios.PORT: _netbios,
    ssdp.PORT: _ssdp,
}
