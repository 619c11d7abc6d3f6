"""Verifies a network's list: read back, compared with the associated stations, and looked for by a scan."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress

from scopion.discovery.client_lists.clients import Presence
from scopion.discovery.client_lists.read import read_client_list
from scopion.model.band import at_band, spoken_band, spoken_bands
from scopion.model.errors import NoInterface, ScopionError, StorageFailed
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation
from scopion.model.text import counted, joined
from scopion.operations.devices.gather_card import likeliest
from scopion.operations.devices.map_addresses import subnets_of
from scopion.operations.intake.pasted_lists import OnAir, associations_in, record_context
from scopion.operations.pages.held_by import pages_of, reached
from scopion.operations.scan.ask_network import who_answers
from scopion.operations.scan.prepare_scan import PreparedScan, ScanRequest, prepare_scan
from scopion.operations.scan.recognise_network import recognise
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.network_context import NetworkContext, open_network
from scopion.operations.wifi.open_enforcers import enforcers, located, read_stations
from scopion.operations.wifi.read_radios import RadioChoice, plan_radios
from scopion.operations.wifi.tell_attempts import tell_attempts
from scopion.operations.wifi.verify_page import check_page
from scopion.roster.scans import known_subnets
from scopion.roster.watch_record import last_watch
from scopion.roster.wifi.lists import ListMode
from scopion.roster.wifi.network_notes import note_verification
from scopion.roster.wifi.pushes import PushState, pushes
from scopion.wireless.enforcers.enforcer import Effect, Located, read_held
from scopion.wireless.plan_radio import RadioPlan
from scopion.wireless.verdict import Check, Verdict

_KEPT_BY_PAGES = "pages keep a client for minutes after it left: look again"


def verify(site: Site, ssid: str, *, clients: str | None = None, scan: bool = True, attempts: bool = True) -> Verdict:
    """Verify that a network's list is in force and works. ``clients``: a copied client list of the router's page.

    With ``attempts`` it is told who was turned away; right after a push there is nothing to tell.
    """
    looking = _Verification(open_network(site, site.roster_for_reading(), ssid))
    looking.at_enforcers(attempts=attempts)
    looking.at_pages(attempts=attempts)
    if clients is not None:
        looking.at_clients(clients)
    if scan:
        looking.by_scan()
    looking.at_lifted()
    _note(site, looking.verdict)
    return looking.verdict


def _note(site: Site, verdict: Verdict) -> None:
    """Keep the result; a user who may only read the roster gets it all the same."""
    unmet = [f"{each.where}: {each.says}" for each in verdict.checks if each.met is False]
    seen = verdict.met if any(each.met is not None for each in verdict.checks) else None
    with suppress(StorageFailed):
        note_verification(site.roster, verdict.network.ssid, site.clock.now(), seen, unmet)


class _Verification:
    """Gathers the checks of one network."""

    def __init__(self, context: NetworkContext) -> None:
        self._context = context
        self._site, self._roster, self._devices = context.site, context.roster, context.devices
        self._network, self._wanted = context.network, context.wanted
        self._of_mac = {mac: device for device in self._devices for mac in device.macs}
        self._plans: list[RadioPlan] = []
        self._stations: list[Located] = []
        self.verdict = Verdict(context.network)

    def at_enforcers(self, *, attempts: bool) -> None:
        """Check the lists that enforcers hold, and their stations."""
        watch = last_watch(self._roster) if attempts else None
        for settings in reached(self._site, self._network.ssid):
            try:
                with enforcers(self._site, self._network.ssid, settings.name) as opened:
                    for enforcer in opened:
                        plans = plan_radios(self._context, enforcer, RadioChoice(settings.name), log=attempts)
                        self._plans += plans
                        if attempts:
                            self.verdict.notes += tell_attempts(self._context, plans, self._called, watch)
            except ScopionError as error:
                self._note(settings.name, "list", False, f"it could not be read: {error}")
        now = self._site.clock.now()
        self._stations = [each for plan in self._plans for each in plan.located(self._network.ssid, now)]
        for ssid in sorted({each.network for each in reached(self._site)} - {self._network.ssid}):
            found, unread = read_stations(self._site, ssid)
            self._stations += found
            self.verdict.notes += [
                f"{at_band(each.enforcer, each.radio)}: not read, {each.problem}" for each in unread if each.radio
            ]
        for plan in self._plans:
            where = at_band(plan.enforcer, plan.radio)
            self._list_of(where, plan)
            self._stations_of(where, plan)

    def _list_of(self, where: str, plan: RadioPlan) -> None:
        count = counted(plan.held.entries, "entry", "entries")
        if not plan.is_in_force:
            lacking = f"{len(plan.added)} missing" if plan.added else ""
            more = f"{len(plan.removed)} too many" if plan.removed else ""
            modes = f"its mode is {plan.held.mode}, not {plan.target.mode}"
            differs = joined(list(filter(None, (lacking, more)))) or modes
            also = f" ({plan.held.remark})" if plan.held.remark else ""
            self._note(where, "list", False, f"it holds another list: {differs}{also}; scopion wifi push")
            return
        mode = "" if plan.traits.reads_mode else "; its mode cannot be read back"
        foreign = f", {plan.foreign.entries} of them not yours" if plan.foreign.entries else ""
        self._note(where, "list", True, f"it holds what it should: {count}{foreign}{mode}")
        for mac in plan.voided:
            said = f"a foreign allow entry admits {self._called(mac)}: wifi push --drop-foreign removes it"
            self._note(where, "list", False, said)

    def _stations_of(self, where: str, plan: RadioPlan) -> None:
        if not plan.traits.reads_stations:
            self._note(where, "associated", None, f"it does not tell; its effect is that it {plan.traits.effect}")
            return
        refused = {
            each.mac: each.leaving for each in plan.stations if plan.target.refuses(each) or each.mac in plan.voided
        }
        if not refused:
            self._note(where, "associated", True, f"no refused device ({counted(len(plan.stations), 'station')})")
        for mac, leaving in refused.items():
            if not plan.is_in_force:
                says = "is associated, because the list is not in force here yet: scopion wifi push"
            elif mac in plan.voided:
                says = "is associated, because a foreign allow entry admits it"
            elif leaving:
                says = f"is still associated; {leaving}"
            else:
                says = "is still associated; scopion wifi push disconnects it"
            self._note(where, "associated", False, f"{self._called(mac)} {says}")

    def at_pages(self, *, attempts: bool) -> None:
        """Check what a person typed in, as far as they said so."""
        for page in pages_of(self._site, self._network.ssid):
            check = check_page(self._context, page)
            self.verdict.checks.append(check)
            if attempts:
                self.verdict.notes.append(f"{check.where} does not tell who was turned away")

    def at_clients(self, text: str) -> None:
        """Check which clients are on a copied client list."""
        reading = read_client_list(text, record_context(self._site, self._site.clock.now()))
        where = "the client list"
        if not reading.observations:
            self._note(where, "clients", None, "no client was recognised in it")
            return
        pasted, _ = associations_in(reading, OnAir())
        self._stations += [located(each) for each in pasted]
        listed = {each.mac: each for each in reading.observations if each.mac is not None}
        kept = {mac for mac, each in reading.clients.items() if each.presence is Presence.RESERVED}
        away = listed.keys() & (reading.absent | kept)
        for mac in away:
            del listed[mac]
        refused = [mac for mac in listed if self._is_refused(mac, listed[mac].medium)]
        count = counted(len(listed), "client")
        if away:
            self.verdict.notes.append(
                f"{counted(len(away), 'row')} of the client list {'is' if len(away) == 1 else 'are'} offline, blocked "
                "or of another time: not counted as here"
            )
        if not refused:
            self._note(where, "clients", True, f"no refused device is on it ({count})")
        drops = not all(page.refuses for page in pages_of(self._site, self._network.ssid))
        why = "the router leaves it associated, and drops its traffic" if drops else _KEPT_BY_PAGES
        for mac in refused:
            medium = " by cable" if listed[mac].medium is Medium.CABLE else ""
            self._note(
                where, "clients", None if medium or drops else False, f"{self._called(mac)} is on it{medium}; {why}"
            )
        if reading.unread:
            self.verdict.notes.append(f"{counted(reading.unread, 'place')} of the client list could not be read")

    def by_scan(self) -> None:
        """Check which refused devices answer a scan."""
        where = "a scan"
        try:
            prepared = self._scan_of_the_site()
            answered = who_answers(self._site, prepared)
            self._require_site(prepared, answered)
        except ScopionError as error:
            self._note(where, "answers", None, f"cannot look: {error}")
            return
        where = f"a scan of {prepared.subnet}"
        present = {each.mac: each for each in answered if each.mac is not None}
        refused = [mac for mac in present if self._is_refused(mac, self._medium_of(mac))]
        if not refused:
            self._note(where, "answers", True, f"no refused device answers ({counted(len(present), 'device')} did)")
        for mac in refused:
            met, why = self._explained(mac, present)
            self._note(where, "answers", met, f"{self._called(mac)} answers: {why}")
        self._by_other_adapters(present)
        self._look_alikes(present)

    def _scan_of_the_site(self) -> PreparedScan:
        """Return a scan of the subnet that a scan takes by default, if it is the site's, else of one that is.

        Raises NoInterface if this machine is on none of them: elsewhere no refused device answers, either.
        """
        home = self._roster.home
        known = [each.range for each in subnets_of(self._site, self._roster) if each.place == home]
        attached = {
            subnet for each in self._site.attachment.interfaces() if each.can_resolve for subnet in each.subnets
        }
        here = [subnet for subnet in known if subnet in attached]
        if known and not here:
            raise NoInterface(f"no interface is on {joined([str(subnet) for subnet in known])}")
        usual = prepare_scan(self._site, ScanRequest(no_names=True))
        if not known or usual.subnet in here:
            return usual
        return prepare_scan(self._site, ScanRequest(targets=(str(here[0]),), no_names=True))

    def _require_site(self, prepared: PreparedScan, answered: Sequence[Observation]) -> None:
        """Raise NoInterface if this is another network that has the same addresses."""
        gateway = prepared.choice.interface.gateway
        gateway_mac = next((each.mac for each in answered if each.address == gateway and each.mac), None)
        familiar = len({each.mac for each in answered} & self._of_mac.keys() - {gateway_mac})
        named = [each.range for each in self._site.settings.here]
        known = known_subnets(self._roster)
        recognition = recognise(prepared.subnet, gateway_mac, known, familiar=familiar, named=named)
        if not recognition.is_site:
            raise NoInterface(f"this is not one of the site's networks, {recognition.reason}")

    def _by_other_adapters(self, present: Mapping[MacAddress, Observation]) -> None:
        """Note devices that are here by another adapter than the refused one."""
        if self._wanted.mode is not ListMode.DENY:
            return
        for device in self._devices:
            others = [mac for mac in device.macs if mac in present and mac not in self._wanted.macs]
            if others and not self._wanted.macs.isdisjoint(device.macs):
                cable = self._medium_of(others[0]) is Medium.CABLE
                how = "by cable, where a wireless list has no effect" if cable else "by an adapter that is not refused"
                self.verdict.notes.append(f"{device.called} is here {how} ({others[0]})")

    def _is_refused(self, mac: MacAddress, medium: Medium) -> bool:
        """Tell whether a list is meant to refuse an address: named on a deny list, or wireless and on no allow list."""
        if self._wanted.admits(mac):
            return False
        if self._wanted.mode is ListMode.DENY:
            return True
        device = self._of_mac.get(mac)
        own = device is not None and (device.own or device.gateway)
        return medium is Medium.WIRELESS and not own and self._on_this(mac)

    def _on_this(self, mac: MacAddress) -> bool:
        """Tell whether a device on the air may be on this network: not if it is known to be on another."""
        where = [each.ssid for each in self._stations if mac in (each.station.mac, *each.station.links)]
        return not where or self._network.ssid in where

    def _explained(self, mac: MacAddress, present: Mapping[MacAddress, Observation]) -> tuple[bool | None, str]:
        """Return why a refused device is here all the same, and whether that speaks against the list."""
        here = [each for each in self._stations if mac in (each.station.mac, *each.station.links)]
        for each in here:
            if each.ssid != self._network.ssid:
                return None, f"by another network, {each.ssid!r} ({at_band(each.access_point, each.radio)})"
        plans = {(plan.enforcer, plan.radio): plan for plan in self._plans}
        for each in here:
            where = f"{spoken_band(each.radio)} ({each.access_point})" if each.radio else each.access_point
            plan = plans.get((each.enforcer, each.radio))
            if plan is None or not plan.is_in_force:
                others = [key[1] for key, other in plans.items() if other.is_in_force and key[0] == each.enforcer]
                but = f", though not on {spoken_bands(others)} any more" if others else ""
                return False, (
                    f"it is associated on {where}, where the list is not in force yet{but}: scopion wifi push"
                    f"{f' --radio {each.radio}' if each.radio else ''}"
                )
            return (
                False,
                f"it is associated on {spoken_band(each.radio)} ({each.access_point}), though that holds the list",
            )
        if self._medium_of(mac) is Medium.CABLE:
            return None, "by cable, where a wireless list has no effect"
        if self._plans and all(plan.traits.reads_stations for plan in self._plans):
            return False, "it is associated with no access point that is read: by cable, or by another access point"
        if any(plan.traits.effect is Effect.DROPS and plan.is_in_force for plan in self._plans):
            return False, "its frames should be dropped: by cable, by another access point, or past the bridge"
        return False, "by cable, by a radio without the list, or by another access point"

    def _look_alikes(self, present: Mapping[MacAddress, Observation]) -> None:
        """Note refused devices that are gone and may be back under another address."""
        if self._wanted.mode is not ListMode.DENY:
            return
        for mac in sorted(self._wanted.macs - set(present)):
            device = self._of_mac.get(mac)
            proposal = likeliest(self._roster, self._devices, device) if device is not None else None
            other = next(
                (each for each in self._devices if proposal and device and each.id == proposal.other(device.id)), None
            )
            if proposal and other is not None and any(each in present for each in other.macs):
                why = joined(list(proposal.evidence))
                self.verdict.notes.append(
                    f"{self._called(mac)} is gone, but {other.called} ({other.macs[0]}) is here and {proposal.words} "
                    f"the same ({why}): a private address is another address"
                )

    def at_lifted(self) -> None:
        """Note devices that are admitted again since the last push; they need not be present."""
        done = [each for each in pushes(self._roster, self._network.ssid, 20) if each.state is PushState.DONE]
        if not done:
            return
        before = {mac for told in done[0].radios.values() for mac in read_held(told["before"]).deny}
        # What was read decides: a kept entry of others still refuses.
        kept = {
            mac
            for held in (plan.held for plan in self._plans)
            for mac in before
            if mac in held.deny or (held.mode is ListMode.ALLOW and mac not in held.allow)
        }
        for mac in sorted(mac for mac in before - kept if self._wanted.admits(mac)):
            self.verdict.notes.append(
                f"{self._called(mac)} is admitted again; it may have to be connected again by hand, for devices "
                "remember that they were refused"
            )

    def _medium_of(self, mac: MacAddress) -> Medium:
        device = self._of_mac.get(mac)
        found = next((each.medium for each in device.adapters if each.mac == mac), None) if device else None
        on_air = any(mac in (each.station.mac, *each.station.links) for each in self._stations)
        return Medium.WIRELESS if on_air else found or Medium.UNKNOWN

    def _called(self, mac: MacAddress) -> str:
        device = self._of_mac.get(mac)
        name = device.called if device is not None else ""
        return f"{name} ({mac})" if name and name != str(mac) else str(mac)

    def _note(self, where: str, what: str, met: bool | None, says: str) -> None:
        self.verdict.checks.append(Check(where, what, met, says))
