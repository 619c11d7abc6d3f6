"""Words alerts when they are delivered or shown, with what the roster knows of the devices by then."""

from __future__ import annotations

import shlex
from collections.abc import Mapping
from dataclasses import replace
from datetime import timedelta
from functools import cached_property
from ipaddress import IPv4Network
from typing import TYPE_CHECKING

from scopion.model.device import Device, Event, EventKind
from scopion.operations.devices.identify_device import described
from scopion.operations.devices.place_devices import places_now
from scopion.operations.intake.queue_alerts import subnet_of
from scopion.operations.pages.word_sheet import due_steps
from scopion.roster.follow_alerts import is_followed, seen_about
from scopion.roster.read_devices import all_devices
from scopion.roster.scans import all_subnets
from scopion.roster.store.open_roster import Roster

if TYPE_CHECKING:
    from scopion.alerts.message import Message
    from scopion.alerts.phrases import About, Phrases
    from scopion.model.alert import Alert
    from scopion.operations.devices.place_devices import PlacesNow, Spot
    from scopion.operations.site.open_site import Site
    from scopion.roster.scans import KnownSubnet


# Who has taken on an alert about a device is said with its next ones for so long, for so many devices of a message.
_LATELY, _MOST = timedelta(days=7), 3


def phrases_of(site: Site) -> Phrases:
    """Return the words of the site's messages."""
    from scopion.alerts.phrases import Phrases
    from scopion.operations.folder.find_folder import usual_folder

    # A reader of the message may use another account: a folder that commands do not find by themselves is named.
    by_itself = site.story is not None or site.folder == usual_folder()
    program = "scopion" if by_itself else f"scopion --site {shlex.quote(str(site.folder))}"
    return Phrases(site.name, site.clock, site.vendors, program)


class AlertWriter:
    """Words alerts with all that is known by now of the devices that they are about; reads the roster once."""

    def __init__(self, site: Site, roster: Roster, *, made_up: Device | None = None) -> None:
        self._site = site
        self._roster = roster
        self._made_up = made_up  # a device that is not in the roster

    @cached_property
    def _devices(self) -> Mapping[int, Device]:
        known = {device.id: device for device in all_devices(self._roster)}
        return known if self._made_up is None else {**known, self._made_up.id: self._made_up}

    @cached_property
    def _phrases(self) -> Phrases:
        return phrases_of(self._site)

    @cached_property
    def _places(self) -> PlacesNow:
        return places_now(self._roster, self._site.clock.now())

    @cached_property
    def _subnets(self) -> tuple[KnownSubnet, ...]:
        return all_subnets(self._roster)

    def message(self, alert: Alert) -> Message:
        """Return the message as it was sent, else as it would be sent now."""
        from scopion.alerts.message import message_from_json
        from scopion.alerts.wording import worded

        if alert.message is not None:
            return message_from_json(alert.message)
        closely = len(alert.events) == 1
        about = {event.device_id: self._about(event, closely) for event in reversed(alert.events)}
        return self._with_who(alert, worded(alert, about, self._phrases))

    def _with_who(self, alert: Alert, message: Message) -> Message:
        """Say who takes care of it already; else how to, if the alert is told again until someone does."""
        from scopion.alerts.follow_up import followed, taken_on

        since = self._site.clock.now() - _LATELY
        devices = dict.fromkeys(event.device_id for event in alert.events)
        seen = [found for each in list(devices)[:_MOST] if (found := seen_about(self._roster, each, since)) is not None]
        said = dict.fromkeys(taken_on(each, self._phrases) for each in seen)
        message = replace(message, paragraphs=(*message.paragraphs, *said))
        wanted = is_followed(self._roster, alert.id)
        return followed(message, alert.id, *wanted, self._phrases) if wanted is not None else message

    def _about(self, event: Event, closely: bool) -> About:
        from scopion.alerts.phrases import About

        site, device = self._site, self._devices.get(event.device_id)
        at_gateway = (event.place, event.address) in {(each.place, each.gateway) for each in self._subnets}
        # A device that was noticed by IPv6 usually has an IPv4 address, too, which says more.
        by_ipv6 = device is not None and event.address.version == 6
        stays = device.stays_in(event.place) if by_ipv6 and device is not None else ()
        better = next((each.address for each in stays if each.address.version == 4), None)
        subnet = called_subnet(site, subnet_of(event, device, self._subnets), event.place)
        if event.kind is EventKind.SHEET_DUE:
            return About(device, steps=due_steps(site, self._roster, event.name, event.was_name))
        if device is None:
            return About(None, subnet=subnet, at_gateway=at_gateway)
        guess = described(device, site.vendors, site.kinds).guess
        closely = closely and event.kind in (EventKind.JOINED, EventKind.UNLISTED_PRESENT)
        looks_like = self._looks_like(device) if closely else ""
        return About(
            device,
            better,
            subnet,
            guess.kind,
            guess.evidence,
            looks_like,
            at_gateway,
            on_air=self._on_air(event) if event.mac is not None else "",
            hangs_at=spot.at_length if (spot := self._wire_of(event)) is not None else "",
            socket=spot.where if spot is not None else "",
        )

    def _wire_of(self, event: Event) -> Spot | None:
        """Return where the adapter hangs by cable, if a switch tells and it is not on the air."""
        places = self._places
        return places.wires.get(event.mac) if event.mac is not None and event.mac not in places.air else None

    def _on_air(self, event: Event) -> str:
        """Return where the adapter was associated, if an access point tells."""
        from scopion.roster.wifi.associations import association_of

        found = association_of(self._roster, event.mac) if event.mac is not None else None
        return f"{found.ssid} ({found.where})" if found is not None else ""

    def _looks_like(self, device: Device) -> str:
        """Return the likeliest device that this may be under another MAC address, with the evidence."""
        from scopion.operations.devices.gather_card import likeliest

        best = likeliest(self._roster, list(self._devices.values()), device)
        if best is None:
            return ""
        return f"{self._devices[best.other(device.id)].called} ({best.words}: {', '.join(best.evidence)})"


def called_subnet(site: Site, subnet: IPv4Network | None, place: str = "") -> str:
    """Return a subnet as people call it: ``workshop (192.0.2.0/24)``, or its range alone; with its place, if it has a
    name.
    """
    name = site.settings.of_subnet(subnet, place).name if subnet else ""
    said = f"{name} ({subnet})" if name else str(subnet or "")
    return f"{said} in {place}" if said and place else said or place
