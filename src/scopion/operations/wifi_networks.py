"""Wireless networks and what is known of their routers: settings, their checks, and the defaults of a new one."""

from __future__ import annotations

import ipaddress
import re
from collections import Counter
from dataclasses import dataclass, replace

from scopion.model.errors import UsageError
from scopion.model.mac import Notation
from scopion.model.text import clean
from scopion.operations.site import Site
from scopion.roster import lists
from scopion.roster.lists import ListMode, Network
from scopion.roster.scans import known_subnets

DEFAULT_RADIOS = ("2.4", "5")  # GHz
MAX_SSID_OCTETS = 32  # IEEE Std 802.11-2020, 9.4.2.2
MOST_ENTRIES = 100_000  # no router holds as many; a slip of the keyboard
_ROUTER = re.compile(r"(?:https?://)?[\w.-]+(?::\d{1,5})?(?:/[\w./~%-]*)?", re.ASCII)


@dataclass(frozen=True, slots=True)
class NetworkSettings:
    """What is asked about a network when it is made; None: as it is, or the default."""

    notation: Notation | None = None
    capacity: int | None = None
    radios: tuple[str, ...] | None = None
    router: str | None = None


def networks(site: Site) -> list[tuple[Network, int, int]]:
    """Every network with the number of its allow and deny entries."""
    roster = site.roster_for_reading()
    if roster is None:
        return []
    entries = lists.all_entries(roster)
    counts = Counter((entry.ssid, entry.list) for entry in entries)
    return [
        (each, counts[each.ssid, ListMode.ALLOW], counts[each.ssid, ListMode.DENY])
        for each in lists.all_networks(roster)
    ]


def default_router(site: Site) -> str:
    """The page that a new network's list is probably on: the gateway's; empty if none is known."""
    roster = site.roster_for_reading()
    gateways = [each.gateway for each in known_subnets(roster) if each.gateway] if roster else []
    return str(gateways[0]) if gateways else ""


def is_known(site: Site, ssid: str) -> bool:
    """Whether a network has been made."""
    roster = site.roster_for_reading()
    return roster is not None and lists.find_network(roster, ssid) is not None


def new_network(site: Site, ssid: str) -> Network:
    """A network in mode off with the defaults. Raises UsageError for what cannot be an SSID."""
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
    """The network with what is given in place of what was. Raises UsageError."""
    if settings is None:
        return network
    if settings.capacity is not None and not 1 <= settings.capacity <= MOST_ENTRIES:
        raise UsageError(f"a router cannot hold {settings.capacity} entries: give what its page says, 1 or more")
    if settings.router and not _is_page(settings.router):
        raise UsageError(f"{clean(settings.router)!r} is not a router's address: write 192.0.2.1 or http://192.0.2.1/")
    return replace(
        network,
        notation=settings.notation or network.notation,
        capacity=network.capacity if settings.capacity is None else settings.capacity,
        radios=settings.radios or network.radios,
        router=network.router if settings.router is None else settings.router,
    )


def _is_page(text: str) -> bool:
    if not _ROUTER.fullmatch(text):
        return False
    host = re.sub(r"^https?://", "", text).split("/")[0].split(":")[0]
    if not re.fullmatch(r"[\d.]+", host):
        return True
    try:
        ipaddress.IPv4Address(host)
    except ValueError:
        return False
    return True
