"""What pushes, and people with sheets, have left in force, and whether the clock asks for another list by now."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from scopion.model.week import Local
from scopion.operations.pages.held_by import is_page, settings_of
from scopion.operations.pages.typed_lists import took_back
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_networks import known_network
from scopion.operations.wifi.load_policy import policy_for
from scopion.operations.wifi.open_enforcers import open_enforcer
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.pushes import Push, PushState, pushes
from scopion.wireless.enforcer_settings import EnforcerSettings, PageSettings
from scopion.wireless.enforcers.enforcer import Held, read_held
from scopion.wireless.enforcers.page import traits_of
from scopion.wireless.list_policy import ListPolicy, WantedList, next_change, policy_document, read_policy, wanted
from scopion.wireless.order_steps import target_of
from scopion.wireless.plan_radio import as_carried_out


@dataclass(frozen=True, slots=True)
class Published:
    """What was published last to some radios of an enforcer."""

    push: Push
    radios: tuple[str, ...]
    policy: ListPolicy  # as the enforcer carries it out
    settings: EnforcerSettings
    current: ListPolicy | None = None  # of a page: what people want by now, as the page carries it out
    keeps_hours: bool = False  # it carries them out by itself

    @property
    def page(self) -> PageSettings | None:
        """Return the page, if a person types it in."""
        return self.settings if is_page(self.settings) else None

    def wanted(self, at: datetime, local: Local) -> WantedList:
        """Return what it should hold at a moment: what was published; of a page, what people want by now.

        No person types a list that was changed meanwhile; an enforcer is pushed what was published.
        """
        return wanted(self.current or self.policy, at, local)

    def changes_after(self, moment: datetime, local: Local) -> datetime | None:
        """Return when time changes the list next, as it was published or as people want it; None if never."""
        policies = [each for each in (self.policy, self.current) if each is not None and each.changes_by_itself]
        return min(filter(None, (next_change(each, moment, local) for each in policies)), default=None)


def published(roster: Roster, site: Site, history: Sequence[Push] | None = None) -> list[Published]:
    """Return what the pushes so far have left in force, by enforcer; only of those that hold the network still.

    A sheet that waits for its person counts, too: it may have been typed in. ``history``: the pushes, if they are read
    already.
    """
    taken: set[tuple[str, str, str]] = set()
    found = []
    holding: dict[str, list[EnforcerSettings]] = {}
    current: dict[str, ListPolicy] = {}
    history = pushes(roster) if history is None else history
    for each in history:
        if each.state not in (PushState.DONE, PushState.WAITING):
            continue
        if each.ssid not in holding:
            holding[each.ssid] = settings_of(site, each.ssid)
        settings = next((one for one in holding[each.ssid] if one.name == each.enforcer), None)
        if settings is None:
            continue
        radios = tuple(radio for radio in each.radios if (each.ssid, each.enforcer, radio) not in taken)
        taken |= {(each.ssid, each.enforcer, radio) for radio in radios}
        if not radios or each.policy is None:
            continue
        policy = read_policy(each.policy)
        if not is_page(settings):
            keeps_hours = open_enforcer(site, settings).traits.keeps_hours
            found.append(Published(each, radios, policy, settings, keeps_hours=keeps_hours))
            continue
        if each.ssid not in current:
            current[each.ssid] = policy_for(roster, known_network(site, roster, each.ssid))
        traits, now = traits_of(settings), current[each.ssid]
        if took_back(history, each, policy_document(now)):
            now = policy
        found.append(Published(each, radios, as_carried_out(policy, traits), settings, as_carried_out(now, traits)))
    return found


def is_out_of_date(site: Site, each: Published) -> bool:
    """Tell whether time asks for another list by now than was published. What people changed since does not, alone."""
    now, local = site.clock.now(), site.clock.local
    if each.keeps_hours:
        return False
    if each.page is not None:
        changed = each.changes_after(each.push.at, local)
        if changed is None or changed > now:
            return False
    ours = target_of(each.wanted(now, local), Held())
    return any(not _same(read_held(each.push.radios[radio]["ours"]), ours) for radio in each.radios)


def next_out_of_date(site: Site, each: Published) -> datetime | None:
    """Return when time asks for another list than was published: now if it does already; None: never."""
    now = site.clock.now()
    if each.keeps_hours:
        return None
    return now if is_out_of_date(site, each) else each.changes_after(now, site.clock.local)


def _same(held: Held, ours: Held) -> bool:
    return (held.allow, held.deny, held.mode) == (ours.allow, ours.deny, ours.mode)
