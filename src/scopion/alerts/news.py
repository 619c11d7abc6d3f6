"""Says in a sentence what an event means. All outputs use it, so that they read the same."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from scopion.model.clock import spoken_span
from scopion.model.device import Device, Event, EventKind
from scopion.model.mac import MacAddress
from scopion.vendors.registry import Vendors


@dataclass(frozen=True, slots=True)
class News:
    """An event's kind and its sentence."""

    kind: EventKind
    sentence: str


# In the order of importance.
ORDER = (
    EventKind.GATEWAY_CHANGED, EventKind.UNWANTED_PRESENT, EventKind.MISSING, EventKind.CONTESTED,
    EventKind.UNLISTED_PRESENT, EventKind.GUEST_OVERSTAYED, EventKind.NETWORK_DOWN, EventKind.SENSOR_LOST,
    EventKind.MOVED, EventKind.USES_MUCH, EventKind.JOINED, EventKind.REFUSED_ATTEMPT, EventKind.NETWORK_BACK,
    EventKind.MISSING_BACK, EventKind.SHEET_DUE, EventKind.SENSOR_BACK, EventKind.READDRESSED, EventKind.RETURNED,
    EventKind.RENAMED, EventKind.LEFT,
)  # fmt: skip


def tell(events: Sequence[Event], devices: Mapping[int, Device], vendors: Vendors) -> list[News]:
    """Return the events by importance; the arrival of an unwanted device, or a return elsewhere, is told once."""
    returned = {event.device_id for event in events if event.kind is EventKind.RETURNED and event.was_address}
    unwanted = {event.device_id for event in events if event.kind is EventKind.UNWANTED_PRESENT}
    owner = owners(devices.values())
    told = [
        News(event.kind, sentence(event, devices.get(event.device_id), vendors, other=owner.get(event.other_mac)))
        for event in events
        if not (event.kind is EventKind.READDRESSED and event.device_id in returned)
        and not (event.kind in (EventKind.JOINED, EventKind.RETURNED) and event.device_id in unwanted)
    ]
    return sorted(told, key=lambda news: ORDER.index(news.kind))


def owners(devices: Iterable[Device]) -> dict[MacAddress | None, Device]:
    """Return the device of each MAC address, so that a sentence can name the other device, too."""
    return {mac: device for device in devices for mac in device.macs}


def sentence(
    event: Event, device: Device | None, vendors: Vendors, subject: str = "", *, other: Device | None = None
) -> str:
    """Return ``kiln controller moved from 192.0.2.31 to 192.0.2.20``; ``subject`` replaces the device's name.

    ``other`` is the device of the event's other MAC address, if that is known.
    """
    what = subject or who(event.mac, device, vendors)
    there = f" in {event.place}" if event.place else ""
    if event.kind is EventKind.CONTESTED:
        holder = who(event.other_mac, other, vendors) if other is not None and other.name else event.other_mac
        return f"{what} claims {event.address}{there}, which {holder} uses: two adapters use one address"
    if event.kind is EventKind.GATEWAY_CHANGED:
        return (
            f"the gateway {event.address}{there} is now {event.mac}, it was {event.other_mac}: "
            "was the router replaced? If not, another machine may be posing as it"
        )
    if event.kind is EventKind.JOINED:
        newcomer = subject or who(event.mac, device, vendors, place=True)
        return f"{newcomer} is here for the first time, at {event.address}{there}"
    if event.kind is EventKind.RENAMED:
        return f"{what} calls itself {event.name!r} now, it was {event.was_name!r}"
    if event.kind is EventKind.UNWANTED_PRESENT:
        return f"{what} is unwanted and here, at {event.address}{there}"
    if event.kind is EventKind.GUEST_OVERSTAYED:
        ended = f" ended on {device.guest_until.isoformat()}" if device and device.guest_until else " has ended"
        return f"{what} is still here, at {event.address}{there}: its time as a guest{ended}"
    if event.kind is EventKind.UNLISTED_PRESENT:
        return f"{what} is on the air and on no allow list, at {event.address}{there}"
    if event.kind is EventKind.NETWORK_DOWN:
        return f"the network {event.name}{there} is down: {event.was_name or 'no device answers any more'}"
    if event.kind is EventKind.NETWORK_BACK:
        down = f" after {spoken_span(event.at - event.away_since)}" if event.away_since else ""
        return f"the network {event.name}{there} is back{down}"
    if event.kind is EventKind.SENSOR_LOST:
        silent = f" for {spoken_span(event.at - event.away_since)}" if event.away_since else ""
        return f"the sensor {event.name} has said nothing{silent}: what comes and goes{there} is not seen"
    if event.kind is EventKind.SENSOR_BACK:
        silent = f", after {spoken_span(event.at - event.away_since)}" if event.away_since else ""
        return f"the sensor {event.name}{there} is heard again{silent}"
    if event.kind is EventKind.SHEET_DUE:
        return f"the list of {event.name!r} has changed, and only you can type that into its router: a sheet is due"
    if event.kind is EventKind.REFUSED_ATTEMPT:
        where = f" by {event.was_name}" if event.was_name else ""
        return f"{what} asked to join {event.name!r}, and was refused{where}"
    if event.kind is EventKind.USES_MUCH:
        return f"{what} uses much of the line: {event.name}"
    if event.kind is EventKind.MOVED:
        return f"{what} was moved: it is at {event.name} now, it was at {event.was_name}"
    if event.kind is EventKind.MISSING:
        silent = f", silent for {spoken_span(event.at - event.away_since)}" if event.away_since else ""
        return f"{what} is missing{f', {event.was_name}' if event.was_name else ''}{silent}"
    if event.kind is EventKind.MISSING_BACK:
        silent = f", after {spoken_span(event.at - event.away_since)}" if event.away_since else ""
        return f"{what} is not missing any more{silent}"
    if event.kind is EventKind.LEFT:
        return f"{what} is gone from {event.address}{there}"
    if event.kind is EventKind.READDRESSED:
        return f"{what} moved from {event.was_address} to {event.address}{there}"
    away = f" after {spoken_span(event.at - event.away_since)}" if event.away_since else ""
    before = f" (before: {event.was_address})" if event.was_address else ""
    if event.away_since is None and there:
        return f"{what} is{there} for the first time, at {event.address}"
    return f"{what} is back{away}, at {event.address}{there}{before}"


def who(mac: MacAddress | None, device: Device | None, vendors: Vendors, *, place: bool = False) -> str:
    """Return a device as a sentence names it: by its label; else by name and MAC, or by MAC and vendor (with its
    place).
    """
    if device and device.label:
        return device.label
    if mac is None:
        return device.called if device else "a device"
    maker = vendors.of(mac)
    said = ", ".join(filter(None, (maker.name.strip("()"), maker.place if place else "")))
    if device and device.name:
        return f"{device.name} ({mac}, {said})" if place else f"{device.name} ({mac})"
    return f"{mac} ({said})"
