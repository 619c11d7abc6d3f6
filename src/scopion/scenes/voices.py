"""What the hosts of a scene say: answers to questions by UDP, and announcements."""

from __future__ import annotations

import random
from collections.abc import Sequence
from ipaddress import IPv4Address

from scopion.model.mac import MacAddress
from scopion.scenes.scene import SceneHost
from scopion.wire import dhcp, dns, netbios, ssdp
from scopion.wire.arp import encode_request
from scopion.wire.ethernet import BROADCAST
from scopion.wire.ip import encode_udp

_SERVICES = "_services._dns-sd._udp.local"
_SSDP_GROUP = IPv4Address("239.255.255.250")
_EVERYBODY = IPv4Address("255.255.255.255")
# Within a minute of listening every host is heard once.
_TALK_WITHIN_S = 50.0


def answer(host: SceneHost, address: IPv4Address, port: int, question: bytes) -> bytes | None:
    """Return what a host answers to a question at a port; None if it does not. Raises MalformedFrame."""
    voice = host.voice
    if port == netbios.PORT and voice.netbios:
        names = (netbios.NetbiosName(voice.netbios, netbios.WORKSTATION),)
        return netbios.encode_status_reply(netbios.NodeStatus(int.from_bytes(question[:2]), names, host.mac))
    if port not in (dns.MDNS_PORT, dns.LLMNR_PORT):
        return None
    asked = dns.decode_dns(question)
    name = asked.questions[0][0] if asked.questions else ""
    records: list[dns.DnsRecord] = []
    if name == dns.reverse_name(address) and port == dns.MDNS_PORT and voice.mdns:
        records.append(dns.DnsRecord(name, "PTR", f"{voice.mdns}.local"))
    elif name == dns.reverse_name(address) and port == dns.LLMNR_PORT and voice.llmnr:
        records.append(dns.DnsRecord(name, "PTR", voice.llmnr))
    elif name == _SERVICES and port == dns.MDNS_PORT:
        records += [dns.DnsRecord(name, "PTR", f"{service}.local") for service in voice.services]
    return dns.encode_answer(asked.id, tuple(records)) if records else None


def name_server_answer(hosts: Sequence[tuple[SceneHost, IPv4Address | None]], question: bytes) -> bytes:
    """Return what the site's name server answers to a reverse question: a name, or that there is none."""
    asked = dns.decode_dns(question)
    name = asked.questions[0][0] if asked.questions else ""
    records = tuple(
        dns.DnsRecord(name, "PTR", host.voice.dns)
        for host, address in hosts
        if host.voice.dns and address is not None and dns.reverse_name(address) == name
    )
    return dns.encode_answer(asked.id, records)


def talk(
    hosts: Sequence[tuple[SceneHost, IPv4Address | None]], gateway: IPv4Address, chance: random.Random
) -> list[tuple[float, bytes]]:
    """Return what the hosts say within a minute by themselves: each looks for the gateway, and announces itself."""
    said = []
    for host, address in hosts:
        if address is None:
            continue
        frames = [encode_request(host.mac, address, gateway), *_announcements(host, address)]
        said += [(chance.uniform(0.1, _TALK_WITHIN_S), frame) for frame in frames]
    return said


def first_words(host: SceneHost, address: IPv4Address) -> list[bytes]:
    """Return what a host says when it comes: it asks for an address if it uses DHCP, and announces its address."""
    said = [_dhcp_request(host, address)] if host.voice.dhcp or host.voice.vendor_class else []
    return [*said, encode_request(host.mac, address, address)]


def _announcements(host: SceneHost, address: IPv4Address) -> list[bytes]:
    voice = host.voice
    frames = []
    if voice.dhcp or voice.vendor_class:
        frames.append(_dhcp_request(host, address))
    if voice.dhcp_server:
        frames.append(_dhcp_offer(host, address))
    if voice.mdns:
        records = [dns.DnsRecord(f"{voice.mdns}.local", "A", address)]
        for service in voice.services:
            instance = f"{host.name}.{service}.local"
            records.append(dns.DnsRecord(f"{service}.local", "PTR", instance))
            records += [dns.DnsRecord(instance, "TXT", (f"ty={voice.model}",))] if voice.model else []
        to = (dns.MDNS_GROUP, dns.MDNS_PORT)
        frames.append(_to_group(host, (address, dns.MDNS_PORT), to, dns.encode_answer(0, tuple(records))))
    if voice.netbios:
        claim = netbios.encode_claim(netbios.NetbiosName(voice.netbios, netbios.WORKSTATION), address.packed)
        frames.append(_to_group(host, (address, netbios.PORT), (_EVERYBODY, netbios.PORT), claim))
    if voice.ssdp:
        text = f"NOTIFY * HTTP/1.1\r\nNT: {voice.ssdp}\r\nNTS: ssdp:alive\r\nSERVER: {voice.model}\r\n\r\n"
        frames.append(_to_group(host, (address, 40000), (_SSDP_GROUP, ssdp.PORT), text.encode()))
    return frames


def _dhcp_request(host: SceneHost, address: IPv4Address) -> bytes:
    voice = host.voice
    options = {
        dhcp.REQUESTED_ADDRESS: address.packed,
        dhcp.HOST_NAME: voice.dhcp.encode(),
        dhcp.VENDOR_CLASS: voice.vendor_class.encode(),
        dhcp.REQUESTED_OPTIONS: bytes(voice.requested_options),
        dhcp.CLIENT_IDENTIFIER: b"\x01" + host.mac.octets,
    }
    known = {number: value for number, value in options.items() if value}
    message = dhcp.DhcpMessage(dhcp.DhcpKind.REQUEST, False, 1, host.mac, None, None, known)
    return _to_group(
        host, (IPv4Address(0), dhcp.CLIENT_PORT), (_EVERYBODY, dhcp.SERVER_PORT), dhcp.encode_dhcp(message)
    )


def _dhcp_offer(host: SceneHost, address: IPv4Address) -> bytes:
    """Return an offer to a client that has no address yet, so that all hosts hear it."""
    options = {dhcp.SERVER_IDENTIFIER: address.packed}
    client = MacAddress(bytes.fromhex("02000000ffff"))
    message = dhcp.DhcpMessage(dhcp.DhcpKind.OFFER, True, 1, client, None, IPv4Address(int(address) + 1), options)
    return _to_group(host, (address, dhcp.SERVER_PORT), (_EVERYBODY, dhcp.CLIENT_PORT), dhcp.encode_dhcp(message))


def _to_group(host: SceneHost, source: tuple[IPv4Address, int], to: tuple[IPv4Address, int], payload: bytes) -> bytes:
    # RFC 1112, 6.4: the low 23 bits of the group.
    group = MacAddress(b"\x01\x00\x5e" + bytes((to[0].packed[1] & 0x7F,)) + to[0].packed[2:])
    return encode_udp((host.mac, BROADCAST if to[0] == _EVERYBODY else group), source, to, payload, hops=255)
