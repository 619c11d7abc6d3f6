"""Takes in who was turned away by access points: a device that was never seen before is told before it is in."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import timedelta

from scopion.model.observation import Medium, Observation, Source
from scopion.operations.intake.take_in import TakenIn, recorded
from scopion.operations.site.open_site import Site
from scopion.roster.folding.fold_observations import fold
from scopion.roster.folding.note_attempts import RefusedAttempt, note_attempts, unknown_of
from scopion.roster.store.open_roster import Roster

# Of a crowd that takes other addresses all the time, so many are looked at at once; the latest are.
_MOST = 256


def take_attempts(site: Site, attempts: Iterable[RefusedAttempt]) -> TakenIn:
    """Record attempts as events, and queue the alerts: one for each device, network and cool-down."""
    latest = sorted(attempts, key=lambda each: each.last, reverse=True)[:_MOST]
    again = timedelta(seconds=site.settings.wireless.attempts_again_s)
    if not latest:
        return TakenIn()
    roster = site.roster
    with roster.transaction():
        _make_known(site, roster, latest)
        return recorded(site, lambda: note_attempts(roster, latest, again))


def _make_known(site: Site, roster: Roster, attempts: list[RefusedAttempt]) -> None:
    """Let the roster have the devices; a flood of made-up addresses is held back as everywhere."""
    seen = [
        Observation(each.mac, None, each.last, Source.ACCESS_POINT, Medium.WIRELESS)
        for each in unknown_of(roster, attempts)
    ]
    admitted = seen
    if site.watch_state is not None and seen:
        admitted = site.watch_state.admitted(roster, seen, site.clock.monotonic())
    if admitted:
        fold(roster, admitted, (), site.clock.now())
