"""Looks once who answers, without remembering it: for commands that only need to know."""

from __future__ import annotations

from contextlib import closing

from scopion.discovery.asking import open_asker, plan_for
from scopion.discovery.runner import Companion, run_scan
from scopion.model.errors import ScopionError
from scopion.model.observation import Observation
from scopion.operations.prepare import PreparedScan
from scopion.operations.site import Site


def who_answers(site: Site, prepared: PreparedScan, companion: Companion | None = None) -> list[Observation]:
    """Everybody who answered. Raises ScopionError if that was ended early, NotPermitted, InterfaceLost."""
    attachment, interface = site.attachment, prepared.choice.interface
    with closing(open_asker(prepared.method, attachment, interface, prepared.own_address)) as asker:
        plan = plan_for(prepared.method, prepared.pace, prepared.rounds)
        companions = [companion] if companion is not None else []
        also = () if prepared.attached and prepared.whole else None
        found = run_scan(prepared.addresses or (), asker, attachment, plan, companions=companions, also=also)
    if not found.completed:
        raise ScopionError(f"looking for who is here was ended: {found.interruption}")
    return found.observations
