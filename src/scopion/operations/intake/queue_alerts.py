"""Who is told of what at a site: queues alerts for events where they are recorded, and words them when they go.

Called inside the transaction of a fold. Without a channel nothing is queued, and nothing of alerts is loaded.
"""

from __future__ import annotations

import logging
import shlex
from collections.abc import Mapping, Sequence
from functools import cached_property
from ipaddress import IPv4Network
from types import MappingProxyType
from typing import TYPE_CHECKING

from scopion.alerts.alert_settings import TERMINAL, ChannelSettings
from scopion.model.device import Device, Event, EventKind
from scopion.model.errors import ScopionError, place_of
from scopion.model.mac import MacAddress
from scopion.operations.devices.identify_device import described
from scopion.roster.mutes import Learning, learning
from scopion.roster.read_devices import all_devices
from scopion.roster.scans import known_subnets
from scopion.roster.store.open_roster import Roster

if TYPE_CHECKING:
    from scopion.alerts.message import Message
    from scopion.alerts.phrases import About, Phrases
    from scopion.alerts.queue_by_rules import Policy
    from scopion.alerts.rules import Occasion
    from scopion.model.alert import Alert
    from scopion.operations.site.open_site import Site
    from scopion.roster.scans import KnownSubnet
    from scopion.roster.wifi.lists import Network

_log = logging.getLogger(__name__)
_NOWHERE: Mapping[MacAddress, IPv4Network] = MappingProxyType({})


def channels_of(site: Site) -> tuple[ChannelSettings, ...]:
    """The channels by which somebody is told: those that are set, else the bell of a watch that has a terminal."""
    if site.settings.channel or site.vigil is None or not site.vigil.terminal:
        return site.settings.channel
    return (TERMINAL,)


def policy_of(site: Site) -> Policy | None:
    """Who is told what; None if there is nobody to tell."""
    channels = channels_of(site)
    if not channels:
        return None
    from scopion.alerts.queue_by_rules import Policy

    return Policy(tuple(each.name for each in channels), site.settings.rule, site.settings.alerts)


def queue_for(
    site: Site, roster: Roster, events: Sequence[Event], seen_in: Mapping[MacAddress, IPv4Network] = _NOWHERE
) -> int:
    """Queue what is to be told of these events, which have just been recorded. Returns how many are told.

    ``seen_in`` has the subnet on whose link an adapter was seen, for those whose address does not tell.
    """
    policy = policy_of(site) if events else None
    if policy is None:
        return 0
    from scopion.alerts.queue_by_rules import queue_alerts, queue_plainly

    with roster.transaction():
        try:
            with roster.savepoint():
                return queue_alerts(roster, _occasions(site, roster, events, seen_in), policy, site.clock)
        except ScopionError:
            raise
        except Exception as error:  # what is recorded does not depend on how it is told: then everybody is told
            _log.error("the rules of alerts could not be applied: %s", place_of(error))
            return queue_plainly(roster, events, policy)


def _occasions(
    site: Site, roster: Roster, events: Sequence[Event], seen_in: Mapping[MacAddress, IPv4Network]
) -> list[Occasion]:
    from scopion.alerts.rules import Occasion

    devices = {device.id: device for device in all_devices(roster)}
    subnets = known_subnets(roster)
    learnt = {each.range for each in learnt_subnets(site, roster)}
    ranges = [each.range for each in subnets]
    gateways = {each.gateway for each in subnets}
    by_kind = any(rule.kinds for rule in site.settings.rule)
    found = []
    for event in events:
        device = devices.get(event.device_id)
        subnet = _subnet_of(event, device, ranges, seen_in)
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


def _subnet_of(
    event: Event,
    device: Device | None,
    subnets: Sequence[IPv4Network],
    seen_in: Mapping[MacAddress, IPv4Network] = _NOWHERE,
) -> IPv4Network | None:
    """Where it happened: most newcomers show an IPv6 address first, which tells no subnet, so that others are asked."""
    addresses = (event.address, *(device.addresses if device is not None else ()))
    found = next((each for address in addresses for each in subnets if address in each), None)
    seen = seen_in.get(event.mac) if event.mac is not None else None
    return found or (seen if seen in subnets else subnets[0] if len(subnets) == 1 else None)


def learnt_subnets(site: Site, roster: Roster) -> list[Learning]:
    """The subnets that are being learnt, and until when."""

    def days(subnet: IPv4Network) -> float:
        own = site.settings.of_subnet(subnet).learning_days
        return site.settings.alerts.learning_days if own is None else own

    return learning(roster, days, site.clock.now())


def phrases_of(site: Site, networks: Sequence[Network] = ()) -> Phrases:
    """How messages of the site speak; ``networks`` are its wireless ones."""
    from scopion.alerts.phrases import Phrases
    from scopion.operations.site.find_folder import usual_folder

    # Who reads the message may use another account: a folder that commands do not find by themselves is named.
    by_itself = site.story is not None or site.folder == usual_folder()
    program = "scopion" if by_itself else f"scopion --site {shlex.quote(str(site.folder))}"
    ssid = networks[0].ssid if len(networks) == 1 else ""
    return Phrases(site.name, site.clock, site.vendors, program, ssid)


class Teller:
    """Words alerts with all that is known by now of those whom they are about; the roster is read once."""

    def __init__(self, site: Site, roster: Roster) -> None:
        self._site = site
        self._roster = roster

    @cached_property
    def _devices(self) -> Mapping[int, Device]:
        return {device.id: device for device in all_devices(self._roster)}

    @cached_property
    def _phrases(self) -> Phrases:
        from scopion.roster.wifi.lists import all_networks

        return phrases_of(self._site, all_networks(self._roster))

    @cached_property
    def _subnets(self) -> tuple[KnownSubnet, ...]:
        return known_subnets(self._roster)

    def message(self, alert: Alert) -> Message:
        """As it was sent, else as it would be sent now."""
        from scopion.alerts.message import message_from_json
        from scopion.alerts.wording import worded

        if alert.message is not None:
            return message_from_json(alert.message)
        closely = len(alert.events) == 1
        about = {event.device_id: self._about(event, closely) for event in reversed(alert.events)}
        return worded(alert, about, self._phrases)

    def _about(self, event: Event, closely: bool) -> About:
        from scopion.alerts.phrases import About

        site, device = self._site, self._devices.get(event.device_id)
        at_gateway = event.address in {each.gateway for each in self._subnets}
        # One that was noticed by IPv6 mostly has an IPv4 address, too, which says more.
        by_ipv6 = device is not None and event.address.version == 6
        better = next((each for each in device.addresses if each.version == 4), None) if by_ipv6 and device else None
        subnet = called_subnet(site, _subnet_of(event, device, [each.range for each in self._subnets]))
        if device is None:
            return About(None, subnet=subnet, at_gateway=at_gateway)
        guess = described(device, site.vendors, site.kinds).guess
        closely = closely and event.kind in (EventKind.JOINED, EventKind.UNLISTED_PRESENT)
        looks_like = self._looks_like(device) if closely else ""
        on_air = self._on_air(event) if event.mac is not None else ""
        return About(device, better, subnet, guess.kind, guess.evidence, looks_like, at_gateway, on_air)

    def _on_air(self, event: Event) -> str:
        """Where the adapter was associated, if an access point tells."""
        from scopion.roster.wifi.associations import association_of

        found = association_of(self._roster, event.mac) if event.mac is not None else None
        return f"{found.ssid} ({found.access_point}, {found.radio} GHz)" if found is not None else ""

    def _looks_like(self, device: Device) -> str:
        """The likeliest device that this may be under another MAC, with the evidence."""
        from scopion.operations.devices.gather_card import likeliest

        best = likeliest(self._roster, list(self._devices.values()), device)
        if best is None:
            return ""
        return f"{self._devices[best.other(device.id)].called} ({best.words}: {', '.join(best.evidence)})"


def called_subnet(site: Site, subnet: IPv4Network | None) -> str:
    """A subnet as one calls it: ``workshop (192.0.2.0/24)``, or its range alone."""
    name = site.settings.of_subnet(subnet).name if subnet else ""
    return f"{name} ({subnet})" if name else str(subnet or "")
