"""Tells what the rules of ``site.toml`` would do with an event: which channels would be told, when, and why.

The event is that of a known device, or of a made-up newcomer; nothing is recorded, nothing is queued.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv4Network

from scopion.alerts.alert_settings import RuleSettings
from scopion.alerts.rules import ENDS, USUAL_RULE, WORTH_TELLING, Occasion, plan, rule_for, severity_of
from scopion.model.address import Address
from scopion.model.alert import Gathering, Severity
from scopion.model.clock import Clock, spoken_span
from scopion.model.device import Adapter, Device, Event, EventKind, Standing, Stay
from scopion.model.errors import InvalidMacAddress, NotFound
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.operations.intake.queue_alerts import history_of, occasions_of, policy_of
from scopion.operations.site.open_site import Site
from scopion.roster.mutes import mutes
from scopion.roster.read_devices import all_devices
from scopion.roster.resolve import resolve
from scopion.roster.scans import known_subnets
from scopion.roster.store.open_roster import Roster

NEWCOMER = MacAddress(bytes.fromhex("00005e0053fe"))  # kept for documentation (RFC 7042, 2.1.2): no device has it
_NOWHERE = IPv4Address("192.0.2.254")  # kept for documentation (RFC 5737): for a site without a subnet
_WHY = {
    Gathering.LEARNING: "its subnet is being learnt, so that what joins is told once a day",
    Gathering.NIGHT: "it is night, and this can wait",
    Gathering.COOLING: "the same was told lately, so that more of it is gathered",
    Gathering.BURST: "much happens at a time, so that several are told together",
    Gathering.GRAVE: "much that is grave happens at a time, so that several are told together",
}


@dataclass(frozen=True, slots=True)
class MadeUp:
    """An event that has not happened, and the device that it is about."""

    event: Event
    device: Device


@dataclass(frozen=True, slots=True)
class Outlook:
    """What a channel would be told, and why."""

    channel: str
    told: bool
    severity: Severity | None
    due: datetime | None  # None: at once, or never
    rule: int | None  # the rule that decides, from 1; None: none fits, or there are none
    why: str


def newcomer(site: Site, roster: Roster, kind: EventKind = EventKind.JOINED, at: datetime | None = None) -> MadeUp:
    """Return a made-up device that is not seen yet, and its event in the first subnet of the site."""
    moment = at or site.clock.now()
    subnets = [each.range for each in known_subnets(roster)]
    used = {address for device in all_devices(roster) for address in device.addresses}
    address: Address = (
        next((each for each in _from_the_end(subnets[0]) if each not in used), _NOWHERE) if subnets else _NOWHERE
    )
    stay = Stay(NEWCOMER, address, moment, moment, present=True, place=roster.home)
    adapter = Adapter(NEWCOMER, Medium.UNKNOWN, moment, moment, (stay,))
    device = Device(0, Standing.NEW, moment, adapters=(adapter,))
    return MadeUp(Event(kind, moment, 0, NEWCOMER, address, place=roster.home), device)


def event_of(site: Site, roster: Roster, which: str, kind: EventKind, at: datetime | None = None) -> MadeUp:
    """Return an event of a device, or of a bare MAC address that no device has. Raises NotFound, AmbiguousDevice."""
    moment = at or site.clock.now()
    made_up = newcomer(site, roster, kind, at)
    try:
        device = resolve(all_devices(roster), which)
    except NotFound:
        try:
            mac = MacAddress.parse(which)
        except InvalidMacAddress:
            mac = None
        if mac is None:
            raise
        adapter = Adapter(mac, Medium.UNKNOWN, moment, moment)
        return MadeUp(replace(made_up.event, mac=mac), Device(0, Standing.NEW, moment, adapters=(adapter,)))
    address = next(iter(device.addresses), made_up.event.address)
    place = next((stay.place for stay in device.stays if stay.address == address), roster.home)
    return MadeUp(Event(kind, moment, device.id, next(iter(device.macs), None), address, place=place), device)


def outlook(site: Site, roster: Roster, it: MadeUp) -> list[Outlook]:
    """Return for each channel whether it would get an alert, when, and why. Raises NotFound without a channel."""
    policy = policy_of(site)
    if policy is None:
        raise NotFound("no channel is set, so no alert is sent: scopion alerts add makes one")
    (occasion,) = occasions_of(site, roster, [it.event], {it.device.id: it.device})
    clock = _ClockAt(site.clock, it.event.at)
    muted = any(each.covers(it.event.device_id, it.event.kind, it.event.at) for each in mutes(roster, it.event.at))
    found = []
    for channel in policy.channels:
        number = rule_for(occasion, policy.rules, channel, clock.local(it.event.at))
        rule = (policy.rules or (USUAL_RULE,))[number] if number is not None else None
        place = number + 1 if number is not None and policy.rules else None
        if muted or rule is None or rule.silent:
            why = "it is muted: scopion alerts mute lists that" if muted else _why_not(occasion, policy.rules, place)
            found.append(Outlook(channel, False, None, None, place, why))
            continue
        severity = rule.severity or severity_of(occasion)
        telling = plan(occasion, severity, history_of(roster, channel, it.event.device_id), policy.settings, clock)
        gathers = telling.gathers.partition(":")[0]
        said = f"rule {place} says so" if place is not None else "there are no rules, so that each channel is told"
        why = f"{said}; {_WHY[Gathering(gathers)]}" if gathers else said
        why += _until_seen(rule, channel) if severity is Severity.HIGH and it.event.kind not in ENDS else ""
        found.append(Outlook(channel, True, severity, telling.due if gathers else None, place, why))
    return found


def _until_seen(rule: RuleSettings, channel: str) -> str:
    """Return what happens as long as no one has seen an alert; empty if nothing does."""
    said = ""
    if rule.repeat_s is not None:
        said += f"; again every {spoken_span(timedelta(seconds=rule.repeat_s))} until someone has seen it"
    if rule.second not in (None, channel):
        said += f"; by {rule.second}, too, after {spoken_span(timedelta(seconds=rule.second_after_s))}"
    return said


def _why_not(occasion: Occasion, rules: tuple[RuleSettings, ...], place: int | None) -> str:
    if place is not None:
        return f"rule {place} keeps it silent"
    if not rules:
        usual = ", ".join(WORTH_TELLING)
        return f"without rules, {occasion.event.kind} is not told; told are {usual}"
    return "no rule fits"


def _from_the_end(subnet: IPv4Network) -> list[IPv4Address]:
    """Return the last addresses of a subnet, in which a device is seldom."""
    last = int(subnet.broadcast_address)
    return [IPv4Address(last - back) for back in range(1, min(subnet.num_addresses - 1, 64))]


class _ClockAt:
    """The site's clock, at a moment."""

    def __init__(self, clock: Clock, at: datetime) -> None:
        self._clock, self._at = clock, at

    def now(self) -> datetime:
        """Return the moment."""
        return self._at

    def monotonic(self) -> float:
        """Return the clock's own."""
        return self._clock.monotonic()

    def local(self, moment: datetime) -> datetime:
        """Return a moment at the site."""
        return self._clock.local(moment)

    def from_local(self, wall: datetime) -> datetime:
        """Return the moment of a time at the site."""
        return self._clock.from_local(wall)
