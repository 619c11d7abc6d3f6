"""The devices of a site as they are remembered, for reading only."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Network

from scopion.model.device import Device
from scopion.model.errors import UsageError
from scopion.operations.devices.identify_device import Described, described
from scopion.operations.devices.place_devices import PlacesNow, places_now
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices
from scopion.roster.resolve import resolve


def devices(site: Site) -> list[Device]:
    """Return every device that the roster remembers; nothing is changed or made."""
    return all_devices(site.roster_for_reading())


def find_device(site: Site, which: str) -> Device:
    """Return the one device that is meant. Raises NotFound, AmbiguousDevice."""
    return resolve(devices(site), which)


def described_devices(site: Site) -> list[Described]:
    """Return every device with its vendors and its guessed kind."""
    vendors, kinds = site.vendors, site.kinds
    found = [described(device, vendors, kinds) for device in devices(site)]
    places = places_now(site.roster_for_reading(), site.clock.now())
    return [placed(each, places) for each in found] if places else found


def placed(known: Described, places: PlacesNow) -> Described:
    """Return a device with where it is now."""
    spot = places.of(known.device)
    if spot is None:
        return known
    return replace(known, where=spot.where, socket=places.socket_of(known.device))


def subnet_called(site: Site, text: str) -> IPv4Network:
    """Return a subnet by its range or by the name that site.toml gives it. Raises UsageError."""
    if (called := site.settings.called(text)) is not None:
        return called.range
    try:
        return IPv4Network(text.strip(), strict=False)
    except ValueError:
        named = [each.name for each in site.settings.subnet if each.name]
        others = f", or one of: {', '.join(named)}" if named else ""
        raise UsageError(f"{text!r} is not a subnet: write it as 192.0.2.0/24{others}") from None
