"""The sheet of a network: what to type into its router's web page."""

from __future__ import annotations

from scopion.model.errors import Refused
from scopion.operations.policies import lines_on, policy_for
from scopion.operations.site import Site
from scopion.roster import lists
from scopion.roster.lists import ListMode
from scopion.wireless.sheet import sheet


def make_sheet(site: Site, ssid: str) -> str:
    """The steps for the router's web page. Raises NotFound, or Refused for an allow list that admits nobody."""
    roster = site.roster_for_reading()
    if roster is None:
        raise lists.no_network(ssid)
    network = lists.network(roster, ssid)
    lines = lines_on(policy_for(roster, network), network.mode)
    if network.mode is ListMode.ALLOW and not lines:
        raise Refused(f"the allow list of {ssid!r} is empty: a sheet for it would lock everybody out")
    made = site.clock.local(site.clock.now()).strftime("%Y-%m-%d %H:%M")
    return sheet(network, lines, made)
