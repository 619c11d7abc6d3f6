"""What changes of lists mean on a site's networks, and which entries are in force: the pure rules, on the roster."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from scopion.model.band import spoken_bands
from scopion.model.device import Device
from scopion.model.mac import MacAddress
from scopion.operations.pages.held_by import is_reached, settings_of
from scopion.operations.pages.typed_lists import last_published
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.find_subjects import Subject
from scopion.operations.wifi.load_policy import policy_for
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi import lists
from scopion.roster.wifi.lists import Entry, ListMode, Network
from scopion.wireless.list_policy import lines_of_subject, wanted
from scopion.wireless.policy_effects import Concerned, changes_what_is_sent, effects


@dataclass(frozen=True, slots=True)
class NetworkEffect:
    """What a change of lists means on one network."""

    network: Network
    says: tuple[str, ...]
    to_send: bool  # whether its enforcers, or the person with the sheet, need the change
    only_if_on: str  # the command that would put a list in force whose mode is off; else empty


class Before:
    """The policies of a network, and of those that share its lists, before a change."""

    def __init__(self, site: Site, roster: Roster, network: Network, devices: Sequence[Device]) -> None:
        self._site, self._roster, self._devices = site, roster, devices
        sharing = [each for each in lists.all_networks(roster) if each.lists == network.lists]
        self._before = {each.ssid: policy_for(roster, each, devices) for each in sharing}

    def told(self, chosen: Sequence[Subject]) -> tuple[NetworkEffect, ...]:
        """Return what the change means for some devices; the roster is as it will be."""
        by_id = {device.id: device for device in self._devices}
        of_mac = {mac: device for device in self._devices for mac in device.macs}
        now, local = self._site.clock.now(), self._site.clock.local
        found = []
        for ssid, before in self._before.items():
            network = lists.network(self._roster, ssid)
            after = policy_for(self._roster, network, self._devices)
            listed = lists.all_entries(self._roster, network.lists)
            listed.sort(key=lambda entry: entry.list is network.mode)  # of two entries the one that decides
            entries = {entry.subject: entry for entry in listed}
            concerned = []
            for each in chosen:
                macs = tuple(line.mac for line in lines_of_subject(each.keys[0], "", by_id, of_mac))
                entry = entries.get(each.keys[0])
                concerned.append(Concerned(each.name, macs, entry is not None and entry.paused))
            said = effects(before, after, concerned, now, local)
            off = network.mode is ListMode.OFF and not network.others_hours
            which = {entries[each.keys[0]].list for each in chosen if each.keys[0] in entries} if off else set()
            switch = str(next(iter(which))) if len(which) == 1 else ""
            found.append(NetworkEffect(network, said, changes_what_is_sent(before, after), switch))
        return tuple(found)


class InForce:
    """Tells whether entries of a network are in force now, as pushes and the person with the sheet have recorded."""

    def __init__(self, site: Site, roster: Roster, network: Network, devices: Sequence[Device]) -> None:
        self._now, self._local = site.clock.now(), site.clock.local
        self._wanted = wanted(policy_for(roster, network, devices), self._now, self._local)
        self.by_hand = not is_reached(site, network.ssid)
        self._held = {}
        for each in settings_of(site, network.ssid):
            told = last_published(roster, network.ssid, each.name)
            for radio in each.radios or tuple(told) or ("",):
                self._held[each.name, radio] = told.get(radio)

    def lacking(self, entry: Entry, macs: Sequence[MacAddress]) -> str:
        """Return why an entry has no effect now; empty if it has."""
        override = entry.override if entry.override is not None and self._now < entry.override.until else None
        if override is not None and not override.on:
            return f"off until {self._local(override.until):%a %H:%M}"
        if entry.paused and override is None:
            return "paused"
        if override is None and entry.until is not None and entry.until <= self._now:
            return "ended"
        if self._wanted.mode is not entry.list:
            return f"mode {self._wanted.mode}"
        if not self._wanted.macs.issuperset(macs):
            return "not at this hour"
        without = []
        for (_, radio), held in self._held.items():
            there = held.allow if held and entry.list is ListMode.ALLOW else held.deny if held else frozenset()
            if held is None or held.mode is not entry.list or not there.issuperset(macs):
                without.append(radio)
        if not without:
            return ""
        where = f" on {spoken_bands(sorted(set(without)))}" if len(without) < len(self._held) else ""
        return f"not {'typed in' if self.by_hand else 'pushed'}{where}"
