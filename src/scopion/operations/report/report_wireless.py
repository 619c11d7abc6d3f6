"""The wireless networks of a report: their lists, the last push and verification, and the audit's findings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from scopion.model.band import spoken_bands
from scopion.model.device import Device
from scopion.model.errors import NotFound
from scopion.model.mac import MacAddress
from scopion.model.text import counted
from scopion.model.week import Local, on_the_wall
from scopion.operations.pages.held_by import pages_of
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.audit_networks import audit
from scopion.operations.wifi.edit_networks import networks
from scopion.operations.wifi.load_policy import policy_for
from scopion.operations.wifi.published_lists import published
from scopion.operations.wifi.remind_sheets import changes_in, due_since
from scopion.reports.content import AuditLine, NetworkLine
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.associations import associations
from scopion.roster.wifi.lists import ListMode, Network
from scopion.roster.wifi.network_notes import Verification, latest_verifications
from scopion.roster.wifi.pushes import HAND, Push, PushState, pushes
from scopion.wireless.list_policy import policy_document, read_policy, wanted

_STATES = {
    PushState.DONE: "",
    PushState.WAITING: ": the sheet waits for scopion wifi done",
    PushState.SKIPPED: "",
    PushState.RUNNING: ", which has not ended",
    PushState.INTERRUPTED: ", which was interrupted half-way",
    PushState.ROLLED_BACK: ", which failed and was rolled back",
    PushState.DIVIDED: ", which failed and is in force on some radios only",
}


def network_lines(site: Site, roster: Roster, devices: Sequence[Device], local: Local) -> tuple[NetworkLine, ...]:
    """Return each network with its last push and verification."""
    looked = latest_verifications(roster)
    found = []
    in_force = published(roster, site)
    for known in networks(site):
        network = known.network
        sent = pushes(roster, network.ssid)
        latest = next((each for each in sent if each.state is not PushState.SKIPPED), None)
        done = next((each for each in sent if each.state is PushState.DONE), None)
        policy = policy_document(policy_for(roster, network, devices))
        listed = network.mode is not ListMode.OFF or done is not None
        of_network = [each for each in in_force if each.push.ssid == network.ssid and each.page is not None]
        due = min(filter(None, (due_since(site, roster, each) for each in of_network)), default=None)
        waiting = next((each.push for each in of_network if each.push.state is PushState.WAITING), None)
        look = looked.get(network.ssid)
        found.append(
            NetworkLine(
                ssid=network.ssid,
                mode=str(network.mode),
                allowed=known.allowed,
                denied=known.denied,
                enforcers=known.enforcers,
                pushed=_said_push(site, latest, network, local) if latest else "",
                pushed_at=on_the_wall(_moment(latest), local) if latest else None,
                pending=listed and (done is None or done.policy != policy),
                due_since=on_the_wall(due, local) if due is not None else None,
                to_type=changes_in(waiting) if waiting is not None else "",
                verified=_said_look(look) if look else "",
                verified_at=on_the_wall(look.at, local) if look else None,
                works=look.met if look else None,
            )
        )
    return tuple(found)


@dataclass(frozen=True, slots=True)
class RefusedStation:
    """A device that was associated though the list, once in force, refuses it."""

    ssid: str
    called: str
    mac: MacAddress
    at: datetime


def refused_stations(
    site: Site, roster: Roster, devices: Sequence[Device], since: datetime, until: datetime
) -> list[RefusedStation]:
    """Return devices that an access point or a pasted list has met in a time, after their network's list was put in
    force, although the list that was put in force refuses them.
    """
    of_mac = {mac: device for device in devices for mac in device.macs}
    met = [each for each in associations(roster).values() if since <= each.seen <= until]
    found = []
    for known in networks(site):
        ssid = known.ssid
        done = next((each for each in pushes(roster, ssid) if each.state is PushState.DONE), None)
        if done is None or done.policy is None:
            continue
        policy = read_policy(done.policy)
        for each in met:
            refused = each.ssid == ssid and not wanted(policy, each.seen, site.clock.local).admits(each.mac)
            if refused and each.seen > (done.ended or done.at):
                device = of_mac.get(each.mac)
                found.append(RefusedStation(ssid, device.called if device else str(each.mac), each.mac, each.seen))
    return sorted(found, key=lambda each: (each.ssid, each.called.casefold()))


def _said_push(site: Site, push: Push, network: Network, local: Local) -> str:
    radios = spoken_bands(push.radios)
    rest = sorted(set(network.radios) - set(push.radios))
    by_hand = any(page.name == push.enforcer for page in pages_of(site, push.ssid))
    where = "" if push.enforcer == HAND else f" at {push.enforcer}"
    what = "to be typed in" if push.state is PushState.WAITING else "typed in by hand"
    what = f"{what}{where}" if by_hand else f"sent to {push.enforcer}"
    who = f" by {push.who}" if push.who and not by_hand else ""
    alone = f", not to {spoken_bands(rest)} then" if rest and not by_hand else ""
    until = f"; taken back at {on_the_wall(push.revert_at, local):%H:%M} unless it is kept" if push.revert_at else ""
    return f"{what}{who} on {radios}{alone}{_STATES[push.state]}{until}"


def _moment(push: Push) -> datetime:
    """Return when a push was made; of a sheet that was typed in, when a person said so."""
    return push.ended or push.at if push.state is PushState.DONE else push.at


def _said_look(look: Verification) -> str:
    if look.met is None:
        return "nothing of it could be read"
    if look.met:
        return "in force, and no device that it refuses was here"
    more = f" (and {counted(len(look.unmet) - 1, 'more thing')})" if len(look.unmet) > 1 else ""
    return f"{look.unmet[0] if look.unmet else 'it did not do what it should'}{more}"


def audit_lines(site: Site) -> tuple[AuditLine, ...]:
    """Return the audit's findings about all networks; it asks the enforcers."""
    try:
        audited = audit(site)
    except NotFound:
        return ()
    return tuple(
        AuditLine(each.ssid, str(finding.grade), finding.where, finding.about, finding.says, finding.do)
        for each in audited
        for finding in each.findings
    )
