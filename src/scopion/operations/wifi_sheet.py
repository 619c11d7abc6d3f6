"""A person as the enforcer: the sheet to type from, and the record that it was typed in."""

from __future__ import annotations

from scopion.model.errors import Refused
from scopion.operations.change import account
from scopion.operations.policies import policy_for, rules_on
from scopion.operations.site import Site
from scopion.roster import lists
from scopion.roster.lists import ListMode, Network
from scopion.roster.pushes import HAND, Push, PushState, begin_push, end_push, push_of, pushes
from scopion.roster.store import Roster
from scopion.wireless.enforcers.base import Held, held_document, read_held
from scopion.wireless.policy import policy_document
from scopion.wireless.sheet import Sheet, make_sheet


def sheet_of(site: Site, ssid: str, *, whole: bool = False) -> Sheet:
    """The steps for the router's web page: the difference since it was typed in, or the ``whole`` list.

    Raises NotFound, or Refused for an allow list that admits nobody.
    """
    roster = site.roster_for_reading()
    if roster is None:
        raise lists.no_network(ssid)
    network = lists.network(roster, ssid)
    policy = policy_for(roster, network)
    rules = rules_on(policy, network.mode)
    if network.mode is ListMode.ALLOW and not rules:
        raise Refused(f"the allow list of {ssid!r} is empty: a sheet for it would lock everybody out")
    made = site.clock.local(site.clock.now()).strftime("%Y-%m-%d %H:%M")
    typed = None if whole else typed_in(roster, network)
    return make_sheet(network, rules, made, typed, others=str(policy.others) if policy.others is not None else "")


def typed_in(roster: Roster, network: Network) -> dict[str, Held] | None:
    """What somebody has typed in, by radio; None if nobody has said so yet."""
    found: dict[str, Held] = {}
    for each in pushes(roster, network.ssid):
        if each.enforcer == HAND and each.state is PushState.DONE:
            for radio, told in each.radios.items():
                found.setdefault(radio, read_held(told["target"]))
    return found or None


def note_typed_in(site: Site, ssid: str, radios: tuple[str, ...] = ()) -> Push:
    """Record that the sheet of a network was typed in, on all radios or some. Raises NotFound, Refused."""
    roster = site.roster
    network = lists.network(roster, ssid)
    strange = [radio for radio in radios if radio not in network.radios]
    if strange:
        raise Refused(f"{ssid!r} is not on {strange[0]} GHz: scopion wifi mode with --radios says where it is")
    policy = policy_for(roster, network)
    macs = frozenset(rule.line.mac for rule in rules_on(policy, network.mode))
    allowed = network.mode is ListMode.ALLOW
    target = Held(macs if allowed else frozenset(), frozenset() if allowed else macs, network.mode)
    before = typed_in(roster, network) or {}
    told = {
        radio: {
            "before": held_document(before.get(radio, Held())),
            "target": held_document(target),
            "ours": held_document(target),
            "after": None,
        }
        for radio in radios or network.radios
    }
    with roster.transaction():
        now = site.clock.now()
        number = begin_push(
            roster,
            ssid,
            HAND,
            at=now,
            who=account(),
            because="typed in",
            radios=told,
            policy=policy_document(policy),
            revert_at=None,
        )
        end_push(roster, number, PushState.DONE, now)
    return push_of(roster, number)
