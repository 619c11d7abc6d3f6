"""Blocks and unblocks a device: one change of lists over several networks, looked at before it is made.

A rehearsal makes the change and takes it back in the same transaction; the radios are read for it afterwards, while
nothing is locked. Then a person decides.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import datetime

from scopion.model.device import Device, Standing
from scopion.model.errors import ChangedMeanwhile, Refused
from scopion.model.text import entered
from scopion.operations.one_step.pick_networks import macs_of, networks_to_block, networks_to_unblock
from scopion.operations.pages.held_by import is_only_asked_for, is_reached, pages_of
from scopion.operations.site.change_roster import account, change
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.check_push import require_harmless, require_room
from scopion.operations.wifi.edit_networks import nearest, networks, new_network
from scopion.operations.wifi.find_subjects import Subject, checked, of_unknown_media, subject_of
from scopion.operations.wifi.load_policy import policy_for, refuse_switched_on_lockout, refuse_too_long
from scopion.operations.wifi.network_context import open_network
from scopion.operations.wifi.open_enforcers import enforcers
from scopion.operations.wifi.read_radios import RadioChoice, plan_radios
from scopion.roster.read_devices import all_devices
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi import lists
from scopion.roster.wifi.lists import Entry, EntryTerms, ListMode, Network
from scopion.roster.wifi.timetables import stored_hours, timetables, week_of
from scopion.wireless.block_entry import BlockTerms, Listing, blocked, mode_to_block, unblocked
from scopion.wireless.block_words import Change, sentence
from scopion.wireless.list_policy import ListPolicy, admits, next_turn, wanted
from scopion.wireless.plan_radio import RadioPlan
from scopion.wireless.policy_effects import changes_what_is_sent
from scopion.wireless.refusals import quoted, refuse_denying


@dataclass(frozen=True, slots=True)
class BlockRequest:
    """What is to be blocked or unblocked, where, and on what terms."""

    device: str
    block: bool
    ssids: tuple[str, ...] = ()  # empty: they are picked
    everywhere: bool = False
    until: datetime | None = None
    hours: str | None = None
    description: str = ""
    insist: bool = False


@dataclass(frozen=True, slots=True)
class PushOutlook:
    """What a push of a change does at once, and what goes with it."""

    enforcers: tuple[str, ...]
    disconnects: bool  # whether the device is associated now and will be disconnected
    others: tuple[str, ...]  # the names of others that will be
    also_sent: int  # how many addresses were changed before and not pushed yet


@dataclass(frozen=True, slots=True)
class BlockedNetwork:
    """What a change means on one network."""

    network: Network  # as it will be
    policy: ListPolicy
    says: str  # what will be true for the device, in a sentence
    admitted: bool  # whether the device will be admitted now
    changes_later: bool  # whether time changes it again, and a watch has to carry that out
    is_new: bool  # whether the roster did not know it
    switched_on: bool  # whether its lists were off
    push: PushOutlook | None = None  # None: a person types it in

    @property
    def ssid(self) -> str:
        """Return its name."""
        return self.network.ssid


@dataclass(frozen=True, slots=True)
class BlockChange:
    """A change as it was rehearsed, or made."""

    request: BlockRequest  # with the networks that were picked
    name: str
    why: str  # why these networks
    cautions: tuple[str, ...]
    networks: tuple[BlockedNetwork, ...]
    elsewhere: tuple[str, ...]  # networks that stay as they are
    is_new: bool  # whether no person has said yet what the device is


class _TakeBack(Exception):
    """Ends a transaction without its changes."""


def rehearse(site: Site, request: BlockRequest) -> BlockChange:
    """Return what a change would mean, and what it would do on each radio; nothing is changed.

    Raises Refused for what would lock this machine or an essential device out, EnforcerUnreachable, NotFound.
    """
    found: list[BlockChange] = []
    request, why = _picked(site, request)
    with suppress(_TakeBack), change(site, "wifi") as (roster, _):
        found.append(_change(site, roster, request, why))
        raise _TakeBack
    (made,) = found
    return replace(made, networks=tuple(_with_outlook(site, each, request) for each in made.networks))


def carry_out(site: Site, rehearsed: BlockChange) -> BlockChange:
    """Make a rehearsed change, as one that can be undone. Raises ChangedMeanwhile if it would be another by now."""
    with change(site, "wifi") as (roster, described):
        made = _change(site, roster, rehearsed.request, rehearsed.why)
        for before, after in zip(rehearsed.networks, made.networks, strict=False):
            if changes_what_is_sent(before.policy, after.policy):
                raise ChangedMeanwhile(
                    f"the lists of {after.ssid!r} were changed meanwhile: nothing was done, try again"
                )
        verb = "blocked" if rehearsed.request.block else "unblocked"
        described.says = f"{made.name} {verb} on {', '.join(repr(each.ssid) for each in made.networks)}"
    return made


def _picked(site: Site, request: BlockRequest) -> tuple[BlockRequest, str]:
    """Return the request with its networks, and why these."""
    devices = all_devices(site.roster_for_reading())
    subject = subject_of(devices, request.device)
    if request.ssids:
        for ssid in request.ssids:
            if (near := nearest(site, ssid)) is not None:
                raise Refused(f"no wireless network {ssid!r} is known, {near!r} is: write that")
        return request, ""
    if request.everywhere and (known := tuple(each.ssid for each in networks(site))):
        return replace(request, ssids=known), "all networks are meant"
    if request.block:
        ssids, why = networks_to_block(site, subject)
    else:
        ssids, why = networks_to_unblock(site, subject, devices)
    return replace(request, ssids=tuple(ssids)), why


def _change(site: Site, roster: Roster, request: BlockRequest, why: str) -> BlockChange:
    """Make the change in an open transaction, and return it."""
    devices = all_devices(roster)
    subject = subject_of(devices, request.device)
    known = timetables(roster)
    hours = week_of(stored_hours(roster, request.hours), known) if request.hours else None
    why_so = entered(request.description, "a description")
    wish = BlockTerms(site.clock.now(), known, request.until, hours, why_so)
    before: dict[str, ListPolicy] = {}
    changed: dict[str, bool] = {}  # whether the roster did not know it
    cautions: list[str] = []
    for ssid in request.ssids:
        network = lists.find_network(roster, ssid)
        changed[ssid] = network is None
        if network is None:
            network = new_network(site, ssid)
            lists.save_network(roster, network)
        sharing = [each for each in lists.all_networks(roster) if each.lists == network.lists]
        for each in sharing:
            before.setdefault(each.ssid, policy_for(roster, each, devices))
            changed.setdefault(each.ssid, False)
        cautions += _checked(site, roster, devices, subject, network, request)
        _apply(site, roster, subject, network, request, wish)
    done = []
    for ssid, is_new in changed.items():
        network = lists.network(roster, ssid)
        after = policy_for(roster, network, devices)
        if ssid not in request.ssids and not changes_what_is_sent(before[ssid], after):
            continue
        refuse_too_long(site, network, roster, devices, network.mode)
        if not request.insist:
            refuse_switched_on_lockout(site, network, roster, devices)
        one = _outcome(site, subject, network, Change(before[ssid], after, wish.now), request)
        done.append(replace(one, is_new=is_new))
    others = tuple(each.ssid for each in networks(site) if each.ssid not in {one.ssid for one in done})
    cautions += of_unknown_media([subject]) if request.block else []
    unique = tuple(dict.fromkeys(cautions))
    is_new = subject.device is None or subject.device.standing is Standing.NEW
    return BlockChange(request, subject.name, why, unique, tuple(done), others, is_new)


def _checked(
    site: Site, roster: Roster, devices: Sequence[Device], subject: Subject, network: Network, request: BlockRequest
) -> list[str]:
    """Return what to be careful about. Raises Refused for what should not be blocked."""
    which = ListMode.DENY if request.block else ListMode.ALLOW
    if not request.block and network.mode is not ListMode.ALLOW:
        return []  # taking a refusal away needs no care
    if request.block and network.mode is ListMode.ALLOW and subject.device is not None and not request.insist:
        refuse_denying(network.ssid, subject.device)
    return checked(site, roster, devices, subject, network.ssid, which, request.insist)


def _apply(
    site: Site, roster: Roster, subject: Subject, network: Network, request: BlockRequest, wish: BlockTerms
) -> None:
    """Give a device's entries on a network their new terms, and the network the mode that blocking needs."""
    had = {each.list: each for each in lists.all_entries(roster, network.lists) if each.subject in subject.keys}
    was = Listing(_terms(had.get(ListMode.ALLOW)), _terms(had.get(ListMode.DENY)))
    now = (blocked if request.block else unblocked)(was, network, wish)
    for which, before, after in ((ListMode.ALLOW, was.allow, now.allow), (ListMode.DENY, was.deny, now.deny)):
        if after == before:
            continue
        lists.drop_entries(roster, network.lists, subject.keys, which)
        if after is not None:
            _require_carried_out(site, network, after)
            terms = replace(after, who=account())
            lists.add_entry(roster, network.lists, which, subject.keys[0], wish.now, terms)
    if request.block and mode_to_block(network.mode) is not network.mode:
        lists.save_network(roster, replace(network, mode=mode_to_block(network.mode)))


def _terms(entry: Entry | None) -> EntryTerms | None:
    if entry is None:
        return None
    return EntryTerms(entry.description, entry.hours, entry.until, entry.paused, entry.who, entry.override)


def _require_carried_out(site: Site, network: Network, terms: EntryTerms) -> None:
    """Raise Refused for hours that hold otherwise for a while, where a router keeps the hours itself."""
    if terms.override is None or not terms.override.on or not terms.hours:
        return
    if any(page.timetable for page in pages_of(site, network.ssid)):
        raise Refused(
            f"the router of {network.ssid!r} keeps the hours of this entry itself ({terms.hours}), so it cannot be "
            "otherwise for a while: give other hours with --hours"
        )


def _outcome(site: Site, subject: Subject, network: Network, made: Change, request: BlockRequest) -> BlockedNetwork:
    local, macs = site.clock.local, macs_of(subject)
    admitted = admits(wanted(made.after, made.now, local), macs)
    if request.block and request.hours is None and admitted:
        raise Refused(
            f"{subject.name} would still be admitted on {network.ssid!r}: for a while that network is for some devices "
            f"only, and it is one of them; scopion wifi only {quoted(network.ssid)} --end first"
        )
    return BlockedNetwork(
        network,
        made.after,
        says=sentence(subject.name, macs, made, local),
        admitted=admitted,
        changes_later=not is_only_asked_for(site, network.ssid)
        and next_turn(made.after, macs, made.now, local) is not None,
        is_new=False,
        switched_on=made.before.mode is not made.after.mode,
    )


def _with_outlook(site: Site, each: BlockedNetwork, request: BlockRequest) -> BlockedNetwork:
    """Return it with what a push will do. Raises EnforcerUnreachable, Refused."""
    if not is_reached(site, each.ssid):
        return each
    context = open_network(site, site.roster_for_reading(), each.ssid, each.policy)
    plans: list[RadioPlan] = []
    with enforcers(site, each.ssid) as opened:
        for enforcer in opened:
            if not enforcer.traits.by_hand:
                plans += plan_radios(context, enforcer, RadioChoice(enforcer.name))
    for plan in plans:
        require_room(context, plan)
        if not request.insist:
            require_harmless(context, plan)
    mine = set(macs_of(subject_of(context.devices, request.device)))
    leaving = {station.mac for plan in plans for station in plan.leaving}
    changed = {mac for plan in plans for mac in (*plan.added, *plan.removed)} - mine
    of_mac = {mac: device.called for device in context.devices for mac in device.macs}
    return replace(
        each,
        push=PushOutlook(
            enforcers=tuple(dict.fromkeys(plan.enforcer for plan in plans)),
            disconnects=not leaving.isdisjoint(mine),
            others=tuple(of_mac.get(mac, str(mac)) for mac in sorted(leaving - mine)),
            also_sent=0 if each.switched_on else len(changed),  # a list that is switched on goes whole
        ),
    )
