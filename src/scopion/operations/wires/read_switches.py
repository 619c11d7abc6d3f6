"""Reads the switches of the site, each by itself: one that is slow keeps no other waiting."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from scopion.attachment.lane import Lane
from scopion.attachment.ports import SwitchAccess
from scopion.model.errors import NotFound, ScopionError
from scopion.model.wires import SwitchReading
from scopion.operations.site.open_site import Site
from scopion.operations.site.reach_machine import snmp_access
from scopion.operations.site.snmp_settings import SwitchSettings

# Switches of a small site, with some to spare; each takes a second.
_AT_ONCE = 8


def read_switch(site: Site, settings: SwitchSettings) -> SwitchReading:
    """Return what a switch tells. Raises SwitchUnreadable, InvalidSettings."""
    return site.attachment.switch(switch_access(site, settings))


def read_counters(site: Site, settings: SwitchSettings) -> SwitchReading:
    """Return what the ports of a switch have counted, and nothing else. Raises SwitchUnreadable, InvalidSettings."""
    return site.attachment.switch(replace(switch_access(site, settings), only_counters=True))


def switch_access(site: Site, settings: SwitchSettings) -> SwitchAccess:
    """Return how to read a switch, with its secrets read. Raises InvalidSettings."""
    what = f"switch {settings.name}"
    # The switches of a made-up site are asked by no one, and have no secrets.
    access = snmp_access(site.folder, settings, what, has_secrets=site.story is None)
    return SwitchAccess(settings.name, access, settings.vlans)


def read_switches(site: Site) -> Mapping[str, SwitchReading | ScopionError]:
    """Return what each switch tells, or why it cannot be read. Raises NotFound if site.toml has none."""
    switches = site.settings.switch
    if not switches:
        raise NotFound(
            "no switch is known: write a [[switch]] into site.toml, with its name, its address and its community"
        )

    def tried(settings: SwitchSettings) -> SwitchReading | ScopionError:
        try:
            return read_switch(site, settings)
        except ScopionError as error:
            return error

    if site.story is not None:
        return {each.name: tried(each) for each in switches}
    _ = site.attachment  # opened once, not by each thread
    lanes = [Lane(each.name) for each in switches[:_AT_ONCE]]
    begun = [(each.name, lanes[number % _AT_ONCE].begin(tried, each)) for number, each in enumerate(switches)]
    for lane in lanes:
        lane.submit(None)
    return {name: answer.result() for name, answer in begun}
