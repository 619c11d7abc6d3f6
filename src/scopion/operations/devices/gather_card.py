"""Gathers all that is known of one device: what it is and why, when it is here, where it was, what else it may be."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta

from scopion.discovery.kinds import Guess
from scopion.model.address import Address, by_number
from scopion.model.device import Device, Event, EventKind, Stay
from scopion.model.mac import MacAddress
from scopion.model.observation import Source
from scopion.operations.devices.identify_device import Described, described
from scopion.operations.devices.list_devices import devices as all_known
from scopion.operations.devices.list_devices import placed
from scopion.operations.devices.place_devices import Spot, places_now
from scopion.operations.devices.rhythm import DAYS, Rhythm, rhythm
from scopion.operations.site.open_site import Site
from scopion.roster.look_alikes import LookAlike, candidate_pairs, family, look_alikes
from scopion.roster.read_events import EventFilter, find_events
from scopion.roster.read_history import looked_at, stays_since
from scopion.roster.resolve import resolve
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import EPOCH
from scopion.roster.undo.record_changes import Change, latest_changes
from scopion.roster.wifi.air_sessions import AirSession, sessions_since
from scopion.roster.wifi.judge_private import Judged, judge
from scopion.roster.wifi.lists import Entry, all_entries
from scopion.vendors.registry import Vendor

_EVENTS_SHOWN = 8
_ROUTINE = (EventKind.LEFT, EventKind.RETURNED)
_ROUTINE_SHOWN = 3
_CHANGES_SHOWN = 8


@dataclass(frozen=True, slots=True)
class PastAddress:
    """An address that it had, and when."""

    address: Address
    mac: MacAddress | None
    stays: int
    stay: Stay  # from the first to the last time; present if it is there now
    sources: tuple[Source, ...]  # the source that told it


@dataclass(frozen=True, slots=True)
class Card:
    """What there is to say of a device."""

    device: Device
    described: Described
    vendors: Mapping[MacAddress, Vendor]
    guess: Guess
    rhythm: Rhythm
    addresses: tuple[PastAddress, ...]  # the latest first
    events: tuple[Event, ...]  # the latest ones, in the order of time
    changes: tuple[Change, ...]  # what people said and did, the latest first
    entries: tuple[Entry, ...]  # on lists of wireless networks
    look_alikes: tuple[tuple[LookAlike, Device], ...]  # the surest first, with the other device
    family: tuple[Device, ...]  # the look-alikes that may all be one thing with it
    private: tuple[Judged, ...]  # the habits of its private addresses
    spots: tuple[Spot, ...] = ()  # where each adapter hangs or is on the air now
    associated: tuple[AirSession, ...] = ()  # its associations of the last days, as access points report them


def card_of(site: Site, which: str) -> Card:
    """Return the card of the device that is meant. Raises NotFound, AmbiguousDevice."""
    everybody = all_known(site)
    device = resolve(everybody, which)
    return cards(site, everybody, [device])[0]


def cards(site: Site, everybody: Sequence[Device], chosen: Sequence[Device]) -> list[Card]:
    """Return the cards of some devices; the comparison with all others is computed once."""
    roster = site.roster_for_reading()
    past, proposals = _compared(roster, everybody, chosen)
    by_id = {device.id: device for device in everybody}
    now = site.clock.now()
    looked = looked_at(roster, now - timedelta(days=DAYS + 1))
    of_list = all_entries(roster)
    on_air = sessions_since(roster, now - timedelta(days=DAYS + 1))
    places = places_now(roster, now)
    found = []
    for device in chosen:
        alike = [(each, by_id[each.other(device.id)]) for each in proposals if device.id in each.devices]
        stays = past.get(device.id, [])
        lately = [
            (stay.since, now if stay.present else stay.until)
            for stay in stays
            if stay.present or stay.until > now - timedelta(days=DAYS + 1)
        ]
        associated = on_air.get(device.id, ())
        lately += [(each.since, now if each.present else each.until) for each in associated]
        known = placed(described(device, site.vendors, site.kinds), places)
        found.append(
            Card(
                device=device,
                described=known,
                vendors=dict(zip(device.macs, known.vendors, strict=True)),
                guess=known.guess,
                rhythm=rhythm(lately, looked, device.first_seen, now, site.clock.local),
                addresses=_addresses(stays),
                events=_events(roster, device),
                changes=tuple(latest_changes(roster, _CHANGES_SHOWN, device=device.id)),
                entries=tuple(each for each in of_list if each.device_id == device.id or each.mac in device.macs),
                look_alikes=tuple(alike),
                family=tuple(by_id[number] for number in family(device.id, proposals)),
                spots=places.all_of(device),
                associated=tuple(associated),
                private=_habits(device, stays, [other for _, other in alike]),
            )
        )
    return found


def habits(roster: Roster, everybody: Sequence[Device], device: Device) -> tuple[Judged, ...]:
    """Return what a device does with its private addresses; nothing if it has none."""
    if not any(mac.is_private for mac in device.macs):
        return ()
    past, proposals = _compared(roster, everybody, [device])
    by_id = {each.id: each for each in everybody}
    alike = [by_id[each.other(device.id)] for each in proposals if device.id in each.devices]
    return _habits(device, past.get(device.id, ()), alike)


def likeliest(roster: Roster, everybody: Sequence[Device], device: Device) -> LookAlike | None:
    """Return the surest proposal about a device, if there is one."""
    _, proposals = _compared(roster, everybody, [device])
    return next((each for each in proposals if device.id in each.devices), None)


def _compared(
    roster: Roster, everybody: Sequence[Device], chosen: Sequence[Device]
) -> tuple[dict[int, list[Stay]], list[LookAlike]]:
    """Return the past of some devices, and the proposals about them and about each other's look-alikes."""
    numbers = {device.id for device in chosen}
    pairs = candidate_pairs(everybody, numbers)
    past = stays_since(roster, EPOCH, numbers | {number for pair in pairs for number in pair})
    return past, look_alikes(everybody, pairs, past)


def _habits(device: Device, stays: Sequence[Stay], alike: Sequence[Device]) -> tuple[Judged, ...]:
    predecessors = [other.called for other in alike if any(mac.is_private for mac in other.macs)]
    return tuple(judge(device, stays, predecessors))


def _events(roster: Roster, device: Device) -> tuple[Event, ...]:
    """Return the latest events; of comings and goings only the very latest, or there would be nothing else."""
    notable = tuple(kind for kind in EventKind if kind not in _ROUTINE)
    told = find_events(roster, EventFilter(kinds=notable, devices=(device.id,)), _EVENTS_SHOWN)
    routine = find_events(roster, EventFilter(kinds=_ROUTINE, devices=(device.id,)), _ROUTINE_SHOWN)
    return tuple(sorted((*told, *routine), key=lambda event: (event.at, event.id)))


def _addresses(stays: Sequence[Stay]) -> tuple[PastAddress, ...]:
    """Return each address of a place once for each adapter, with the first and the last time."""
    groups: dict[tuple[MacAddress | None, Address, str], list[Stay]] = {}
    for stay in stays:
        groups.setdefault((stay.mac, stay.address, stay.place), []).append(stay)
    for key, group in groups.items():  # an address that only a record mentions says nothing beside a seen one
        groups[key] = [stay for stay in group if stay.dated] or group
    found = [
        PastAddress(
            address,
            mac,
            len(group),
            Stay(
                mac,
                address,
                min(stay.since for stay in group),
                max(stay.until for stay in group),
                any(stay.present for stay in group),
                place=place,
            ),
            tuple(dict.fromkeys(stay.source for stay in group if stay.source)),
        )
        for (mac, address, place), group in groups.items()
    ]
    return tuple(
        sorted(found, key=lambda past: (not past.stay.present, -past.stay.until.timestamp(), by_number(past.address)))
    )
