"""Finds free addresses of a subnet: not answering, not used for long, not given out by DHCP, not reserved.

It remembers nothing: a question must not use up the news that the next scan would tell.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Mapping
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from random import SystemRandom

from scopion.attachment.ports import Traffic
from scopion.discovery.conflict import ConflictProbe
from scopion.discovery.probing import Method
from scopion.model.address import Address
from scopion.model.clock import spoken_span
from scopion.model.device import Device
from scopion.model.errors import InvalidTarget, MalformedFrame, ScopionError, UsageError
from scopion.model.observation import Observation, Source
from scopion.model.place import PlacedSubnet
from scopion.model.targets import Targets
from scopion.model.text import joined
from scopion.operations.devices.map_addresses import placed_subnets_called, subnets_of_site
from scopion.operations.scan.ask_network import require_uninterrupted, who_answers
from scopion.operations.scan.prepare_scan import PreparedScan, ScanRequest, prepare_scan
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices
from scopion.roster.read_history import last_uses
from scopion.roster.scans import known_subnets, last_complete_scan
from scopion.wire.arp import decode_arp, encode_request

NOBODY = IPv4Address(0)
_EVER = datetime.min.replace(tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class AddressUse:
    """One address of the subnet: spare if nothing speaks against it."""

    address: IPv4Address
    against: str = ""  # why it is not spare
    last_used: datetime | None = None  # None: never, as far as the roster goes back
    last_user: str = ""

    @property
    def spare(self) -> bool:
        """Tell whether it may be taken."""
        return not self.against


@dataclass(frozen=True, slots=True)
class SpareAddresses:
    """The answer for a subnet."""

    subnet: PlacedSubnet
    uses: list[AddressUse]  # the best first, then the others in order
    pool_known: bool
    since: datetime | None  # how far back the roster goes; None without one
    asked: bool = True  # now, by this machine; False: a place elsewhere, of which the roster tells
    looked: datetime | None = None  # elsewhere: when the last complete scan of it ended

    @property
    def free(self) -> list[AddressUse]:
        """Return the addresses that may be taken, the best first."""
        return [use for use in self.uses if use.spare]


def spare_addresses(site: Site, text: str | None, unused_for: timedelta) -> SpareAddresses:
    """Look at a subnet and sort its addresses. Raises InvalidTarget, NoInterface, ScopionError."""
    prepared = prepare_scan(site, ScanRequest(targets=(text,) if text else (), no_names=True))
    judge = _judge_here(site, prepared, unused_for)
    judge.answering = _answering(site, prepared)
    subnet = PlacedSubnet(site.roster_for_reading().home, prepared.subnet)
    uses = _best_first([judge.use(address) for address in prepared.targets])
    return SpareAddresses(subnet, uses, judge.pool is not None, judge.since)


def spare_elsewhere(site: Site, text: str | None, place: str, unused_for: timedelta) -> SpareAddresses:
    """Sort the addresses of a subnet of another place, by what the roster knows: nothing can be asked from here.

    Without ``text`` it is the only subnet of that place. Raises UsageError.
    """
    roster = site.roster_for_reading()
    known = placed_subnets_called(site, text, place) if text else subnets_of_site(site, place)
    if len(known) > 1:
        raise UsageError(f"{place} has several subnets: say which, {joined([str(each.range) for each in known], 'or')}")
    (placed,) = known
    # A part of a subnet, as a single address, is judged by what is known of the whole.
    parts = (each for each in subnets_of_site(site, place) if placed.range.subnet_of(each.range))
    whole = next(parts, placed)
    judge = _Judge(site, whole, unused_for)
    judge.answering = {
        stay.address: Observation(stay.mac, stay.address, stay.until, Source.ARP)
        for device in judge.devices
        for stay in device.stays_in(place)
        if stay.present
    }
    uses = _best_first([judge.use(address) for address in Targets.of_subnet(placed.range)])
    looked = last_complete_scan(roster, whole.range, place)
    return SpareAddresses(placed, uses, judge.pool is not None, judge.since, asked=False, looked=looked)


def _best_first(uses: list[AddressUse]) -> list[AddressUse]:
    """Return addresses that were never used first, then those that have been free for longest, then the others."""
    free = sorted((each for each in uses if each.spare), key=lambda each: (each.last_used or _EVER, each.address))
    return free + [each for each in uses if not each.spare]


def may_be_taken(
    site: Site, address: IPv4Address, unused_for: timedelta, on_probe: Callable[[int], None] = lambda _: None
) -> tuple[AddressUse, bool]:
    """Return whether one address may be taken, and whether it was probed as RFC 5227 says (which needs raw frames)."""
    for subnet in (subnet for each in site.attachment.interfaces() for subnet in each.subnets):
        if subnet.prefixlen <= 30 and address in (subnet.network_address, subnet.broadcast_address):
            raise InvalidTarget(f"{address} is not an address for a host: it is an edge of {subnet}")
    prepared = prepare_scan(site, ScanRequest(targets=(str(address),), no_names=True))
    judge = _judge_here(site, prepared, unused_for)
    use = judge.use(address)
    if use.against:
        return use, False
    if prepared.method is not Method.ARP:
        judge.answering = {seen.address: seen for seen in who_answers(site, prepared)}
        return judge.use(address), False
    found = _probed(site, prepared, address, on_probe)
    require_uninterrupted(site, prepared)
    return (AddressUse(address, found, use.last_used, use.last_user) if found else use), True


class _Judge:
    """Finds what speaks against an address of a subnet."""

    def __init__(self, site: Site, placed: PlacedSubnet, unused_for: timedelta) -> None:
        self.answering: Mapping[Address | None, Observation] = {}
        self.own: Container[Address] = ()  # this machine's addresses
        roster = site.roster_for_reading()
        self.devices = all_devices(roster)
        self._uses = last_uses(roster, placed.place)
        self._of_mac = {mac: device for device in self.devices for mac in device.macs}
        known = (each for each in known_subnets(roster, placed.place) if each.range == placed.range)
        self.gateway = next((each.gateway for each in known), None)
        self._now = site.clock.now()
        self._unused_for = unused_for
        settings = site.settings.of_subnet(placed.range, placed.place)
        self.pool = Targets.parse(settings.dhcp_pool) if settings.dhcp_pool else None
        self._reserved = Targets.parse(settings.reserved) if settings.reserved else None
        self.since = min((device.first_seen for device in self.devices), default=None)

    def use(self, address: IPv4Address) -> AddressUse:
        """Judge one address."""
        use = self._uses.get(address)
        user = self._called(self._of_mac.get(use.mac) if use and use.mac else None, str(use.mac)) if use else ""
        at = use.until if use else None
        return AddressUse(address, self._against(address, at, user), at, user)

    def _against(self, address: IPv4Address, last: datetime | None, user: str) -> str:
        if address in self.own:
            return "it is this machine's own"
        if address == self.gateway:
            return "it is the gateway's"
        if address in self.answering:
            seen = self.answering[address]
            return f"{self._called(self._of_mac.get(seen.mac) if seen.mac else None, str(seen.mac))} answers there"
        if last is not None and last > self._now - self._unused_for:
            return f"{user} used it {spoken_span(self._now - last)} ago"
        if self.pool is not None and address in self.pool:
            return "the DHCP server gives it out"
        return "it is reserved" if self._reserved is not None and address in self._reserved else ""

    @staticmethod
    def _called(device: Device | None, otherwise: str) -> str:
        return device.called if device else otherwise if otherwise != "None" else "a device"


def _judge_here(site: Site, prepared: PreparedScan, unused_for: timedelta) -> _Judge:
    interface = prepared.choice.interface
    judge = _Judge(site, PlacedSubnet(site.roster_for_reading().home, prepared.subnet), unused_for)
    judge.own, judge.gateway = {each.ip for each in interface.addresses}, interface.gateway
    return judge


def _answering(site: Site, prepared: PreparedScan) -> dict[Address | None, Observation]:
    """Return the hosts that answer in a subnet. Raises ScopionError if none does though there is a gateway.

    Then a plug is pulled somewhere, and every address would look free.
    """
    found = {seen.address: seen for seen in who_answers(site, prepared)}
    gateway = prepared.choice.interface.gateway
    if not found and gateway is not None and prepared.addresses is not None and gateway in prepared.addresses:
        raise ScopionError(
            "no device answered, not even the gateway, so nothing can be said: is this the right interface?"
        )
    return found


def _probed(site: Site, prepared: PreparedScan, address: IPv4Address, on_probe: Callable[[int], None]) -> str:
    """Return what probing found, in words; empty if nothing."""
    interface, clock = prepared.choice.interface, site.attachment.clock
    assert interface.mac is not None
    probe = ConflictProbe(address, interface.mac, clock.monotonic(), SystemRandom())
    with closing(site.attachment.open_link(interface, Traffic.TALK)) as link:
        while not probe.done(clock.monotonic()):
            if probe.due(clock.monotonic()):
                link.send(encode_request(interface.mac, NOBODY, address))
                on_probe(probe.sent)
            arrival = link.receive(probe.next_at)
            with suppress(MalformedFrame):
                packet = decode_arp(arrival.frame) if arrival else None
                if packet is not None:
                    probe.heard(packet)
    if probe.conflict is None:
        return ""
    who = site.vendors.of(probe.conflict.mac).name.strip("()")
    return f"{probe.conflict.mac} ({who}) {'answers for it' if probe.conflict.uses else 'is about to take it'}"
