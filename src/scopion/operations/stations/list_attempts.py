"""Who was refused and asked all the same, by all that tells it: RADIUS, and what the watch has heard."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from scopion.model.device import Device
from scopion.model.errors import ScopionError
from scopion.model.mac import MacAddress
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.load_policy import policy_for
from scopion.roster.folding.note_attempts import RefusedAttempt
from scopion.roster.read_devices import all_devices
from scopion.roster.store.open_roster import Roster
from scopion.roster.watch_record import Attempt, HeardAttempts, last_watch
from scopion.roster.wifi import lists
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.radius.radius_settings import RadiusSettings


@dataclass(frozen=True, slots=True)
class AttemptRow:
    """A device that was refused on a network, how often and where last."""

    mac: MacAddress
    device: Device | None
    ssid: str
    access_point: str
    radio: str  # its band in GHz; empty: not told
    attempt: Attempt
    since: datetime  # when it began to be counted
    expected: bool  # it is on the allow list, and was outside its hours


def attempts(site: Site, ssid: str | None = None) -> list[AttemptRow]:
    """Return who was refused, the latest first."""
    roster = site.roster_for_reading()
    devices = all_devices(roster)
    of_mac = {mac: device for device in devices for mac in device.macs}
    on_list: dict[str, set[MacAddress]] = {}
    rows = []
    for network, enforcer, radio, heard in _heard(site, roster):
        if ssid not in (None, network):
            continue
        if network not in on_list:
            on_list[network] = allowed_on(site, roster, network)
        for mac, attempt in heard.by_mac.items():
            where, expected = attempt.access_point or enforcer, mac in on_list[network]
            rows.append(AttemptRow(mac, of_mac.get(mac), network, where, radio, attempt, heard.since, expected))
    return sorted(rows, key=lambda row: row.attempt.last, reverse=True)


def news_of(site: Site, roster: Roster, network: str, enforcer: str, heard: HeardAttempts) -> list[RefusedAttempt]:
    """Return the attempts that are news: those of a device that waits for its hours are none."""
    expected = allowed_on(site, roster, network)
    return [
        RefusedAttempt(mac, network, attempt.access_point or enforcer, attempt.last)
        for mac, attempt in heard.by_mac.items()
        if mac not in expected
    ]


def allowed_on(site: Site, roster: Roster, ssid: str) -> set[MacAddress]:
    """Return the addresses on a network's allow list, whatever the hour."""
    network = lists.find_network(roster, ssid)
    if network is None:
        return set()
    return {rule.line.mac for rule in policy_for(roster, network).rules if rule.list is ListMode.ALLOW}


def _heard(site: Site, roster: Roster) -> Iterator[tuple[str, str, str, HeardAttempts]]:
    """Yield network, enforcer and radio with what was heard there. Settings are read only if anything was."""
    site.settle_answers()
    files, watch = RadiusFiles(site.folder), last_watch(roster)
    by_ear = watch.attempts if watch is not None else {}
    if not by_ear and not files.state.exists():
        return
    asked = {each.network: each.name for each in site.settings.enforcer if isinstance(each, RadiusSettings)}
    if asked:
        try:
            told = files.server_state().attempts
        except ScopionError:
            told = {}
        yield from ((network, asked[network], "", heard) for network, heard in told.items() if network in asked)
    networks = {each.name: each.network for each in site.settings.enforcer}
    for (enforcer, radio), heard in by_ear.items():
        if enforcer in networks:
            yield networks[enforcer], enforcer, radio, heard
