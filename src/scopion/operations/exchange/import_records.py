"""Imports a record of another machine: reads it, finds what is new in it, and folds it with its own times."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from ipaddress import IPv4Network

from scopion.discovery.records.reading import Reading
from scopion.discovery.records.registry import read_record
from scopion.model.device import Device
from scopion.model.errors import Refused
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, TraitKind
from scopion.model.text import counted, joined
from scopion.operations.exchange.read_input import Input
from scopion.operations.intake.count_octets import count_pasted
from scopion.operations.intake.pasted_lists import OnAir, associations_in, note_pasted, record_context
from scopion.operations.scan.describe_hosts import Describer, Host
from scopion.operations.site.change_roster import change
from scopion.operations.site.open_site import Site
from scopion.roster.folding.fold_observations import fold
from scopion.roster.read_devices import all_devices


@dataclass(frozen=True, slots=True)
class Imported:
    """What a record told, and what it changed (or would change)."""

    reading: Reading
    as_of: datetime
    hosts: list[Host]  # by address; adapters without an address are missing
    seen: dict[MacAddress, datetime | None]  # when the record saw each adapter last; None: it does not say
    added: frozenset[MacAddress]  # adapters that the roster did not have
    named: int  # how many of them have a name
    devices: dict[MacAddress, Device]  # those that the roster has


def read_given(site: Site, given: Input, kind: str | None = None) -> Imported:
    """Read a record; nothing is changed. Raises UsageError, NotFound."""
    as_of = min(site.clock.now(), given.changed or site.clock.now())
    try:
        return _understood(site, read_record(given.stream, record_context(site, as_of), kind), as_of)
    finally:
        given.close()


def fold_records(site: Site, imported: Imported, *, insist: bool = False, where: OnAir | None = None) -> Imported:
    """Fold what was read; ``where`` its clients on the air are, if the list does not say it itself.

    Raises Refused for a record of another network, unless ``insist`` is True.
    """
    if not insist:
        _refuse_foreign(imported.reading.observations, record_context(site, imported.as_of).subnets)
    with change(site, "import", f"taken in: {imported.reading.about}") as (roster, _):
        fold(roster, imported.reading.observations, (), site.clock.now())
        note_pasted(roster, associations_in(imported.reading, where or OnAir())[0])
        count_pasted(site, imported.reading, imported.as_of)
    after = _rows(site, imported.reading, all_devices(site.roster))
    return replace(imported, hosts=after)


def _understood(site: Site, reading: Reading, as_of: datetime) -> Imported:
    devices = all_devices(site.roster_for_reading())
    known = {mac: device for device in devices for mac in device.macs}
    hosts = _rows(site, reading, devices)
    macs: dict[MacAddress, datetime | None] = {}
    for seen in sorted(reading.observations, key=lambda seen: (not seen.undated, seen.at)):
        if seen.mac is not None:
            macs[seen.mac] = None if seen.undated else seen.at
    return Imported(
        reading=reading,
        as_of=as_of,
        hosts=hosts,
        seen=macs,
        added=frozenset(macs.keys() - known.keys()),
        devices=known,
        named=len({host.mac for host in hosts if host.name} | set(filter(None, map(_named, reading.observations)))),
    )


def _named(seen: Observation) -> MacAddress | None:
    return seen.mac if any(trait.kind is TraitKind.NAME for trait in seen.traits) else None


def _rows(site: Site, reading: Reading, devices: Sequence[Device]) -> list[Host]:
    return Describer(site.vendors, site.kinds, devices, ()).hosts(reading.observations, ())


def _refuse_foreign(observations: Sequence[Observation], subnets: Sequence[IPv4Network]) -> None:
    """Raise Refused for a list from elsewhere: it would fill the roster with strangers."""
    addresses = {seen.address for seen in observations if seen.address and seen.address.version == 4}
    inside = {address for address in addresses if any(address in subnet for subnet in subnets)}
    if not subnets or not addresses or len(inside) * 2 >= len(addresses):
        return
    known = joined([str(subnet) for subnet in dict.fromkeys(subnets)])
    outside = sorted(addresses - inside, key=int)[0]
    far = counted(len(addresses) - len(inside), "address", "addresses")
    raise Refused(
        f"{far} of {len(addresses)} (such as {outside}) in no subnet of the site ({known}): is this record of another "
        "network? --insist takes it in"
    )
