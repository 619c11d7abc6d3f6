"""Which enforcers hold a network's list: those that ``site.toml`` names; a network that it does not name has a page."""

from __future__ import annotations

from typing import TypeGuard, cast

from scopion.model.errors import NotFound
from scopion.operations.site.open_site import Site
from scopion.roster.wifi.lists import Network, find_network
from scopion.roster.wifi.pushes import HAND
from scopion.wireless.enforcer_settings import EnforcerSettings, PageSettings, Radio
from scopion.wireless.enforcers.registry import type_of
from scopion.wireless.radius.radius_settings import radius_lists


def named_enforcers(site: Site, ssid: str) -> list[EnforcerSettings]:
    """Return the enforcers of a network that ``site.toml`` names; empty if it names none."""
    return [each for each in site.settings.enforcer if each.network == ssid]


def is_only_asked_for(site: Site, ssid: str) -> bool:
    """Tell whether access points ask for a network's list by RADIUS, and nothing else holds it."""
    held_by = named_enforcers(site, ssid)
    return bool(held_by) and len(radius_lists(held_by)) == len(held_by)


def settings_of(site: Site, ssid: str, name: str | None = None) -> list[EnforcerSettings]:
    """Return the enforcers of a network, or the one of this name. Raises NotFound if there is none of that name.

    A network that ``site.toml`` does not name is held by a page; one that the roster does not know by nothing.
    """
    of_network = named_enforcers(site, ssid)
    if not of_network:
        network = find_network(site.roster_for_reading(), ssid)
        of_network = [page_of(network)] if network is not None else []
    found = [each for each in of_network if name in (None, each.name)]
    if not found and name is not None:
        known = ", ".join(repr(each.name) for each in of_network) or "none"
        raise NotFound(f"{ssid!r} has no enforcer {name!r}: it has {known}")
    return found


def page_of(network: Network) -> PageSettings:
    """Return the page that holds the list of a network which has no enforcer in ``site.toml``."""
    return PageSettings(
        type="page",
        name=HAND,
        network=network.ssid,
        capacity=network.capacity,
        page=network.router,
        notation=network.notation,
        bands=cast(tuple[Radio, ...], network.radios),
    )


def is_page(settings: EnforcerSettings) -> TypeGuard[PageSettings]:
    """Tell whether a person types the list that these settings are about."""
    return type_of(settings).by_hand


def pages_of(site: Site, ssid: str, name: str | None = None) -> list[PageSettings]:
    """Return the pages that hold a network's list, or the one of this name. Raises NotFound."""
    return [each for each in settings_of(site, ssid, name) if is_page(each)]


def reached(site: Site, ssid: str | None = None) -> list[EnforcerSettings]:
    """Return the enforcers that a push reaches, of a network or all; those of other lists are pages."""
    return [each for each in site.settings.enforcer if ssid in (None, each.network) and not is_page(each)]


def is_reached(site: Site, ssid: str) -> bool:
    """Tell whether a network has an enforcer that a push reaches; else a person types its list into a page."""
    return bool(reached(site, ssid))
