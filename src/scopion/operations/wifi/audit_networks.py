"""The posture of the site's wireless networks: read where possible, asked where not, and judged."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date

from scopion.model.band import spoken_bands
from scopion.model.device import Device, Standing
from scopion.model.errors import NotFound, ScopionError
from scopion.model.text import joined
from scopion.model.week import NEVER
from scopion.operations.pages.held_by import is_reached
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import known_network
from scopion.operations.wifi.load_policy import policy_for
from scopion.operations.wifi.open_enforcers import open_enforcer
from scopion.roster.read_devices import all_devices
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi import lists
from scopion.roster.wifi.associations import networks_of
from scopion.roster.wifi.lists import ListMode
from scopion.roster.wifi.network_notes import answers, note_answer
from scopion.roster.wifi.pushes import PushState, pushes
from scopion.wireless.enforcers.registry import type_of
from scopion.wireless.judge_posture import ORDER, Finding, Grade, Surroundings, judge, judge_answers, judge_other
from scopion.wireless.list_policy import admitted_week
from scopion.wireless.posture import Posture
from scopion.wireless.refusals import on_the_air

QUESTIONS = ("admin-password", "passphrase-changed")


@dataclass(frozen=True, slots=True)
class Audited:
    """What was found of one network."""

    ssid: str
    findings: tuple[Finding, ...]
    unanswered: tuple[str, ...]  # questions that were not answered yet


def audit(site: Site, ssid: str | None = None) -> list[Audited]:
    """Judge the networks of the site, or one. Raises NotFound if none is known."""
    roster = site.roster_for_reading()
    known = {each.ssid for each in lists.all_networks(roster)}
    known |= {each.network for each in site.settings.enforcer}
    chosen = sorted(known) if ssid is None else [ssid] if ssid in known else []
    if not chosen:
        raise lists.no_network(ssid) if ssid else NotFound("no wireless network is known: scopion wifi allow makes one")
    return [_audited(site, roster, each) for each in chosen]


def answer(site: Site, ssid: str, question: str, said: str) -> None:
    """Keep what a person says of a network."""
    note_answer(site.roster, ssid, question, said, site.clock.now())


def _audited(site: Site, roster: Roster, ssid: str) -> Audited:
    around = _around(site, roster, ssid)
    found: list[Finding] = []
    for settings in (each for each in site.settings.enforcer if each.network == ssid):
        enforcer = open_enforcer(site, settings)
        try:
            for posture in type_of(settings).postures(enforcer, settings):
                found += judge(posture, around) if posture.ssid == ssid else judge_other(posture)
            found += type_of(settings).findings(enforcer, settings)
        except ScopionError as error:
            found.append(Finding(Grade.UNKNOWN, settings.name, "settings", f"could not be read: {error}"))
        finally:
            enforcer.close()
    if not is_reached(site, ssid):
        page = "only the router's page shows them"
        found.append(Finding(Grade.UNKNOWN, ssid, "settings", page, "look there for WPA2 or WPA3, WPS off"))
        found += [each for each in judge(Posture(ssid, ssid), around) if each.grade is not Grade.UNKNOWN]
    said = answers(roster, ssid)
    today = site.clock.local(site.clock.now()).date()
    by_day: Mapping[str, tuple[str, date]] = {
        question: (text, site.clock.local(at).date()) for question, (text, at) in said.items()
    }
    found += judge_answers(ssid, by_day, today)
    return Audited(ssid, _together(found), tuple(each for each in QUESTIONS if each not in said))


def _together(found: Sequence[Finding]) -> tuple[Finding, ...]:
    """Return the findings, the worst first; the same finding on several radios is given once."""
    places: dict[Finding, list[str]] = {}
    for each in found:
        places.setdefault(replace(each, where=""), []).append(each.where)
    merged = [replace(finding, where=_places(where)) for finding, where in places.items()]
    # Of equal grades the encryption comes first, that of other networks on the same access point, too.
    first = ("encryption", "other network")
    return tuple(sorted(merged, key=lambda each: (ORDER.index(each.grade), each.about not in first)))


def _places(where: Sequence[str]) -> str:
    """Return ``ap, 2.4 GHz`` and ``ap, 5 GHz`` as ``ap, 2.4 and 5 GHz``."""
    parted = [each.removesuffix(" GHz").rpartition(", ") for each in where]
    names = {name for name, _, _ in parted}
    if len(where) > 1 and len(names) == 1 and all(each.endswith(" GHz") for each in where):
        return f"{names.pop()}, {spoken_bands(radio for _, _, radio in parted)}"
    return joined(list(where))


def _around(site: Site, roster: Roster, ssid: str) -> Surroundings:
    network = lists.find_network(roster, ssid)
    if network is None:
        return Surroundings(ListMode.OFF, 0)
    devices = all_devices(roster)
    entries = len(lists.all_entries(roster, network.lists))
    makers = [site.vendors.of(mac).name for device in devices if device.gateway for mac in device.macs]
    done = [each for each in pushes(roster, ssid) if each.state is PushState.DONE]
    pushed = {(each.enforcer, radio) for each in done for radio in each.radios}
    named = [each for each in site.settings.enforcer if each.network == ssid]
    lacking = [radio for each in named for radio in each.radios if (each.name, radio) not in pushed]
    people = [each.owner for each in devices if each.owner]
    return Surroundings(
        network.mode, entries, tuple(lacking) if done else (), people, [each for each in makers if each]
    )


@dataclass(frozen=True, slots=True)
class Needing:
    """The devices for a new passphrase, and those left out that were on the network's air, or may have been."""

    devices: tuple[Device, ...]  # present ones first
    left_out: tuple[tuple[Device, str], ...]  # with the reason: unwanted, or refused


def need_passphrase_again(site: Site, ssid: str) -> Needing:
    """Return the devices to be given a new passphrase: without unwanted ones, and those that the
    lists always refuse.
    """
    roster = site.roster_for_reading()
    network = known_network(site, roster, ssid)
    where = networks_of(roster)
    read = ssid in where.values()
    devices = all_devices(roster)
    policy = policy_for(roster, network, devices)
    found, left = [], []
    for device in devices:
        on_it = any(where.get(mac) == ssid for mac in device.macs)
        air = on_the_air(device)
        if device.gateway or not (on_it if read else air):
            continue
        if device.standing is Standing.UNWANTED:
            left.append((device, "unwanted"))
        elif air and admitted_week(policy, air) == NEVER:
            left.append((device, "refused"))
        else:
            found.append(device)
    return Needing(tuple(sorted(found, key=_here_first)), tuple(left))


def _here_first(device: Device) -> tuple[bool, bool, str]:
    return not device.present, not device.essential, device.called.casefold()
