"""Who is told of what at a site: queues alerts for events where they are recorded, and words them when they go.

Called inside the transaction of a fold. Without a channel nothing is queued, and nothing of alerts is loaded.
"""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence
from dataclasses import replace
from ipaddress import IPv4Network
from typing import TYPE_CHECKING

from scopion.model.address import Address
from scopion.model.device import Device, Event, EventKind
from scopion.operations.described import described
from scopion.roster.devices import all_devices
from scopion.roster.mutes import Learning, learning
from scopion.roster.scans import known_subnets
from scopion.roster.store import Roster

if TYPE_CHECKING:
    from scopion.alerts.message import Message
    from scopion.alerts.queueing import Policy
    from scopion.alerts.rules import Occasion
    from scopion.alerts.wording import About, Writer
    from scopion.model.alert import Alert
    from scopion.operations.site import Site


def policy_of(site: Site) -> Policy | None:
    """Who is told what; None if there is nobody to tell."""
    channels = site.settings.channels if site.has_terminal else site.settings.channel
    if not channels:
        return None
    from scopion.alerts.queueing import Policy

    return Policy(tuple(each.name for each in channels), site.settings.rule, site.settings.alerts)


def queue_for(site: Site, roster: Roster, events: Sequence[Event]) -> int:
    """Queue what is to be told of these events, which have just been recorded. Returns how many are told."""
    policy = policy_of(site) if events else None
    if policy is None:
        return 0
    from scopion.alerts.queueing import queue_alerts

    with roster.transaction():
        return queue_alerts(roster, _occasions(site, roster, events), policy, site.clock)


def _occasions(site: Site, roster: Roster, events: Sequence[Event]) -> list[Occasion]:
    from scopion.alerts.rules import Occasion

    devices = {device.id: device for device in all_devices(roster)}
    subnets = known_subnets(roster)
    learnt = {each.range for each in learnt_subnets(site, roster)}
    gateways = {each.gateway for each in subnets}
    by_kind = any(rule.kinds for rule in site.settings.rule)
    found = []
    for event in events:
        device = devices.get(event.device_id)
        subnet = subnet_of(event, [each.range for each in subnets])
        found.append(
            Occasion(
                event=event,
                standing=device.standing if device else None,
                kind=described(device, site.vendors, site.kinds).guess.kind if device and by_kind else "",
                subnet=subnet,
                subnet_name=site.settings.of_subnet(subnet).name if subnet else "",
                device_names=_names(device),
                at_gateway=event.address in gateways,
                learning=subnet in learnt,
            )
        )
    return found


def _names(device: Device | None) -> frozenset[str]:
    if device is None:
        return frozenset()
    return frozenset({device.label.casefold(), *(str(mac) for mac in device.macs)} - {""})


def subnet_of(event: Event, subnets: Sequence[IPv4Network]) -> IPv4Network | None:
    """The subnet that an event belongs to; IPv6 tells none."""
    return _containing(event.address, subnets)


def _containing(address: Address, subnets: Sequence[IPv4Network]) -> IPv4Network | None:
    return next((each for each in subnets if address in each), None)


def learnt_subnets(site: Site, roster: Roster) -> list[Learning]:
    """The subnets that are being learnt, and until when."""

    def days(subnet: IPv4Network) -> float:
        own = site.settings.of_subnet(subnet).learning_days
        return site.settings.alerts.learning_days if own is None else own

    return learning(roster, days, site.clock.now())


def writer_of(site: Site) -> Writer:
    """Words the site's messages."""
    from scopion.alerts.wording import Writer
    from scopion.operations.folder import usual_folder

    # Who reads the message may use another account: a folder that commands do not find by themselves is named.
    by_itself = site.story is not None or site.folder == usual_folder()
    program = "scopion" if by_itself else f"scopion --site {shlex.quote(str(site.folder))}"
    return Writer(site.name, site.clock, site.vendors, program)


def worded(site: Site, roster: Roster, alert: Alert) -> Message:
    """The message for an alert, with all that is known by now of those whom it is about."""
    everybody = all_devices(roster)
    devices = {device.id: device for device in everybody}
    subnets = known_subnets(roster)
    ranges = [each.range for each in subnets]
    gateways = {each.gateway for each in subnets}
    about: dict[int, About] = {}
    for event in alert.events:
        if event.device_id not in about:
            single = len(alert.events) == 1
            known = _about(site, roster, event, devices, ranges, single)
            about[event.device_id] = replace(known, at_gateway=event.address in gateways)
    return writer_of(site).message(alert, about)


def _about(
    site: Site,
    roster: Roster,
    event: Event,
    devices: Mapping[int, Device],
    ranges: Sequence[IPv4Network],
    look_closely: bool,
) -> About:
    from scopion.alerts.wording import About

    device = devices.get(event.device_id)
    # One that was noticed by IPv6 mostly has an IPv4 address, too, which says more.
    better = [each for each in device.addresses if each.version == 4] if device and event.address.version == 6 else []
    subnet = subnet_of(event, ranges) if not better else _containing(better[0], ranges)
    if device is None:
        return About(None, subnet=called_subnet(site, subnet))
    guess = described(device, site.vendors, site.kinds).guess
    closely = look_closely and event.kind in (EventKind.JOINED, EventKind.UNLISTED_PRESENT)
    return About(
        device=device,
        address=better[0] if better else None,
        subnet=called_subnet(site, subnet),
        kind=guess.kind,
        kind_evidence=guess.evidence,
        looks_like=_looks_like(roster, device, devices) if closely else "",
    )


def _looks_like(roster: Roster, device: Device, devices: Mapping[int, Device]) -> str:
    """The likeliest device that this may be under another MAC, with the evidence."""
    from scopion.operations.card import likeliest

    best = likeliest(roster, list(devices.values()), device)
    if best is None:
        return ""
    return f"{devices[best.other(device.id)].called} ({best.words}: {', '.join(best.evidence)})"


def called_subnet(site: Site, subnet: IPv4Network | None) -> str:
    """A subnet as one calls it: ``workshop (192.0.2.0/24)``, or its range alone."""
    name = site.settings.of_subnet(subnet).name if subnet else ""
    return f"{name} ({subnet})" if name else str(subnet or "")
