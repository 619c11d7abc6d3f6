"""Tells that a device was moved, of those that ``site.toml`` says do not move."""

from __future__ import annotations

from collections.abc import Sequence

from scopion.alerts.rules import is_named, names_of
from scopion.operations.intake.take_in import TakenIn, recorded
from scopion.operations.site.open_site import Site
from scopion.roster.folding.note_moved import Move, note_moved
from scopion.roster.read_devices import all_devices


def tell_moved(site: Site, moves: Sequence[Move]) -> TakenIn:
    """Record the moves of devices that do not move, and queue the alerts."""
    fixed = site.settings.where.fixed
    if not fixed or not moves:
        return TakenIn()
    macs = {mac for device in all_devices(site.roster) if is_named(names_of(device), fixed) for mac in device.macs}
    told = [each for each in moves if each.mac in macs]
    return recorded(site, lambda: note_moved(site.roster, told, site.clock.now())) if told else TakenIn()
