"""Pairs the hosts of a subnet beyond a router with their MAC addresses, from that router's own table."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import IPv4Network

from scopion.attachment.ports import NeighbourState
from scopion.discovery.runner import Findings
from scopion.model.errors import InvalidSettings, RouterUnreadable
from scopion.model.observation import Observation, Source
from scopion.operations.site.open_site import Site
from scopion.operations.site.reach_machine import snmp_access
from scopion.operations.site.snmp_settings import RouterSettings


def pair_by_router(site: Site, router: RouterSettings, subnet: IPv4Network, findings: Findings) -> None:
    """Give the found hosts their MAC addresses, and add hosts that the router has just met but that were silent.

    A table that cannot be read is told in the findings: hosts without a MAC address are still worth having.
    """
    try:
        table = site.attachment.router_table(snmp_access(site.folder, router, f"router {router.address}"))
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
