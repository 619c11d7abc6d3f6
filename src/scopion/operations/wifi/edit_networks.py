"""Wireless networks and what is known of their routers: settings, their checks, and the defaults of a new one."""

from __future__ import annotations

import ipaddress
import re
from collections import Counter
from dataclasses import dataclass, replace

from scopion.model.band import EVERY_RADIO
from scopion.model.errors import NotFound, UsageError
from scopion.model.mac import Notation
from scopion.model.text import clean
from scopion.operations.pages.held_by import is_page, named_enforcers
from scopion.operations.site.open_site import Site
from scopion.roster.scans import known_subnets
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi import lists
from scopion.roster.wifi.lists import ListMode, Network

ALL_RADIOS = ("2.4", "5", "6")  # GHz
DEFAULT_RADIOS = ALL_RADIOS[:2]
# Two SSIDs this much alike differ in one or two characters of five or more.
_LIKE = 0.75
# One that goes on after a known one is another network: Kilnhaven guests.
_GOES_ON = 3
MAX_SSID_OCTETS = 32  # IEEE Std 802.11-2020, 9.4.2.2
MOST_ENTRIES = 100_000  # no router holds as many; a larger number is a typing mistake
_ROUTER = re.compile(r"(?P<scheme>https?://)?(?P<host>[\w.-]+)(?::\d{1,5})?(?:/[\w./~%-]*)?", re.ASCII)


@dataclass(frozen=True, slots=True)
class NetworkSettings:
    """What is asked about a network when it is made; None: as it is, or the default."""

    notation: Notation | None = None
    capacity: int | None = None
    radios: tuple[str, ...] | None = None
    router: str | None = None


@dataclass(frozen=True, slots=True)
class KnownNetwork:
    """A network, for showing: how many entries it has, and what holds its list."""

    network: Network
    allowed: int
    denied: int
    enforcers: tuple[str, ...]  # empty: a person with the router's page

    @property
    def ssid(self) -> str:
        """Return its SSID."""
        return self.network.ssid


def networks(site: Site) -> list[KnownNetwork]:
    """Return every network of the roster or the settings, with the number of its allow and deny entries."""
    roster = site.roster_for_reading()
    counts = Counter((entry.ssid, entry.list) for entry in lists.all_entries(roster))
    known = {each.ssid: each for each in lists.all_networks(roster)}
    found = []
    for ssid in sorted({*known, *(each.network for each in site.settings.enforcer)}):
        network = as_held(site, known.get(ssid) or new_network(site, ssid))
        names = tuple(each.name for each in named_enforcers(site, ssid))
        of = network.lists
        found.append(KnownNetwork(network, counts[of, ListMode.ALLOW], counts[of, ListMode.DENY], names))
    return found


def as_held(site: Site, network: Network) -> Network:
    """Return a network with the radios and the room that its enforcers have, and what its page is, if it has one."""
    held_by = named_enforcers(site, network.ssid)
    room = [each.holds for each in held_by if each.holds is not None]
    room += [network.capacity] if network.capacity is not None else []
    radios = {radio for each in held_by for radio in each.radios}
    in_order = tuple(each for each in ALL_RADIOS if each in radios) or tuple(radios & {EVERY_RADIO})
    network = replace(network, capacity=min(room, default=None), radios=in_order or network.radios)
    page = next(filter(is_page, held_by), None)
    return replace(network, router=page.page or network.router, notation=page.notation) if page else network


def known_network(site: Site, roster: Roster, ssid: str) -> Network:
    """Return a network by its SSID; one that only an enforcer holds has empty lists and mode off. Raises NotFound."""
    found = lists.find_network(roster, ssid)
    if found is None and named_enforcers(site, ssid):
        return as_held(site, new_network(site, ssid))
    if found is None:
        near = nearest(site, ssid)
        if near is not None:
            raise NotFound(f"no wireless network {ssid!r} is known; {near!r} is")
        raise lists.no_network(ssid)
    return found


def nearest(site: Site, ssid: str) -> str | None:
    """Return the known network whose SSID is so like this unknown one that it is probably meant;
    None for a known one.
    """
    known = [each.ssid for each in lists.all_networks(site.roster_for_reading())]
    known += [each.network for each in site.settings.enforcer if each.network not in known]
    if ssid in known:
        return None
    from difflib import SequenceMatcher

    def likeness(other: str) -> float:
        if _bare(other) == _bare(ssid):
            return 1.0
        if _bare(ssid).startswith(_bare(other)) and len(_bare(ssid)) - len(_bare(other)) >= _GOES_ON:
            return 0.0
        if _bare(ssid) and _bare(other).startswith(_bare(ssid)):
            return _LIKE  # half of it was typed
        return SequenceMatcher(None, other.casefold(), ssid.casefold(), autojunk=False).ratio()

    best = max(known, key=likeness, default=None)
    return best if best is not None and likeness(best) >= _LIKE else None


def _bare(ssid: str) -> str:
    """Return an SSID without what is mistyped most: capitals, blanks and signs."""
    return "".join(filter(str.isalnum, ssid.casefold()))


def default_router(site: Site) -> str:
    """Return the page that probably holds a new network's list: the gateway's; empty if none is known."""
    gateways = [each.gateway for each in known_subnets(site.roster_for_reading()) if each.gateway]
    return str(gateways[0]) if gateways else ""


def is_known(site: Site, ssid: str) -> bool:
    """Tell whether a network has been made, or an enforcer holds one."""
    return any(each.ssid == ssid for each in networks(site))


def new_network(site: Site, ssid: str) -> Network:
    """Return a network in mode off with the defaults. Raises UsageError for what cannot be an SSID."""
    if clean(ssid) != ssid or not ssid or len(ssid.encode()) > MAX_SSID_OCTETS:
        raise UsageError(
            f"{clean(ssid)!r} cannot be an SSID: it has 1 to {MAX_SSID_OCTETS} octets, no control characters and no "
            "blanks at its ends"
        )
    return Network(
        ssid=ssid,
        mode=ListMode.OFF,
        notation=Notation.COLON,
        capacity=None,
        radios=DEFAULT_RADIOS,
        router=default_router(site),
        since=site.clock.now(),
    )


def with_settings(network: Network, settings: NetworkSettings | None) -> Network:
    """Return the network with the given settings in place of the old ones. Raises UsageError."""
    if settings is None:
        return network
    if settings.capacity is not None and not 1 <= settings.capacity <= MOST_ENTRIES:
        raise UsageError(f"a router cannot hold {settings.capacity} entries: give what its page says, 1 or more")
    if settings.router:
        checked_router(settings.router)
    return replace(
        network,
        notation=settings.notation or network.notation,
        capacity=network.capacity if settings.capacity is None else settings.capacity,
        radios=settings.radios or network.radios,
        router=network.router if settings.router is None else settings.router,
    )


def checked_router(text: str) -> str:
    """Return the address of a router's page. Raises UsageError for other texts, such as an answer
    to another question.
    """
    match = _ROUTER.fullmatch(text)
    host = match["host"] if match else ""
    if match is None or not (_is_address(host) if re.fullmatch(r"[\d.]+", host) else match["scheme"] or "." in host):
        raise UsageError(
            f"{clean(text)!r} is not a router's address: write 192.0.2.1, router.example or http://router/"
        )
    return text


def _is_address(host: str) -> bool:
    try:
        ipaddress.IPv4Address(host)
    except ValueError:
        return False
    return True
