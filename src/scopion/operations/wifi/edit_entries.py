"""Entries on the lists of wireless networks: the rules of ``wireless`` applied to the roster, each
change in one step.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from scopion.model.device import Device
from scopion.model.errors import NotFound, Refused, UsageError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.model.text import counted, entered, joined
from scopion.operations.pages.held_by import is_reached
from scopion.operations.site.change_roster import account, change
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import (
    NetworkSettings,
    is_known,
    known_network,
    nearest,
    new_network,
    with_settings,
)
from scopion.operations.wifi.explain_effects import Before, InForce, NetworkEffect
from scopion.operations.wifi.find_subjects import (
    Subject,
    checked,
    kinds_in_doubt,
    named,
    of_unknown_media,
    subject_of,
    unique,
)
from scopion.operations.wifi.load_policy import refuse_switched_on_lockout, refuse_too_long
from scopion.operations.wifi.open_enforcers import enforcers
from scopion.operations.wifi.read_radios import RadioChoice, read_chosen
from scopion.roster.read_devices import all_devices, set_media
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi import lists
from scopion.roster.wifi.lists import Entry, EntryTerms, ListMode, Network
from scopion.roster.wifi.timetables import stored_hours
from scopion.wireless.list_policy import lines_of_subject

ALWAYS = "always"  # hours that mean none
NEVER = "never"  # an end that means none


@dataclass(frozen=True, slots=True)
class Terms:
    """On what terms devices are listed; None: as the entry has it, or the default."""

    description: str = ""
    hours: str | None = None
    until: datetime | str | None = None
    paused: bool | None = None


@dataclass(frozen=True, slots=True)
class EntryChange:
    """The result of putting devices on a network's list."""

    network: Network
    created: bool
    names: list[str]  # the devices that were put on the list
    moved: list[str]  # those of them that were on the other list before
    cautions: list[str]
    entries: int  # on that list, in all
    paused: int  # of them without effect for now
    told: tuple[NetworkEffect, ...]  # what it means on this network and on those that share its lists
    in_doubt: tuple[str, ...] = ()  # the kinds of devices whose address is to be checked on the device; empty: unknown


@dataclass(frozen=True, slots=True)
class ListedEntry:
    """An entry with what the roster knows, for showing."""

    entry: Entry
    network: Network
    name: str
    macs: tuple[MacAddress, ...]
    because: str  # why it has no effect now; empty: it has
    by_hand: bool  # a person types the list into a router's page, which cannot be read

    @property
    def typed_in(self) -> bool | None:
        """Tell whether a person said that it was typed in, and it should have an effect now; None where none types."""
        return not self.because if self.by_hand else None

    @property
    def in_effect(self) -> bool | None:
        """Tell whether it is in force now, as pushes have recorded; None: it was typed in, and nothing can tell."""
        return None if self.typed_in else not self.because


def put_on_list(
    site: Site,
    ssids: Sequence[str],
    which: ListMode,
    subjects: Sequence[str],
    *,
    terms: Terms | None = None,
    settings: NetworkSettings | None = None,
    insist: bool = False,
    new: bool = False,
) -> list[EntryChange]:
    """Put devices or bare MACs on the allow or deny list of networks; all of them or none.

    An SSID that is probably a known one mistyped makes a network only with ``new``. Raises Refused.
    """
    given = terms or Terms()
    for ssid in ssids:
        if not new and (near := nearest(site, ssid)) is not None:
            raise Refused(
                f"no wireless network {ssid!r} is known, {near!r} is: write that, or add --new to make {ssid!r}"
            )
    text = entered(given.description, "a description")
    if isinstance(given.until, datetime) and given.until <= site.clock.now():
        raise UsageError("an entry ends later than now")
    with change(site, "wifi") as (roster, described):
        devices = all_devices(roster)
        chosen = unique([subject_of(devices, each) for each in subjects])
        hours = stored_hours(roster, given.hours) if given.hours and given.hours != ALWAYS else given.hours
        whole = replace(given, description=text, hours=hours)
        order = _Order(which, chosen, whole, settings, insist)
        listed = [_put(site, roster, devices, ssid, order) for ssid in dict.fromkeys(ssids)]
        who = named(chosen)
        described.says = f"{who} on the {which} list of {joined([repr(each.network.ssid) for each in listed])}"
        return listed


@dataclass(frozen=True, slots=True)
class _Order:
    """What is to be put on which list, and how."""

    which: ListMode
    chosen: Sequence[Subject]
    terms: Terms
    settings: NetworkSettings | None
    insist: bool


def _put(site: Site, roster: Roster, devices: Sequence[Device], ssid: str, order: _Order) -> EntryChange:
    which, chosen, insist = order.which, order.chosen, order.insist
    existing = lists.find_network(roster, ssid)
    network = with_settings(existing or new_network(site, ssid), order.settings)
    lists.save_network(roster, network)
    noted = Before(site, roster, network, devices)
    moved, cautions = [], of_unknown_media(chosen)
    for subject in chosen:
        cautions += checked(site, roster, devices, subject, ssid, which, insist)
        before = lists.drop_entries(roster, network.lists, subject.keys)
        if any(entry.list is not which for entry in before):
            moved.append(subject.name)
        kept = _kept_terms(order.terms, before, which)
        lists.add_entry(roster, network.lists, which, subject.keys[0], site.clock.now(), kept)
    refuse_too_long(site, network, roster, devices, which)
    if not insist:
        refuse_switched_on_lockout(site, network, roster, devices)
    there = [entry for entry in lists.all_entries(roster, network.lists) if entry.list is which]
    names = [each.name for each in chosen]
    paused = sum(entry.paused for entry in there)
    in_doubt = tuple(kinds_in_doubt(site, chosen))
    return EntryChange(
        network, existing is None, names, moved, cautions, len(there), paused, noted.told(chosen), in_doubt
    )


def _kept_terms(terms: Terms, before: Sequence[Entry], which: ListMode) -> EntryTerms:
    """Return the terms of an entry: terms that are not given stay as they were, if it was on this list.

    What holds instead for a while ends where a person says when or whether it holds.
    """
    was = next((entry for entry in before if entry.list is which), None)
    hours = terms.hours if terms.hours is not None else was.hours if was else ""
    until = terms.until if terms.until is not None else was.until if was else None
    description = terms.description or next((each.description for each in before if each.description), "")
    paused = terms.paused if terms.paused is not None else was.paused if was else False
    unsaid = terms.hours is None and terms.until is None and terms.paused is None
    return EntryTerms(
        description,
        "" if hours == ALWAYS else hours,
        until if isinstance(until, datetime) else None,
        paused,
        account(),
        was.override if was and unsaid else None,
    )


def drop_from_lists(
    site: Site, ssid: str, subjects: Sequence[str], *, insist: bool = False
) -> tuple[list[str], tuple[NetworkEffect, ...]]:
    """Take devices or bare MACs off a network's lists; all of them or none. Returns their names, and what it means."""
    with change(site, "wifi") as (roster, described):
        network = known_network(site, roster, ssid)
        devices = all_devices(roster)
        chosen = unique([subject_of(devices, each) for each in subjects])
        noted = Before(site, roster, network, devices)
        for subject in chosen:
            if not lists.drop_entries(roster, network.lists, subject.keys):
                raise NotFound(f"{subject.name} is on no list of {ssid!r}: see scopion wifi entries")
        if not insist:
            refuse_switched_on_lockout(site, network, roster, devices)
        described.says = f"{named(chosen)} off the lists of {ssid!r}"
        return [subject.name for subject in chosen], noted.told(chosen)


def lift_refusals(site: Site, which: str) -> tuple[str, tuple[NetworkEffect, ...]]:
    """Take a device off every deny list. Returns its name, and what it means. Raises NotFound if it was on none."""
    with change(site, "wifi") as (roster, described):
        devices = all_devices(roster)
        subject = subject_of(devices, which)
        denied = {
            entry.ssid
            for entry in lists.all_entries(roster)
            if entry.list is ListMode.DENY and entry.subject in subject.keys
        }
        if not denied:
            raise NotFound(f"{subject.name} is on no deny list: see scopion wifi entries")
        noted = [Before(site, roster, lists.network(roster, ssid), devices) for ssid in sorted(denied)]
        for ssid in denied:
            lists.drop_entries(roster, ssid, subject.keys, ListMode.DENY)
        described.says = f"{subject.name} off all deny lists"
        return subject.name, tuple(told for each in noted for told in each.told([subject]))


def entries(site: Site, ssid: str | None = None) -> list[ListedEntry]:
    """Return the entries of one network, or everything that is refused on any network."""
    roster = site.roster_for_reading()
    if ssid is not None:
        known_network(site, roster, ssid)
    devices = all_devices(roster)
    by_id = {device.id: device for device in devices}
    of_mac = {mac: device for device in devices for mac in device.macs}
    found = []
    for network in lists.all_networks(roster):
        if ssid not in (None, network.ssid):
            continue
        force = InForce(site, roster, network, devices)
        for entry in lists.all_entries(roster, network.lists):
            if ssid is None and entry.list is not ListMode.DENY:
                continue
            covered = lines_of_subject(entry.subject, entry.description, by_id, of_mac)
            device = by_id.get(entry.device_id) if entry.device_id is not None else of_mac.get(covered[0].mac)
            name = device.called if device and (device.label or device.own or device.gateway) else ""
            macs = tuple(line.mac for line in covered)
            found.append(ListedEntry(entry, network, name, macs, force.lacking(entry, macs), force.by_hand))
    return found


def say_media(site: Site, media: dict[MacAddress, Medium]) -> None:
    """Note the medium of adapters, as a person says."""
    with change(site, "wifi", f"the medium of {counted(len(media), 'adapter')}") as (roster, _):
        set_media(roster, dict(media))


def import_foreign(
    site: Site,
    ssid: str,
    *,
    enforcer: str | None = None,
    radios: tuple[str, ...] = (),
    description: str = "",
    insist: bool = False,
) -> dict[ListMode, list[str]]:
    """Put all addresses that the enforcers of a network hold on the site's lists; listed ones stay as they are.

    Returns the names by list. Raises EnforcerUnreachable, Refused.
    """
    held: dict[ListMode, set[str]] = {ListMode.ALLOW: set(), ListMode.DENY: set()}
    if not is_reached(site, ssid):
        raise Refused(f"the list of {ssid!r} is on a page: scopion wifi allow or deny with --from takes a copy of it")
    with enforcers(site, ssid, enforcer) as opened:
        for each in opened:
            for reading in read_chosen(each, RadioChoice(enforcer, radios)).values():
                held[ListMode.ALLOW] |= set(map(str, reading.held.allow))
                held[ListMode.DENY] |= set(map(str, reading.held.deny))
    there = entries(site, ssid) if is_known(site, ssid) else []
    listed = {str(mac) for entry in there for mac in entry.macs}
    taken: dict[ListMode, list[str]] = {}
    for which, macs in held.items():
        new = sorted(macs - listed)
        taken[which] = []
        if new:
            terms = Terms(description=description or "found on the access point")
            (done,) = put_on_list(site, [ssid], which, new, terms=terms, insist=insist)
            taken[which] = done.names
    return taken
