"""What every operation on a network's list starts from: the network, its policy, and the list that is wanted now."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from scopion.attachment.way_in import way_in
from scopion.model.device import Device
from scopion.model.mac import MacAddress
from scopion.operations.pages.held_by import settings_of
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import known_network
from scopion.operations.wifi.load_policy import essential_on, only_denies, own_on, policy_for
from scopion.roster.read_devices import all_devices
from scopion.roster.sensors import find_sensor
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.lists import ListMode, Network
from scopion.wireless.enforcers.enforcer import Traits
from scopion.wireless.list_policy import ListPolicy, WantedList, wanted
from scopion.wireless.plan_radio import as_carried_out
from scopion.wireless.refusals import on_the_air


@dataclass(frozen=True, slots=True)
class NetworkContext:
    """A wireless network at one moment; the roster was read once for it."""

    site: Site
    roster: Roster
    network: Network
    devices: Sequence[Device]
    policy: ListPolicy
    wanted: WantedList

    def wanted_by(self, traits: Traits) -> WantedList:
        """Return the list that an enforcer should hold now. Raises Refused for an allow list where none can be held."""
        policy = as_carried_out(self.policy, traits)
        found = self.wanted
        if policy != self.policy:
            found = wanted(policy, self.site.clock.now(), self.site.clock.local)
        if found.mode is ListMode.ALLOW and not traits.modes:
            raise only_denies(self.ssid)
        return found

    @property
    def ssid(self) -> str:
        """Return the network's name."""
        return self.network.ssid

    def own(self) -> set[MacAddress]:
        """Return this machine's wireless adapters that use the network, or may."""
        return own_on(self.site, self.roster, self.ssid, self.devices)

    def sensors(self) -> set[MacAddress]:
        """Return the adapters by which sensors are reached that carry the steps of this network's enforcers."""
        found: set[MacAddress] = set()
        for name in {each.via for each in settings_of(self.site, self.ssid)} - {""}:
            sensor = find_sensor(self.roster, name)
            if sensor is None:
                continue
            for device in self.devices:
                if any(stay.present and str(stay.address) == sensor.address for stay in device.stays_in(sensor.place)):
                    found |= set(on_the_air(device))
        return found

    def protected(self) -> list[MacAddress]:
        """Return addresses that must not be refused at any step: own adapters, a sensor's by which the steps go, the
        administrator's, essential devices.
        """
        found, logged_in = [*sorted(self.own()), *sorted(self.sensors())], way_in() or frozenset()
        for device in self.devices:
            if any(stay.present and stay.address in logged_in for stay in device.stays):
                found += on_the_air(device)
        for device in essential_on(self.roster, self.ssid, self.devices):
            found += on_the_air(device)
        return list(dict.fromkeys(found))


def open_network(site: Site, roster: Roster, ssid: str, policy: ListPolicy | None = None) -> NetworkContext:
    """Read a network; ``policy`` is one that was published, else that of the roster. Raises NotFound."""
    network = known_network(site, roster, ssid)
    devices = all_devices(roster)
    policy = policy if policy is not None else policy_for(roster, network, devices)
    return NetworkContext(site, roster, network, devices, policy, wanted(policy, site.clock.now(), site.clock.local))


def unknown_way_in() -> str:
    """Return what to say if the command came over SSH from an address that is not known; else empty."""
    if way_in() is not None:
        return ""
    return "it is not known from which device you are logged in over SSH: check that the list admits it"
