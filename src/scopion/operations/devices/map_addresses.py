"""The addresses of the site's subnets as the roster knows them: their devices, and what is reserved.

It sends nothing: an address that was not asked about since the last scan is shown as it was then.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.model.device import Device, Stay
from scopion.model.errors import NotFound, UsageError
from scopion.model.place import PlacedSubnet
from scopion.model.targets import Targets
from scopion.operations.devices.list_devices import subnet_called
from scopion.operations.site.open_site import Site
from scopion.reports.address_use import SubnetUse, subnet_use
from scopion.roster.read_devices import all_devices
from scopion.roster.read_history import stays_since
from scopion.roster.scans import all_subnets, last_complete_scan
from scopion.roster.store.open_roster import Roster

# As large as a scan without a question.
LARGEST = 16
LATELY = timedelta(days=30)


@dataclass(frozen=True, slots=True)
class AddressMap:
    """One subnet of a place, and how recent its data is."""

    place: str  # empty: the only place, which has no name
    name: str  # site.toml's; empty if it gives none
    use: SubnetUse
    pool_known: bool
    scanned: datetime | None  # when the last complete scan of it ended; None: not remembered
    since: datetime  # how far back the roster goes
    devices: Mapping[int, Device]


def address_maps(
    site: Site, which: str | None = None, place: str | None = None, lately: timedelta = LATELY
) -> list[AddressMap]:
    """Return the map of one subnet, by its range or name, or those of all subnets of a place or of the site.

    Raises NotFound if nothing is remembered, UsageError for an unknown subnet or one that is too large to be drawn.
    """
    site.require_roster()
    roster = site.roster_for_reading()
    subnets = placed_subnets_called(site, which, place) if which else subnets_of_site(site, place)
    for _, subnet in subnets:
        if subnet.prefixlen < LARGEST:
            raise UsageError(f"{subnet} is too large for a map: give a part of it, a /{LARGEST} at most")
    at = site.clock.now()
    devices = all_devices(roster)
    stays = [(number, stay) for number, each in stays_since(roster, at - lately).items() for stay in each]
    return [map_of(site, roster, subnet, devices, stays, at - lately) for subnet in subnets]


def subnets_of_site(site: Site, place: str | None) -> list[PlacedSubnet]:
    """Return all subnets of a place, or of the site. Raises NotFound if there is none yet."""
    found = [each for each in subnets_of(site, site.roster_for_reading()) if place in (None, each.place)]
    if not found:
        where = f"of {place}" if place else "of the site"
        raise NotFound(f"no subnet {where} is known yet: scopion scan looks at the one that you are on")
    return found


def subnets_of(site: Site, roster: Roster) -> list[PlacedSubnet]:
    """Return the subnets that were scanned, and those that site.toml names: this machine's place first, in the order of
    their addresses.
    """
    home = roster.home
    found = {PlacedSubnet(each.place, each.range) for each in all_subnets(roster)}
    found |= {PlacedSubnet(_stored(site, each.place, home), each.range) for each in site.settings.subnet}
    return sorted(found, key=lambda each: (each.place != home, each))


def _stored(site: Site, place: str, home: str) -> str:
    """Return a place of site.toml as the roster has it: a name that was just written is not in it yet."""
    return home if place in ("", site.settings.place) else place


def placed_subnets_called(site: Site, which: str, place: str | None) -> list[PlacedSubnet]:
    """Return the subnets that a range or a name means: a range may be one of several places. Raises UsageError."""
    subnet = subnet_called(site, which)
    home = site.roster_for_reading().home
    known = subnets_of(site, site.roster_for_reading())
    of_place = [each for each in known if place in (None, each.place)]
    within = [PlacedSubnet(each.place, subnet) for each in of_place if subnet.subnet_of(each.range)]
    return list(dict.fromkeys(within)) or [PlacedSubnet(home if place is None else place, subnet)]


def map_of(
    site: Site,
    roster: Roster,
    placed: PlacedSubnet,
    devices: Sequence[Device],
    stays: Sequence[tuple[int, Stay]],
    lately: datetime,
) -> AddressMap:
    """Return the map of one subnet, from what was read of the roster already."""
    place, subnet = placed
    settings = site.settings.of_subnet(subnet, place)
    pool = Targets.parse(settings.dhcp_pool) if settings.dhcp_pool else None
    reserved = Targets.parse(settings.reserved) if settings.reserved else None
    return AddressMap(
        place=place,
        name=settings.name,
        use=subnet_use(subnet, [each for each in stays if each[1].place == place], lately, pool, reserved),
        pool_known=pool is not None,
        scanned=last_complete_scan(roster, subnet, place),
        since=min((device.first_seen for device in devices), default=site.clock.now()),
        devices={device.id: device for device in devices},
    )
