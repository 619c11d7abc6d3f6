"""What is said at the broker for home automation and scripts: for each device whether it is here, and each event."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from scopion.alerts.news import owners, sentence
from scopion.model.device import Device, Event
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices, devices_about
from scopion.roster.read_events import came_last
from scopion.roster.said_events import events_to_say
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
    events: tuple[tuple[Event, bytes], ...] = ()


def announcements(site: Site, *, presence: bool, events: bool) -> Announcements:
    """Return which devices are here, and the next events that were not said, as far as each is asked for.

    Raises StorageFailed.
    """
    said: Mapping[str, bytes] = {}
    if presence:
        roster, now = site.roster_for_reading(), site.clock.now()
        came = came_last(roster)
        said = {
            topic_of(device): _octets(presence_of(device, came.get(device.id)))
            for device in all_devices(roster)
            if device.present or device.revision or now - device.last_seen < _REMEMBERED
        }
    return Announcements(said, tuple(_told(site)) if events else ())


def _told(site: Site) -> Iterator[tuple[Event, bytes]]:
    events = events_to_say(site.roster, _MOST_EVENTS)
    devices = devices_about(site.roster, events)
    owner = owners(devices.values())
    for event in events:
        says = sentence(event, devices.get(event.device_id), site.vendors, other=owner.get(event.other_mac))
        yield event, _octets({**event_to_json(event), "says": says})


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
