"""What is said at the broker for home automation and scripts: for each device whether it is here, and each event."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from scopion.alerts.news import owners, sentence
from scopion.model.device import Device, Standing
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices, devices_about
from scopion.roster.read_events import came_last, events_after, last_event
from scopion.wire.serial import event_to_json, moment_text

PRESENCE = "presence/1"
# A device on which no person has said a word is left out when it was not seen for so long: telephones that make up
# another address each day would fill the broker.
_REMEMBERED = timedelta(days=7)
# So many events are said at a time; the others follow.
_MOST_EVENTS = 100


@dataclass(frozen=True, slots=True)
class Announcements:
    """What is to be said now."""

    presence: Mapping[str, bytes] = field(default_factory=dict)  # by the last part of the topic
    events: tuple[tuple[str, bytes], ...] = ()  # each with its kind
    last: int = 0  # the number of the last of these events


def announcements(site: Site, *, presence: bool, after: int | None) -> Announcements:
    """Return which devices are here, if that is asked for, and the events ``after`` a number; None: none of them."""
    roster = site.roster_for_reading()
    said: Mapping[str, bytes] = {}
    if presence:
        now, came = site.clock.now(), came_last(roster)
        said = {
            topic_of(device): _octets(presence_of(device, came.get(device.id)))
            for device in all_devices(roster)
            if device.present or device.standing is not Standing.NEW or now - device.last_seen < _REMEMBERED
        }
    if after is None:
        return Announcements(said)
    events = events_after(roster, after, _MOST_EVENTS)
    devices = devices_about(roster, events)
    owner = owners(devices.values())
    told = []
    for event in events:
        device = devices.get(event.device_id)
        says = sentence(event, device, site.vendors, other=owner.get(event.other_mac))
        told.append((str(event.kind), _octets({**event_to_json(event), "says": says})))
    return Announcements(said, tuple(told), events[-1].id if events else after)


def last_said(site: Site) -> int:
    """Return the number of the last event that was said at the broker; at first that of the latest, without a word."""
    roster = site.roster
    kept = roster.meta(_LAST_SAID)
    if kept is None:
        with roster.transaction():
            roster.set_meta(_LAST_SAID, kept := str(last_event(roster)))
    return int(kept)


def note_said(site: Site, number: int) -> None:
    """Note that the broker has all events up to a number. Raises StorageFailed."""
    with site.roster.transaction():
        site.roster.set_meta(_LAST_SAID, str(number))


_LAST_SAID = "said_at_broker"  # meta


def topic_of(device: Device) -> str:
    """Return the last part of a device's topic: its first MAC address without separators, which stays the same."""
    return str(device.macs[0]).replace(":", "") if device.macs else f"device-{device.id}"


def presence_of(device: Device, came: datetime | None) -> dict[str, Any]:
    """Return the document of a device. ``came``: when it joined or returned last, None if that is not known."""
    here = device.present
    if here:
        began = min(stay.since for stay in device.stays if stay.present)
        since = min(came, began) if came is not None else began
    else:
        since = device.last_seen
    return {
        "form": PRESENCE,
        "device": device.id,
        "label": device.label,
        "name": device.name,
        "owner": device.owner,
        "standing": str(device.standing),
        "present": here,
        "since": moment_text(since),
        **({"place": device.places[0]} if device.places else {}),
        "addresses": [str(each) for each in device.addresses],
        "macs": [str(each) for each in device.macs],
    }


def _octets(document: Mapping[str, Any]) -> bytes:
    return json.dumps(document, ensure_ascii=False).encode()
