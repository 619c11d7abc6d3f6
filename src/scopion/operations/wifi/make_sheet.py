"""A person as the enforcer: the sheet to type from, and the record that it was typed in."""

from __future__ import annotations

from datetime import datetime, timedelta

from scopion.model.errors import Refused
from scopion.operations.devices.identify_device import described
from scopion.operations.site.change_roster import account
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import known_network
from scopion.operations.wifi.load_policy import lines_on, policy_for, rules_on
from scopion.operations.wifi.read_radios import last_published
from scopion.roster.read_devices import all_devices
from scopion.roster.wifi.lists import ListMode
from scopion.roster.wifi.pushes import HAND, NewPush, Push, PushState, begin_push, end_push, push_of
from scopion.wireless.enforcers.enforcer import Held, held_document
from scopion.wireless.find_on_device import PHONE
from scopion.wireless.list_policy import ListRule, WantedList, changes_until, next_change, policy_document, wanted
from scopion.wireless.router_sheet import Sheet, SheetTimes, make_sheet

_WEEK = timedelta(days=7)
_KINDS_TOLD = 3  # a sheet is one page


def sheet_of(site: Site, ssid: str, *, whole: bool = False) -> Sheet:
    """Return the steps for the router's web page now: the difference since it was typed in, or the ``whole`` list.

    Raises NotFound, or Refused for an allow list that admits no device.
    """
    roster = site.roster_for_reading()
    network = known_network(site, roster, ssid)
    now, local = site.clock.now(), site.clock.local
    policy = policy_for(roster, network)
    rightly = wanted(policy, now, local)
    if rightly.mode is ListMode.ALLOW and not rightly.lines:
        listed = bool(lines_on(policy, ListMode.ALLOW))
        why = "admits no device at this hour" if listed else "is empty"
        raise Refused(f"the allow list of {ssid!r} {why}: a sheet for it would lock every device out")
    change = next_change(policy, now, local) if policy.changes_by_itself else None
    return make_sheet(
        network,
        rightly,
        [rule for rule in rules_on(policy, rightly.mode) if rule.hours is not None and _goes_on(rule, now)],
        SheetTimes(
            made=f"{local(now):%Y-%m-%d %H:%M}",
            until=f"{local(change):%A %Y-%m-%d, %H:%M}" if change is not None else "",
            a_week=changes_until(policy, now, now + _WEEK, local),
        ),
        typed=None if whole else last_published(roster, network.ssid, HAND),
        others=str(policy.others) if policy.others is not None else "",
        kinds=_kinds(site, rightly),
    )


def _kinds(site: Site, rightly: WantedList) -> list[str]:
    """Return the kinds of the listed devices, as far as they are known."""
    of_mac = {mac: device for device in all_devices(site.roster_for_reading()) for mac in device.macs}
    listed = dict.fromkeys(of_mac[line.mac] for line in rightly.lines if line.mac in of_mac)
    kinds = [described(device, site.vendors, site.kinds).guess.kind for device in listed]
    made_up = [PHONE] if any(line.mac.is_private for line in rightly.lines) else []
    return list(dict.fromkeys(filter(None, [*made_up, *kinds])))[:_KINDS_TOLD]


def _goes_on(rule: ListRule, now: datetime) -> bool:
    return rule.until is None or now < rule.until


def note_typed_in(site: Site, ssid: str, radios: tuple[str, ...] = ()) -> Push:
    """Record that the sheet of a network was typed in, on all radios or some. Raises NotFound, Refused."""
    roster = site.roster
    network = known_network(site, roster, ssid)
    strange = [radio for radio in radios if radio not in network.radios]
    if strange:
        raise Refused(f"{ssid!r} is not on {strange[0]} GHz: scopion wifi mode with --radios says where it is")
    policy = policy_for(roster, network)
    rightly = wanted(policy, site.clock.now(), site.clock.local)
    allowed = rightly.mode is ListMode.ALLOW
    target = Held(rightly.macs if allowed else frozenset(), frozenset() if allowed else rightly.macs, rightly.mode)
    before = last_published(roster, ssid, HAND)
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
        new = NewPush(ssid, HAND, now, account(), "typed in", told, policy_document(policy))
        number = begin_push(roster, new)
        end_push(roster, number, PushState.DONE, now)
    return push_of(roster, number)
