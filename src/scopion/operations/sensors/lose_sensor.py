"""Tells that a sensor is silent, and that it is back: each once, and remembered, so that a restart is silent."""

from __future__ import annotations

from datetime import datetime

from scopion.operations.intake.take_in import TakenIn, recorded
from scopion.operations.site.open_site import Site
from scopion.roster.folding.note_outages import note_sensor
from scopion.roster.sensors import find_sensor, note_lost


def tell_sensor_lost(site: Site, name: str, place: str, since: datetime) -> TakenIn:
    """Record and queue that a sensor says nothing any more; nothing if that was told, or it was never heard."""
    known = find_sensor(site.roster, name)
    if known is None or known.lost is not None:
        return TakenIn()
    with site.roster.transaction():
        note_lost(site.roster, name, since)
        return recorded(site, lambda: note_sensor(site.roster, name, place, site.clock.now(), since, lost=True))


def tell_sensor_back(site: Site, name: str, place: str) -> TakenIn:
    """Record and queue that a sensor is heard again; nothing if it was not lost."""
    known = find_sensor(site.roster, name)
    if known is None or known.lost is None:
        return TakenIn()
    since = known.lost
    with site.roster.transaction():
        note_lost(site.roster, name, None)
        return recorded(site, lambda: note_sensor(site.roster, name, place, site.clock.now(), since, lost=False))
