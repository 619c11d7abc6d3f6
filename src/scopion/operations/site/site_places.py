"""The places of the site at hand: which there are, which one a text means, and how this machine's own is called."""

from __future__ import annotations

from scopion.model.errors import InvalidSettings, UsageError
from scopion.model.text import joined
from scopion.operations.site.open_site import Site
from scopion.roster.places import known_places, name_home
from scopion.roster.store.open_roster import Roster


def places_of(site: Site) -> list[str]:
    """Return the names of all places, this machine's first; one without a name if the site has no other."""
    settings = site.settings
    of_subnets = [each.place or settings.place for each in settings.subnet]
    named = [settings.place, *of_subnets, *(each.place for each in settings.sensor)]
    known = known_places(site.roster_for_reading())
    return list(dict.fromkeys([known[0] or settings.place, *known[1:], *filter(None, named)]))


def place_called(site: Site, text: str) -> str:
    """Return the place that a text names, whatever its case. Raises UsageError, which names those that there are."""
    places = [each for each in places_of(site) if each]
    wanted = text.strip().casefold()
    for each in places:
        if each.casefold() == wanted:
            return each
    if not places:
        raise UsageError("the site has only one place, which has no name: leave --place out")
    raise UsageError(f"there is no place {text!r}: {joined([repr(each) for each in places], 'or')}")


def settle_home(site: Site, roster: Roster) -> None:
    """Have the roster call this machine's place as ``site.toml`` does, before anything is written into it. Raises
    InvalidSettings.
    """
    name = site.settings.place
    if name != roster.home and not name_home(roster, name):
        raise InvalidSettings(
            f"{site.folder}: place = {name!r} in site.toml is the name of another place by now: choose another"
        )
