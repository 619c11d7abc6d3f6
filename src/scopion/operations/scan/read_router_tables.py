"""Pairs the hosts of a subnet beyond a router with their MAC addresses, from that router's own table."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Network

from scopion.attachment.ports import NeighbourState, RouterAccess
from scopion.discovery.runner import Findings
from scopion.model.errors import InvalidSettings, RouterUnreadable
from scopion.model.observation import Observation, Source
from scopion.operations.folder.read_secret import read_secret
from scopion.operations.site.open_site import Site
from scopion.operations.site.site_settings import RouterSettings


def pair_by_router(site: Site, router: RouterSettings, subnet: IPv4Network, findings: Findings) -> None:
    """Give the found hosts their MAC addresses, and add hosts that the router has just met but that were silent.

    A table that cannot be read is told in the findings: hosts without a MAC address are still worth having.
    """
    try:
        table = site.attachment.router_table(router_access(site, router))
    except (RouterUnreadable, InvalidSettings) as error:
        findings.remarks.append(str(error))
        return
    findings.router_read = True
    macs = {entry.address: entry for entry in table if entry.mac and entry.address in subnet}
    found = {seen.address for seen in findings.observations}
    findings.observations = [
        replace(seen, mac=macs[seen.address].mac) if seen.mac is None and seen.address in macs else seen
        for seen in findings.observations
    ]
    now = site.clock.now()
    findings.observations += [
        Observation(entry.mac, address, now, Source.ROUTER)
        for address, entry in macs.items()
        # A host that the router met a moment ago, or the router itself, is here, though it does not answer us.
        if address not in found and entry.state in (NeighbourState.REACHABLE, NeighbourState.FIXED)
    ]


def router_access(site: Site, router: RouterSettings) -> RouterAccess:
    """Return the settings with their secrets read. Raises InvalidSettings."""
    where = f"the {{}} of router {router.address}"
    if router.version == "2c":
        if not router.community:
            raise InvalidSettings(f"the router {router.address} needs a community in site.toml (env:NAME or file:PATH)")
        community = read_secret(router.community, site.folder, where.format("community"))
        return RouterAccess(router.address, router.port, "2c", community)
    if not router.user:
        raise InvalidSettings(f"the router {router.address} needs a user in site.toml for SNMP version 3")

    def key(reference: str, protocol: str, what: str) -> tuple[str, str] | None:
        return (protocol, read_secret(reference, site.folder, where.format(what))) if reference else None

    return RouterAccess(
        router.address,
        router.port,
        "3",
        user=router.user,
        authentication=key(router.authentication_key, router.authentication, "authentication key"),
        privacy=key(router.privacy_key, router.privacy, "privacy key"),
    )
