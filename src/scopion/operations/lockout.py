"""Whether the lists of a wireless network would lock this machine out, as they stand in a change that is being made."""

from __future__ import annotations

from collections.abc import Sequence

from scopion.attachment.ports import Interface
from scopion.model.device import Device
from scopion.model.errors import ScopionError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.operations.site import Site
from scopion.roster import lists
from scopion.roster.devices import all_devices
from scopion.roster.lists import ListMode, Network
from scopion.roster.store import Roster
from scopion.wireless.coverage import Line, lines_of
from scopion.wireless.refusals import refuse_lockout


def require_no_lockout(site: Site, roster: Roster) -> None:
    """Raises Refused if any network's allow list is on and leaves this machine out."""
    devices: list[Device] | None = None
    for network in lists.all_networks(roster):
        if network.mode is ListMode.ALLOW:
            devices = devices if devices is not None else all_devices(roster)
            refuse_switched_on_lockout(site, network, roster, devices)


def list_lines(roster: Roster, ssid: str, which: ListMode, devices: Sequence[Device]) -> list[Line]:
    """What a network's list comes to."""
    of_mac = {mac: device for device in devices for mac in device.macs}
    return lines_of(lists.all_entries(roster, ssid), which, {device.id: device for device in devices}, of_mac)


def refuse_switched_on_lockout(site: Site, network: Network, roster: Roster, devices: Sequence[Device]) -> None:
    """Raises Refused if a network's allow list is on and leaves this machine out."""
    if network.mode is ListMode.ALLOW:
        lines = list_lines(roster, network.ssid, ListMode.ALLOW, devices)
        refuse_lockout(network, lines, _own_wireless(site, devices))


def _own_wireless(site: Site, devices: Sequence[Device]) -> set[MacAddress]:
    """This machine's wireless adapters that are in use: as the system tells, else as the roster remembers."""
    interfaces = own_interfaces(site)
    if interfaces is None:
        adapters = [adapter for device in devices if device.own for adapter in device.adapters]
        return {adapter.mac for adapter in adapters if adapter.medium is Medium.WIRELESS}
    return {each.mac for each in interfaces if each.mac and each.up and each.medium is Medium.WIRELESS}


def own_interfaces(site: Site) -> tuple[Interface, ...] | None:
    """This machine's interfaces; None where there is no live network, or it is locked."""
    try:
        return site.attachment.interfaces()
    except ScopionError:
        return None
