"""The subnets that are watched, and the interface of each. Pure: what the system and the site know goes in."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from contextlib import suppress
from dataclasses import dataclass
from ipaddress import IPv4Network

from scopion.attachment.choose import choose_interface, choose_route
from scopion.attachment.ports import Interface
from scopion.model.errors import NoInterface
from scopion.operations.site.site_settings import Settings


@dataclass(frozen=True, slots=True)
class WatchedSubnet:
    """A subnet and the interface from which it is watched."""

    subnet: IPv4Network
    interface: Interface
    routed: bool = False  # it is beyond a router


def watched_subnets(
    interfaces: Sequence[Interface], known: Collection[IPv4Network], settings: Settings
) -> list[WatchedSubnet]:
    """Return the subnets to watch: the site's that are attached or named as beyond a router.

    A site that has no subnet yet begins with that of the interface which a scan would take. ``known`` are the subnets
    that the roster has.
    """
    named = {each.range for each in settings.here}
    routed = {each.range for each in settings.here if each.router is not None}
    allowed = settings.watch.interfaces
    usable = [each for each in interfaces if each.can_resolve and (not allowed or each.name in allowed)]
    found: dict[IPv4Network, WatchedSubnet] = {}
    for interface in sorted(usable, key=lambda each: (each.gateway is None, each.metric, each.index)):
        for subnet in interface.subnets:
            if subnet not in routed and (subnet in named or subnet in known):
                found.setdefault(subnet, WatchedSubnet(subnet, interface))
    with suppress(NoInterface):  # no interface just now
        if not found and not known and not named:
            best = choose_interface(usable).interface
            found[best.subnets[0]] = WatchedSubnet(best.subnets[0], best)
        for subnet in routed:
            route = choose_route(interfaces, None, subnet.network_address).interface
            found[subnet] = WatchedSubnet(subnet, route, routed=True)
    return list(found.values())


def strange(
    interfaces: Sequence[Interface], wanted: Sequence[WatchedSubnet], settings: Settings
) -> list[WatchedSubnet]:
    """Return subnets that are attached beside the site's and belong to it only if settings say so."""
    looked_after = {each.subnet for each in wanted}
    allowed = settings.watch.interfaces
    return [
        WatchedSubnet(subnet, interface)
        for interface in interfaces
        if interface.can_resolve and (interface.name in allowed if allowed else not interface.virtual)
        for subnet in interface.subnets
        if looked_after and subnet not in looked_after
    ]


def missing(expected: Collection[IPv4Network], interfaces: Sequence[Interface], settings: Settings) -> str:
    """Return why none of the site's subnets can be watched now, in words."""
    allowed = settings.watch.interfaces
    attached = [
        f"{each.name} has {', '.join(map(str, each.subnets))}"
        for each in interfaces
        if each.can_resolve and each.subnets and (not allowed or each.name in allowed)
    ]
    wanted = ", ".join(map(str, sorted(expected)))
    there = "; ".join(attached) or "no interface is up with an address"
    return f"none of the site's subnets ({wanted}) is attached: {there}" if wanted else there
