"""What commands that look at a network share: the name servers, whether the interface was up, which
hosts answer now.
"""

from __future__ import annotations

from contextlib import closing

from scopion.attachment.choose import what_happened
from scopion.attachment.ports import Interface
from scopion.discovery.probing import open_prober, plan_for
from scopion.discovery.runner import SideTask, run_scan
from scopion.model.address import Address
from scopion.model.errors import InterfaceLost, ScopionError
from scopion.model.observation import Observation
from scopion.operations.scan.prepare_scan import PreparedScan
from scopion.operations.site.open_site import Site


def name_servers(site: Site, interface: Interface) -> list[Address]:
    """Return the name servers to ask: those of the settings, else the gateway and the first of the system's own."""
    if site.settings.names.resolvers:
        return list(site.settings.names.resolvers)
    found = [*([interface.gateway] if interface.gateway else []), *site.attachment.resolvers()[:1]]
    return list(dict.fromkeys(found))


def interruption(site: Site, prepared: PreparedScan) -> str:
    """Return what became of the interface since a scan was prepared; empty if it was there all the time."""
    before = prepared.choice.interface
    now = next((each for each in site.attachment.interfaces() if each.name == before.name), None)
    return what_happened(before, now, prepared.from_address)


def who_answers(site: Site, prepared: PreparedScan, side_task: SideTask | None = None) -> list[Observation]:
    """Return all hosts that answer, without remembering them.

    Raises InterfaceLost if silence means nothing because the interface was not there all the time, ScopionError if it
    was ended early, NotPermitted.
    """
    attachment, interface = site.attachment, prepared.choice.interface
    with closing(open_prober(prepared.method, attachment, interface, prepared.own_address)) as prober:
        plan = plan_for(prepared.method, prepared.pace, prepared.rounds)
        side_tasks = [side_task] if side_task is not None else []
        also = () if prepared.attached and prepared.whole else None
        found = run_scan(prepared.addresses or (), prober, attachment, plan, side_tasks=side_tasks, also=also)
    if not found.completed:
        raise ScopionError(f"looking for the devices that are here was ended: {found.interruption}")
    require_uninterrupted(site, prepared)
    return found.observations


def require_uninterrupted(site: Site, prepared: PreparedScan) -> None:
    """Raise InterfaceLost if the interface was not there all the time: then silence means nothing."""
    if happened := interruption(site, prepared):
        raise InterfaceLost(f"{happened}, so that silence means nothing: try again")
