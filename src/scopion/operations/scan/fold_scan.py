"""The roster of one scan: what was known before, and the fold of what was seen."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv6Address

from scopion.attachment.ports import Interface
from scopion.discovery.probing import Method
from scopion.discovery.runner import Findings
from scopion.model.address import Address
from scopion.model.batch import ScanFacts
from scopion.model.device import Device, Event
from scopion.model.errors import DamagedRoster, ScopionError, StorageFailed
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Pair, Source, TraitKind
from scopion.operations.intake.patience import Patience
from scopion.operations.intake.queue_alerts import queue_for
from scopion.operations.intake.trust_scan import LATELY, doubt_about, finds_one_claimant, judging_sources
from scopion.operations.scan.prepare_scan import PreparedScan
from scopion.operations.scan.recognise_network import Recognition
from scopion.operations.site.open_site import Site
from scopion.operations.site.relay import must_be_apart
from scopion.operations.site.site_places import settle_home
from scopion.roster.folding.fold_observations import fold, note_gateway_changed, note_own_adapters
from scopion.roster.folding.judge_absence import Silence
from scopion.roster.read_devices import all_devices, devices_about
from scopion.roster.scans import (
    begin_scan,
    drop_scan,
    end_scan,
    known_subnets,
    note_baseline,
    note_subnet,
    usual_answers,
)
from scopion.roster.store.open_roster import MEMORY_LOST, Roster


@dataclass(slots=True)
class Folded:
    """The result of a fold."""

    done: bool = False
    baseline: bool = False
    events: list[Event] = field(default_factory=list)
    devices: list[Device] = field(default_factory=list)
    problem: str = ""
    doubt: str = ""  # why no absence was decided


# A neighbour counts as reachable for up to 45 s (RFC 4861, 10: 30 s, varied by half), and is then looked for during
# ten.
_BELIEVED_AT_MOST = timedelta(seconds=60)


class Memory:
    """The roster of one scan. A roster that cannot be written does not stop the scan: looking is still worth it."""

    def __init__(self, roster: Roster | None, scan: int, began: datetime, problem: str = "") -> None:
        self.roster = roster
        self.began = began
        self.scan = scan
        self.problem = problem
        self.lost = roster.memory_lost if roster else None
        self.devices = all_devices(roster) if roster else []
        self.place = roster.home if roster else ""
        self.subnets = known_subnets(roster) if roster else ()

    @classmethod
    def open(cls, site: Site, prepared: PreparedScan, started: datetime) -> Memory:
        """Open the roster and note that a scan begins; a roster that cannot be written is a problem to tell."""
        try:
            roster = cls._roster(site)
            settle_home(site, roster)
            name = prepared.choice.interface.name
            scan = begin_scan(roster, prepared.targets, prepared.subnet, name, prepared.method, started)
        except StorageFailed as error:
            return cls(None, 0, started, str(error))
        return cls(roster, scan, started)

    @staticmethod
    def _roster(site: Site) -> Roster:
        try:
            return site.roster
        except DamagedRoster:
            return site.roster  # moved aside just now; the new one remembers it, and the result tells it

    def expected(self) -> dict[Address, list[MacAddress]]:
        """Return the adapters at each address, as the roster last heard of it."""
        found: dict[Address, list[MacAddress]] = defaultdict(list)
        for stay in (each for device in self.devices for each in device.stays_in(self.place)):
            if stay.present:  # a host without a MAC address is expected as well, by its address alone
                found[stay.address] += [stay.mac] if stay.mac is not None else []
        return found

    def just_left(self, site: Site) -> set[tuple[MacAddress | None, Address]]:
        """Return pairs of MAC and address that were given up so lately that the system may still trust them."""
        since = site.clock.now() - LATELY
        return {
            (stay.mac, stay.address)
            for device in self.devices
            for adapter in device.adapters
            if not adapter.present and adapter.last_seen > since
            for stay in adapter.stays
            if stay.place == self.place
        }

    def freshly_named(self, site: Site) -> set[Pair]:
        """Return pairs whose names were heard lately: they need not be asked for again.

        While a site is watched, pairs that were asked lately and told none are among them. Beyond a router the MAC
        address is told only after the names: there the address alone has to do.
        """
        since = site.clock.now() - timedelta(seconds=site.settings.names.lifetime_s)
        named: set[Pair] = {
            (stay.mac, stay.address)
            for device in self.devices
            if any(known.trait.kind is TraitKind.NAME and known.last_seen > since for known in device.traits)
            for stay in device.stays_in(self.place)
            if stay.present
        }
        if site.watch_state is not None:
            named |= site.watch_state.asked_since(site.clock.monotonic() - site.settings.names.lifetime_s)
        return named | {(None, address) for _, address in named}

    def _spared(self, site: Site, prepared: PreparedScan, now: datetime) -> set[str]:
        """Return devices whose silence does not count yet: they were seen or heard within their patience."""

        def silent_since(device: Device) -> datetime:
            seen = device.last_seen_in(self.place)
            if site.watch_state is None:
                return seen
            return site.watch_state.silent_since(seen, device.macs, prepared.subnet)

        # The system's trust in some neighbours ends before that in others, so their silence may be the beginning of an
        # outage.
        least = _BELIEVED_AT_MOST if prepared.method is Method.TOUCH else timedelta(0)
        patience_with = Patience(site, prepared.subnet)
        return {
            key
            for device in self.devices
            if now - silent_since(device) < max(patience_with(device), least)
            for key in (*map(str, device.macs), *(str(stay.address) for stay in device.unpaired))
        }

    def fold(
        self,
        site: Site,
        prepared: PreparedScan,
        findings: Findings,
        seen: Sequence[Observation],
        gateway_mac: MacAddress | None,
        recognition: Recognition,
        own: Mapping[MacAddress, Medium],
    ) -> Folded:
        """Fold everything in one transaction, or say why not."""
        if self.roster is None:
            return Folded(problem=self.problem)
        try:
            if not recognition.is_site and not prepared.remember:
                drop_scan(self.roster, self.scan)
                if site.watch_state is not None and not findings.answered:
                    site.watch_state.note_reachable(prepared.subnet, site.clock.now(), down=True)
                return Folded()
            folded = self._fold(self.roster, site, prepared, findings, seen, gateway_mac, recognition, own)
            site.stands.append(f"the scan of {prepared.subnet} is remembered")
            return folded
        except ScopionError as error:
            return Folded(problem=str(error))

    def _fold(
        self,
        roster: Roster,
        site: Site,
        prepared: PreparedScan,
        findings: Findings,
        seen: Sequence[Observation],
        gateway_mac: MacAddress | None,
        recognition: Recognition,
        own: Mapping[MacAddress, Medium],
    ) -> Folded:
        now = site.clock.now()
        doubt = self._doubt(roster, prepared, findings, gateway_mac, now)
        asked_enough = findings.asked_enough if not doubt else ()
        if site.watch_state is not None:
            site.watch_state.note_reachable(prepared.subnet, now, down=bool(doubt))
        with roster.transaction():
            gateway = prepared.choice.interface.gateway if prepared.attached else None
            note_subnet(roster, prepared.subnet, gateway, gateway_mac, now)
            subnet = next(each for each in known_subnets(roster) if each.range == prepared.subnet)
            silent = not subnet.has_baseline
            if site.watch_state is not None and not silent:
                seen = site.watch_state.admitted(roster, seen, site.clock.monotonic())
            today = site.clock.local(now).date()
            events = fold(
                roster,
                seen,
                asked_enough,
                now,
                silence=self._silence(site, prepared, findings, now),
                scan=self.scan,
                silent=silent,
                today=today,
            )
            if recognition.gateway_changed and gateway_mac is not None:
                before = next(each.gateway_mac for each in self.subnets if each.range == prepared.subnet)
                events = [*note_gateway_changed(roster, gateway, gateway_mac, before, now, self.scan), *events]
            seen_in = {each.mac: prepared.subnet for each in seen if each.mac}
            queue_for(site, roster, events, devices_about(roster, events), seen_in)
            note_own_adapters(roster, own, now)
            end_scan(
                roster,
                self.scan,
                now,
                asked=findings.asked,
                answered=findings.answered,
                rounds=findings.rounds,
                completed=findings.completed,
            )
            # A scan that only listens has asked no address: that is no baseline.
            whole = findings.completed and findings.asked and findings.answered and prepared.whole
            baseline = bool(whole and not subnet.has_baseline)
            if baseline:
                note_baseline(roster, prepared.subnet, self.scan)
                roster.set_meta(MEMORY_LOST, None)
        if site.relay is not None:
            facts = scan_facts(prepared, findings, self.began, now, gateway, gateway_mac)
            site.relay.note(seen, facts, apart=must_be_apart(events, facts), news=bool(events))
        return Folded(True, baseline, events, all_devices(roster), doubt=doubt)

    def _doubt(
        self, roster: Roster, prepared: PreparedScan, findings: Findings, gateway_mac: MacAddress | None, now: datetime
    ) -> str:
        """Return why a scan makes no device absent; empty if it may."""
        here = [each for each in self.expected() if each in prepared.targets and each != prepared.own_address]
        if not findings.completed or not findings.asked or not here:
            return ""
        usual = usual_answers(roster, prepared.subnet, str(prepared.targets), prepared.method, now - LATELY)
        return doubt_about(findings.answered, usual, gateway_answers=gateway_mac is not None)

    def _silence(self, site: Site, prepared: PreparedScan, findings: Findings, now: datetime) -> Silence:
        """Return whose silence counts: by each device's patience, and by what the method can find."""
        judges = judging_sources(prepared.method, router_read=findings.router_read)
        one = finds_one_claimant(prepared.method)
        return Silence(self.began, self._spared(site, prepared, now), judges, one)


def scan_facts(
    prepared: PreparedScan,
    findings: Findings,
    began: datetime,
    ended: datetime,
    gateway: IPv4Address | None,
    gateway_mac: MacAddress | None,
) -> ScanFacts:
    """Return what a scan asked, for those who judge it elsewhere."""
    answered = {seen.address for seen in findings.observations}
    silent = [each for each in findings.asked_enough if isinstance(each, IPv6Address) and each not in answered]
    return ScanFacts(
        step=0,
        began=began,
        ended=ended,
        subnet=prepared.subnet,
        targets=prepared.targets,
        interface=prepared.choice.interface.name,
        method=str(prepared.method),
        asked=findings.asked,
        answered=findings.answered,
        rounds=findings.rounds,
        completed=findings.completed,
        times=findings.silent_requests or 0,
        span_s=findings.silent_span_s or 0.0,
        silent=tuple(sorted(silent)),
        gateway=gateway,
        gateway_mac=gateway_mac,
    )


def adapters_of(
    interfaces: Sequence[Interface], prepared: PreparedScan, seen: Sequence[Observation]
) -> dict[MacAddress, Medium]:
    """Return this machine's adapters for its device: real ones, and those seen or with an address in the subnet.

    Other virtual ones come and go, each time with another MAC address.
    """
    used = prepared.choice.interface.name
    shown = {each.mac for each in seen if each.source is Source.OWN}
    return {
        each.mac: each.medium
        for each in interfaces
        if each.mac and (not each.virtual or each.name == used or each.mac in shown or prepared.subnet in each.subnets)
    }
