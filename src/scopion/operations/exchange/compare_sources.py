"""Holds three sources against each other: a router's list, the last scan, and the roster; with the reason for each
difference and the next step.

A router's list is what is given - pasted, or a lease file - else the leases of ``site.toml`` and the stations that
access points tell. Nothing is changed, and nothing is scanned.
"""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from ipaddress import IPv4Network

from scopion.discovery.records.registry import read_record
from scopion.model.address import Address
from scopion.model.device import NEVER, Device, Standing, short_name
from scopion.model.errors import NotFound, ScopionError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source, TraitKind
from scopion.model.targets import Targets
from scopion.model.text import joined
from scopion.operations.exchange.read_input import Input, read_input
from scopion.operations.intake.pasted_lists import record_context
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.load_policy import policy_for
from scopion.operations.wifi.open_enforcers import read_stations
from scopion.roster.read_devices import all_devices
from scopion.roster.scans import known_subnets, last_complete_scan
from scopion.roster.wifi import lists
from scopion.roster.wifi.associations import networks_of
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.list_policy import wanted


class Mention(StrEnum):
    """How one source mentions a device."""

    HERE = "here"
    AWAY = "away"  # it is known there, and not here now
    MISSING = "missing"  # it is not known there


class Finding(StrEnum):
    """Why sources differ, or what a device needs."""

    DENIED = "denied"  # it is listed as denied, and here
    UNKNOWN = "unknown"  # on the router's list, and not in the roster
    SAME_NAME = "same-name"  # another MAC address has its name
    UNLISTED = "unlisted"  # it answers, and the router does not know it
    SILENT = "silent"  # on the router's list as here, and did not answer the last scan
    NEVER_SEEN = "never-seen"  # it is on an allow list, and was never seen


# The findings that a person should look at; the others are explained.
NEEDS_A_PERSON = frozenset({Finding.DENIED, Finding.UNKNOWN, Finding.SAME_NAME})


@dataclass(frozen=True, slots=True)
class ComparedDevice:
    """A device in the three sources."""

    name: str
    mac: MacAddress
    address: Address | None
    router: Mention
    scan: Mention
    roster: str  # its standing; empty: not in the roster
    finding: Finding | None = None  # None: the sources agree
    why: str = ""
    step: str = ""  # the command that goes on from here

    @property
    def needs_a_person(self) -> bool:
        """Tell whether a person should look at it: an unlisted newcomer, too."""
        new = self.roster in ("", Standing.NEW)
        if self.finding is Finding.UNKNOWN:  # an old lease, or an address that is kept for it, can wait
            return self.router is Mention.HERE
        return self.finding in NEEDS_A_PERSON or (self.finding is Finding.UNLISTED and new)


@dataclass(frozen=True, slots=True)
class SourceComparison:
    """All devices of the three sources, and what the sources were."""

    devices: tuple[ComparedDevice, ...]
    router: tuple[str, ...]  # in words
    scanned: datetime | None  # the last complete scan of the subnet that was scanned longest ago; None: one was not
    unread: tuple[str, ...] = ()  # sources that could not be read


@dataclass(slots=True)
class _RouterList:
    """What the routers say, by MAC address."""

    seen: dict[MacAddress, Observation] = field(default_factory=dict)
    away: set[MacAddress] = field(default_factory=set)
    told: list[str] = field(default_factory=list)
    unread: list[str] = field(default_factory=list)
    wireless_only: bool = True  # it lists stations only: who is on cable is not on it

    def add(self, found: Sequence[Observation], absent: set[MacAddress]) -> None:
        """Take in what one source says; one that says here counts more than one that does not."""
        for each in found:
            if each.mac is None:
                continue
            is_away = each.mac in absent or each.undated
            if each.mac not in self.seen:
                self.seen[each.mac] = each
                self.away |= {each.mac} if is_away else set()
            elif not is_away:
                self.away.discard(each.mac)


def compare_sources(site: Site, given: Input | None = None) -> SourceComparison:
    """Compare a router's list with the last scan and the roster.

    Raises NotFound without any list of a router, or without a scan; UsageError for a file that is not understood.
    """
    site.require_roster()
    roster = site.roster_for_reading()
    router = _router_list(site, given)
    if not router.told:
        unread = f" ({router.unread[0]})" if router.unread else ""
        raise NotFound(
            f"no list of a router is known{unread}: copy the router's client list into scopion compare -, or name the "
            "DHCP server's leases in site.toml ([watch] leases)"
        )
    subnets = [each.range for each in known_subnets(roster)]
    if not subnets:
        raise NotFound("nothing has been scanned yet: scopion scan first")
    looking = _Comparison(site, router, subnets, _taking_in(given))
    rows = sorted(looking.rows(), key=_order)
    scans = [last_complete_scan(roster, each) for each in subnets]
    oldest = None if None in scans else min(each for each in scans if each is not None)
    return SourceComparison(tuple(rows), tuple(router.told), oldest, tuple(router.unread))


def _router_list(site: Site, given: Input | None) -> _RouterList:
    """Read what routers say: the given file, else the leases and access points of the settings."""
    found = _RouterList()
    if given is not None:
        _add_file(site, found, given)
        return found
    for name in site.settings.watch.leases:
        try:
            _add_file(site, found, read_input(str(site.folder / name)))
        except ScopionError as error:
            found.unread.append(f"{name}: {error}")
    stations, unread = read_stations(site)
    if stations:
        now = site.clock.now()
        seen = [
            Observation(each.station.mac, None, now, Source.CLIENT_LIST, Medium.WIRELESS, recorded=True)
            for each in stations
        ]
        found.add(seen, set())
        found.told.append(f"the stations of {joined(list(dict.fromkeys(each.access_point for each in stations)))}")
    found.unread += [f"{each.enforcer}: {each.problem}" for each in unread]
    return found


def _taking_in(given: Input | None) -> str:
    """Return the command that takes in what only the router knows."""
    return f"scopion import {shlex.quote(given.path)}" if given is not None else "scopion scan"


def _add_file(site: Site, found: _RouterList, given: Input) -> None:
    as_of = min(site.clock.now(), given.changed or site.clock.now())
    reading = read_record(given.stream, record_context(site, as_of))
    past = {mac for mac, client in reading.clients.items() if not client.is_current}
    found.add(reading.observations, reading.absent | past)
    found.wireless_only = found.wireless_only and not any(each.address for each in reading.observations)
    found.told.append(reading.about or reading.kind)


class _Comparison:
    """Compares device by device."""

    def __init__(self, site: Site, router: _RouterList, subnets: Sequence[IPv4Network], taking_in: str) -> None:
        """Read what the roster knows; ``taking_in`` is the command for what only the router knows."""
        roster = site.roster_for_reading()
        self._router, self._subnets, self._taking_in = router, subnets, taking_in
        self._devices = all_devices(roster)
        self._of_mac = {mac: device for device in self._devices for mac in device.macs}
        self._on = networks_of(roster)
        networks = lists.all_networks(roster)
        policies = {each.ssid: policy_for(roster, each, self._devices) for each in networks}
        self._wanted = {ssid: wanted(each, site.clock.now(), site.clock.local) for ssid, each in policies.items()}
        self._entries = {
            rule.line.mac: (ssid, rule.line.name)
            for ssid, policy in policies.items()
            for rule in policy.rules
            if rule.list is ListMode.ALLOW
        }
        self._names = self._holders_of_names()
        self._pools = [Targets.parse(list(each.dhcp_pool)) for each in site.settings.here if each.dhcp_pool]

    def rows(self) -> Iterator[ComparedDevice]:
        """Yield every device of any source."""
        for device in self._devices:
            if device.macs:
                yield self._known(device)
        for mac, seen in self._router.seen.items():
            if mac not in self._of_mac:
                yield self._unknown(mac, seen)
        for mac, (ssid, name) in self._entries.items():
            if mac not in self._of_mac and mac not in self._router.seen:
                finding, why, step = _never_seen(ssid, str(mac))
                missing = Mention.MISSING
                yield ComparedDevice(name or str(mac), mac, None, missing, missing, "", finding, why, step)

    def _known(self, device: Device) -> ComparedDevice:
        listed = [mac for mac in device.macs if mac in self._router.seen]
        here = [mac for mac in listed if mac not in self._router.away]
        present = [stay.mac for stay in device.stays if stay.present and stay.mac]
        mac = next(iter((*here, *present, *listed, *device.macs)))
        router = Mention.HERE if here else Mention.AWAY if listed else Mention.MISSING
        scan = Mention.HERE if device.present else Mention.AWAY
        seen = self._router.seen.get(mac)
        address = next(iter(device.addresses), None) if device.present else seen.address if seen else None
        finding, why, step = self._finding(device, mac, router, scan, address)
        shown = address or next(iter(device.addresses), None)
        standing = str(device.standing)
        return ComparedDevice(device.called, mac, shown, router, scan, standing, finding, why, step)

    def _finding(
        self, device: Device, mac: MacAddress, router: Mention, scan: Mention, address: Address | None
    ) -> tuple[Finding | None, str, str]:
        """Return what a device of the roster needs: the gravest first."""
        word = shlex.quote(device.label or str(mac))
        if Mention.HERE in (router, scan) and (denied := self._denied(device)):
            by = "the router lists it as here" if router is Mention.HERE else "it answers scans"
            return (
                Finding.DENIED,
                f"it is refused on {denied!r}, and {by}",
                f"scopion wifi verify {shlex.quote(denied)}",
            )
        if router is not Mention.MISSING and (other := self._same_name(device, mac)):
            why = f"{other.called} has the same name, with {other.macs[0]}: another adapter, or an address that changed"
            return Finding.SAME_NAME, why, f"scopion same {word} {other.macs[0]}"
        if router is Mention.HERE and scan is not Mention.HERE:
            return Finding.SILENT, *self._silent(device, mac, address)
        if scan is Mention.HERE and router is Mention.MISSING and not device.own and not device.gateway:
            why = self._unlisted(device, mac)
            if why:
                return Finding.UNLISTED, why, f"scopion show {word}"
        if device.last_seen == NEVER and scan is not Mention.HERE and router is not Mention.HERE:
            entry = next((self._entries[each] for each in device.macs if each in self._entries), None)
            if entry is not None:
                return _never_seen(entry[0], device.label or str(mac))
        return None, "", ""

    def _unknown(self, mac: MacAddress, seen: Observation) -> ComparedDevice:
        name = _name_in(seen)
        holder = self._names.get(short_name(name).casefold()) if name else None
        router = Mention.AWAY if mac in self._router.away else Mention.HERE
        finding, why = Finding.UNKNOWN, "the router lists it, and the roster does not have it"
        if holder is not None:
            finding = Finding.SAME_NAME
            why = f"{holder.called} is known with {holder.macs[0]}: another adapter of it, or an address that changed"
        shown = name or str(mac)
        return ComparedDevice(shown, mac, seen.address, router, Mention.MISSING, "", finding, why, self._taking_in)

    def _denied(self, device: Device) -> str:
        """Return the network that refuses an adapter by which a device is here: not one on cable or elsewhere."""
        for ssid, now in self._wanted.items():
            for adapter in device.adapters:
                listed = adapter.mac in self._router.seen and adapter.mac not in self._router.away
                elsewhere = self._on.get(adapter.mac, ssid) != ssid or adapter.medium is Medium.CABLE or device.own
                if now.mode is ListMode.OFF or elsewhere or not (listed or adapter.present):
                    continue
                if now.mode is ListMode.DENY and adapter.mac in now.macs:
                    return ssid
                met = self._on.get(adapter.mac) == ssid and adapter.mac in self._router.seen
                if now.mode is ListMode.ALLOW and met and adapter.mac not in now.macs:
                    return ssid
        return ""

    def _same_name(self, device: Device, mac: MacAddress) -> Device | None:
        """Return another device that has the name by which the router, or a device itself, calls this one."""
        seen = self._router.seen.get(mac)
        name = (_name_in(seen) if seen else "") or device.name
        holder = self._names.get(short_name(name).casefold()) if name else None
        if holder is None or holder.id == device.id or (holder.label and device.label):
            return None  # a person who has named both has seen that they are two
        return holder

    def _silent(self, device: Device, mac: MacAddress, address: Address | None) -> tuple[str, str]:
        """Return why a device that the router lists may not have answered, and what to do."""
        if address is not None and address.version == 4 and not any(address in subnet for subnet in self._subnets):
            return f"it is at {address}, in a subnet that is not scanned", f"scopion scan {address}"
        on_air = any(adapter.medium is Medium.WIRELESS for adapter in device.adapters if adapter.mac == mac)
        step = f"scopion await {shlex.quote(device.label or str(mac))}"
        if on_air:
            return "it is on the air and silent: it dozes, or the access point keeps clients apart", step
        return "it did not answer: it was switched off since, or it answers nothing", step

    def _unlisted(self, device: Device, mac: MacAddress) -> str:
        """Return why a router may not list a device that answers; empty if its list does not cover it."""
        on_air = any(adapter.medium is Medium.WIRELESS for adapter in device.adapters)
        if self._router.wireless_only:
            return "it is on the air by another access point, or has just come" if on_air else ""
        asks = any(known.trait.kind in _DHCP_TRAITS for known in device.traits)
        outside = [
            each for each in device.addresses
            if each.version == 4 and self._pools and not any(each in pool for pool in self._pools)
        ]  # fmt: skip
        if outside:
            return f"its address {outside[0]} is outside of the DHCP pool: it is fixed on the device"
        if asks:
            return "it asks for its address by DHCP: another DHCP server or access point serves it"
        return "its address is fixed on the device, or another DHCP server or access point serves it"

    def _holders_of_names(self) -> Mapping[str, Device]:
        """Return the devices by their label and host names: the label counts first."""
        found: dict[str, Device] = {}
        for device in self._devices:
            for name in device.host_names:
                if device.macs:
                    found.setdefault(short_name(name.value).casefold(), device)
        return {
            **found,
            **{device.label.casefold(): device for device in self._devices if device.label and device.macs},
        }


_DHCP_TRAITS = (TraitKind.VENDOR_CLASS, TraitKind.REQUESTED_OPTIONS, TraitKind.CLIENT_ID)


def _never_seen(ssid: str, name: str) -> tuple[Finding, str, str]:
    why = f"it is on the allow list of {ssid!r}, and was never seen: is its MAC address right?"
    return Finding.NEVER_SEEN, why, f"scopion wifi drop {shlex.quote(ssid)} {shlex.quote(name)}"


def _name_in(seen: Observation) -> str:
    return next((trait.value for trait in seen.traits if trait.kind is TraitKind.NAME), "")


def _order(row: ComparedDevice) -> tuple[int, int, str]:
    finding = list(Finding).index(row.finding) if row.finding is not None else len(Finding)
    return not row.needs_a_person, finding, row.name.casefold()
