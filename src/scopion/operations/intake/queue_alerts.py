"""Queues alerts for events in the transaction that records them, by the rules and channels of the site.

Called inside the transaction of a fold, so that an event is never without its alerts. Without a channel nothing is
queued.
"""

from __future__ import annotations

import logging
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from ipaddress import IPv4Network
from sqlite3 import Connection
from types import MappingProxyType
from typing import TYPE_CHECKING

from scopion.alerts.alert_settings import TERMINAL, AlertSettings, ChannelSettings, RuleSettings
from scopion.alerts.missing import expectation
from scopion.alerts.rules import ENDS, AlertHistory, Occasion, channels_told, is_grave, names_of, plan, rule_for
from scopion.model.alert import Gathering, Severity
from scopion.model.clock import Clock
from scopion.model.device import Device, Event, EventKind
from scopion.model.errors import ScopionError, place_of
from scopion.model.mac import MacAddress
from scopion.operations.devices.identify_device import described
from scopion.roster.follow_alerts import follow
from scopion.roster.mutes import Learning, learning, mutes
from scopion.roster.outbox import gathered_since, pressing, queue, told_since
from scopion.roster.scans import KnownSubnet, all_subnets
from scopion.roster.store.open_roster import Roster

if TYPE_CHECKING:
    from scopion.operations.site.open_site import Site

_log = logging.getLogger(__name__)
_NOWHERE: Mapping[MacAddress, IPv4Network] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class AlertPolicy:
    """The channels' names, the rules and the times by which alerts are queued."""

    channels: tuple[str, ...]
    rules: tuple[RuleSettings, ...]
    settings: AlertSettings


def channels_of(site: Site) -> tuple[ChannelSettings, ...]:
    """Return the channels that are set, else the bell of a watch in a terminal."""
    if site.settings.channel or site.watch_state is None or not site.watch_state.terminal:
        return site.settings.channel
    return (TERMINAL,)


def policy_of(site: Site) -> AlertPolicy | None:
    """Return the policy; None if there is no channel."""
    channels = channels_of(site)
    if not channels:
        return None
    return AlertPolicy(tuple(each.name for each in channels), site.settings.rule, site.settings.alerts)


def queue_for(
    site: Site,
    roster: Roster,
    events: Sequence[Event],
    devices: Mapping[int, Device],
    seen_in: Mapping[MacAddress, IPv4Network] = _NOWHERE,
) -> int:
    """Queue alerts for these events, which have just been recorded. Returns how many events are told.

    ``devices`` are those of the events. ``seen_in`` has the subnet on whose link an adapter was seen, for adapters
    whose address does not tell it.
    """
    policy = policy_of(site) if events else None
    if policy is None:
        return 0
    with roster.transaction():
        try:
            with roster.savepoint():
                return queue_alerts(roster, occasions_of(site, roster, events, devices, seen_in), policy, site.clock)
        except ScopionError:
            raise
        except Exception as error:  # recording does not depend on telling: then every channel is told
            _log.error("the rules of alerts could not be applied: %s", place_of(error))
            return queue_plainly(roster, events, policy)


def queue_alerts(roster: Roster, occasions: Sequence[Occasion], policy: AlertPolicy, clock: Clock) -> int:
    """Queue alerts. Returns how many events were put into some alert."""
    if not policy.channels or not occasions:
        return 0
    now = clock.now()
    wall = clock.local(now)
    fitting = []
    unwanted = {each.event.device_id for each in occasions if each.event.kind is EventKind.UNWANTED_PRESENT}
    with roster.transaction() as db:
        muted = mutes(roster, now)
        for occasion in occasions:
            event = occasion.event
            if event.kind is EventKind.JOINED and event.device_id in unwanted:
                continue  # that it is unwanted and present says all
            if any(each.covers(event.device_id, event.kind, now) for each in muted):
                continue
            told = channels_told(occasion, policy.rules, policy.channels, wall)
            fitting += [(occasion, channel, severity) for channel, severity in told.items()]
        grave = [is_grave(occasion.event.kind, severity) for occasion, _, severity in fitting]
        crowds = Counter((channel, each) for (_, channel, _), each in zip(fitting, grave, strict=True))
        for (occasion, channel, severity), is_so in zip(fitting, grave, strict=True):
            told_before = history_of(roster, channel, occasion.event.device_id, crowds[channel, is_so])
            telling = plan(occasion, severity, told_before, policy.settings, clock)
            event = occasion.event
            number = queue(db, event, channel, telling.severity, now, due=telling.due, gathers=telling.gathers)
            if policy.rules and severity is Severity.HIGH and event.kind not in ENDS:
                place = rule_for(occasion, policy.rules, channel, wall)
                assert place is not None  # else the channel were not told
                _follow(db, number, channel, policy.rules[place])
    return len(fitting)


def _follow(db: Connection, alert: int, channel: str, rule: RuleSettings) -> None:
    """Have an alert told again until someone has seen it, if its rule says so."""
    second = rule.second if rule.second not in (None, channel) else None
    if rule.repeat_s is None and second is None:
        return
    every = timedelta(seconds=rule.repeat_s) if rule.repeat_s is not None else None
    follow(db, alert, every, rule.repeat_times, second or "", timedelta(seconds=rule.second_after_s))


def queue_plainly(roster: Roster, events: Sequence[Event], policy: AlertPolicy) -> int:
    """Queue events for every channel, together and at once, if the rules cannot be applied. Returns how many."""
    with roster.transaction() as db:
        for event in events:
            for channel in policy.channels:
                queue(db, event, channel, Severity.NORMAL, event.at, due=event.at, gathers=Gathering.BURST)
    return len(events)


def history_of(roster: Roster, channel: str, device: int, crowd: int = 1) -> AlertHistory:
    """Return the history; with a ``crowd`` of such events to be told to the channel now, all of them are gathered."""

    def lately(kinds: frozenset[EventKind], since: datetime) -> bool:
        return told_since(roster.db, channel, device, kinds, since)

    def count(since: datetime) -> int:
        return max(pressing(roster.db, channel, since), crowd - 1)

    def gathered(word: str, since: datetime) -> bool:
        return gathered_since(roster.db, channel, word, since)

    return AlertHistory(lately, count, gathered)


def occasions_of(
    site: Site,
    roster: Roster,
    events: Sequence[Event],
    devices: Mapping[int, Device],
    seen_in: Mapping[MacAddress, IPv4Network] = _NOWHERE,
) -> list[Occasion]:
    """Return what a rule may ask about each event."""
    subnets = all_subnets(roster)
    learnt = {(each.place, each.range): each.until for each in learnt_subnets(site, roster)}
    gateways = {(each.place, each.gateway) for each in subnets}
    by_kind = any(rule.kinds for rule in site.settings.rule)
    found = []
    for event in events:
        device = devices.get(event.device_id)
        subnet = subnet_of(event, device, subnets, seen_in)
        key = (event.place, subnet)
        expected = expectation(device, site.settings.expect) if device is not None else None
        found.append(
            Occasion(
                event=event,
                standing=device.standing if device else None,
                kind=described(device, site.vendors, site.kinds).guess.kind if device and by_kind else "",
                subnet=subnet,
                subnet_name=site.settings.of_subnet(subnet, event.place).name if subnet else "",
                place=event.place,
                device_names=names_of(device),
                at_gateway=(event.place, event.address) in gateways,
                learning=subnet is not None and key in learnt and event.at < learnt[key],
                severity=expected.severity if expected is not None else None,
                at_switch=bool(site.settings.switch) and event.place == roster.home,
            )
        )
    return found


def subnet_of(
    event: Event,
    device: Device | None,
    subnets: Sequence[KnownSubnet],
    seen_in: Mapping[MacAddress, IPv4Network] = _NOWHERE,
) -> IPv4Network | None:
    """Return the event's subnet, in its place. Most devices first show an IPv6 address, which tells none, so others are
    used.
    """
    ranges = [each.range for each in subnets if each.place == event.place]
    others = (stay.address for stay in device.stays if stay.place == event.place) if device is not None else ()
    found = next((each for address in (event.address, *others) for each in ranges if address in each), None)
    seen = seen_in.get(event.mac) if event.mac is not None else None
    return found or (seen if seen in ranges else ranges[0] if len(ranges) == 1 else None)


def learnt_subnets(site: Site, roster: Roster) -> list[Learning]:
    """Return the subnets of all places that are being learnt, and until when."""

    def days(subnet: IPv4Network, place: str) -> float:
        own = site.settings.of_subnet(subnet, place).learning_days
        return site.settings.alerts.learning_days if own is None else own

    return learning(roster, days, site.clock.now())
