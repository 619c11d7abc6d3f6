"""Gathers the wireless part of a site's status: each network's list at each of its enforcers, and what is due next."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.model.device import Device
from scopion.operations.pages.held_by import is_page, settings_of
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import networks
from scopion.operations.wifi.load_policy import policy_for
from scopion.operations.wifi.published_lists import published
from scopion.operations.wifi.remind_sheets import changes_in, due_since
from scopion.operations.wifi.revert_push import time_left
from scopion.reports.site_status import DueStatus, ListStatus
from scopion.roster.store.open_roster import Roster
from scopion.roster.watch_record import WatchRecord
from scopion.roster.wifi.lists import ListMode, Network
from scopion.roster.wifi.network_notes import Verification, latest_verifications
from scopion.roster.wifi.pushes import HAND, PushState, pushes
from scopion.wireless.enforcer_settings import EnforcerSettings
from scopion.wireless.list_policy import policy_document

_PROBLEMS = {
    PushState.RUNNING: "the last push has not ended",
    PushState.INTERRUPTED: "the last push was interrupted half-way",
    PushState.ROLLED_BACK: "the last push failed, and nothing was changed",
    PushState.DIVIDED: "the last push failed, and only some radios have the list",
}


@dataclass(frozen=True, slots=True)
class _Known:
    """What is known of a network's list beside its enforcer."""

    network: Network
    pending_policy: Mapping[str, object]
    look: Verification | None


class Lists:
    """The lists of the site's networks, each at each of its enforcers; the pushes are read once."""

    def __init__(self, site: Site, roster: Roster, devices: Sequence[Device], watch: WatchRecord | None) -> None:
        self._site, self._roster, self._devices = site, roster, devices
        self._readings = watch.enforcers if watch is not None else {}
        self._history = pushes(roster)
        self._published = published(roster, site, self._history)

    def lists(self) -> list[ListStatus]:
        """Return each network's list, at each of its enforcers, in the order of names."""
        looked = latest_verifications(self._roster)
        found = []
        for known in networks(self._site):
            policy = policy_document(policy_for(self._roster, known.network, self._devices))
            about = _Known(known.network, policy, looked.get(known.ssid))
            found += [self._list(each, about) for each in settings_of(self._site, known.ssid)]
        return found

    def _list(self, settings: EnforcerSettings, about: _Known) -> ListStatus:
        site, ssid, by_hand = self._site, about.network.ssid, is_page(settings)
        mine = [each for each in self._history if (each.ssid, each.enforcer) == (ssid, settings.name)]
        latest = next((each for each in mine if each.state is not PushState.SKIPPED), None)
        done = next((each for each in mine if each.state is PushState.DONE), None)
        sheets = [
            each
            for each in self._published
            if each.page is not None and (each.push.ssid, each.settings.name) == (ssid, settings.name)
        ]
        waiting = next((each.push for each in sheets if each.push.state is PushState.WAITING), None)
        listed = about.network.mode is not ListMode.OFF or done is not None
        reading = self._readings.get(settings.name) if not by_hand else None
        look = about.look
        return ListStatus(
            ssid=ssid,
            enforcer="" if settings.name == HAND else settings.name,
            by_hand=by_hand,
            mode=str(about.network.mode),
            pushed_at=(done.ended or done.at) if done is not None else None,
            push_problem=_PROBLEMS.get(latest.state, "") if latest is not None else "",
            pending=listed and waiting is None and (done is None or done.policy != about.pending_policy),
            to_type=changes_in(waiting) if waiting is not None else "",
            due_since=min(filter(None, (due_since(site, self._roster, each) for each in sheets)), default=None),
            read_at=reading.at if reading is not None else None,
            read_problem=reading.problem if reading is not None else "",
            verified_at=look.at if look is not None else None,
            works=look.met if look is not None else None,
            unmet=look.unmet if look is not None else (),
        )

    def due(self) -> list[DueStatus]:
        """Return what happens next by itself, the first of each network and each push that is taken back."""
        site, now = self._site, self._site.clock.now()
        coming: dict[str, datetime] = {}
        for each in self._published:
            change = each.changes_after(now, site.clock.local)
            if change is not None:
                coming[each.push.ssid] = min(change, coming.get(each.push.ssid, change))
        found = [DueStatus(at, ssid, "hours or an end change the list") for ssid, at in coming.items()]
        for push in self._history:
            if push.revert_at is not None:
                at = now + max(time_left(site, self._roster, push), timedelta())
                found.append(
                    DueStatus(at, push.ssid, f"push {push.id} is taken back, unless you run scopion wifi keep")
                )
        return sorted(found, key=lambda each: (each.at, each.ssid))
