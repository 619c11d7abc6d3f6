"""Finds free addresses of a subnet: not answering, not used for long, not given out by DHCP, not reserved.

It remembers nothing: a question must not use up the news that the next scan would tell.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
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
from scopion.model.errors import InvalidTarget, MalformedFrame, ScopionError
from scopion.model.observation import Observation
from scopion.model.targets import Targets
from scopion.operations.scan.ask_network import require_uninterrupted, who_answers
from scopion.operations.scan.prepare_scan import PreparedScan, ScanRequest, prepare_scan
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices
from scopion.roster.read_history import last_uses
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

    prepared: PreparedScan
    places: list[AddressUse]  # the best first, then the others in order
    pool_known: bool
    since: datetime | None  # how far back the roster goes; None without one

    @property
    def free(self) -> list[AddressUse]:
        """Return the addresses that may be taken, the best first."""
        return [place for place in self.places if place.spare]


def spare_addresses(site: Site, text: str | None, unused_for: timedelta) -> SpareAddresses:
    """Look at a subnet and sort its addresses. Raises InvalidTarget, NoInterface, ScopionError."""
    prepared = prepare_scan(site, ScanRequest(targets=(text,) if text else (), no_names=True))
    judge = _Judge(site, prepared, unused_for)
    judge.answering = _answering(site, prepared)
    places = [judge.place(address) for address in prepared.targets]
    # Addresses that were never used come first, then those that have been free for longest.
    free = sorted((each for each in places if each.spare), key=lambda each: (each.last_used or _EVER, each.address))
    places = free + [each for each in places if not each.spare]
    return SpareAddresses(prepared, places, judge.pool is not None, judge.since)


def may_be_taken(
    site: Site, address: IPv4Address, unused_for: timedelta, on_probe: Callable[[int], None] = lambda _: None
) -> tuple[AddressUse, bool]:
    """Return whether one address may be taken, and whether it was probed as RFC 5227 says (which needs raw frames)."""
    for subnet in (subnet for each in site.attachment.interfaces() for subnet in each.subnets):
        if subnet.prefixlen <= 30 and address in (subnet.network_address, subnet.broadcast_address):
            raise InvalidTarget(f"{address} is not an address for a host: it is an edge of {subnet}")
    prepared = prepare_scan(site, ScanRequest(targets=(str(address),), no_names=True))
    judge = _Judge(site, prepared, unused_for)
    place = judge.place(address)
    if place.against:
        return place, False
    if prepared.method is not Method.ARP:
        judge.answering = {seen.address: seen for seen in who_answers(site, prepared)}
        return judge.place(address), False
    found = _probed(site, prepared, address, on_probe)
    require_uninterrupted(site, prepared)
    return (AddressUse(address, found, place.last_used, place.last_user) if found else place), True


class _Judge:
    """Finds what speaks against an address."""

    def __init__(self, site: Site, prepared: PreparedScan, unused_for: timedelta) -> None:
        self.answering: Mapping[Address | None, Observation] = {}
        roster = site.roster_for_reading()
        self._devices = all_devices(roster)
        self._uses = last_uses(roster)
        self._of_mac = {mac: device for device in self._devices for mac in device.macs}
        self._own = {each.ip for each in prepared.choice.interface.addresses}
        self._gateway = prepared.choice.interface.gateway
        self._now = site.clock.now()
        self._unused_for = unused_for
        settings = site.settings.of_subnet(prepared.subnet)
        self.pool = Targets.parse(settings.dhcp_pool) if settings.dhcp_pool else None
        self._reserved = Targets.parse(settings.reserved) if settings.reserved else None
        self.since = min((device.first_seen for device in self._devices), default=None)

    def place(self, address: IPv4Address) -> AddressUse:
        """Judge one address."""
        use = self._uses.get(address)
        user = self._called(self._of_mac.get(use.mac) if use and use.mac else None, str(use.mac)) if use else ""
        at = use.until if use else None
        return AddressUse(address, self._against(address, at, user), at, user)

    def _against(self, address: IPv4Address, last: datetime | None, user: str) -> str:
        if address in self._own:
            return "it is this machine's own"
        if address == self._gateway:
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
