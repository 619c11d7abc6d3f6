"""What pushes, and people with sheets, have left in force, and whether the clock asks for another list by now."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from scopion.operations.pages.held_by import settings_of
from scopion.operations.site.open_site import Site
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.pushes import Push, PushState, pushes
from scopion.wireless.enforcer_settings import EnforcerSettings, PageSettings
from scopion.wireless.enforcers.enforcer import Held, read_held
from scopion.wireless.enforcers.page import traits_of
from scopion.wireless.list_policy import ListPolicy, next_change, read_policy, wanted
from scopion.wireless.order_steps import target_of
from scopion.wireless.plan_radio import as_carried_out


@dataclass(frozen=True, slots=True)
class Published:
    """What was published last to some radios of an enforcer."""

    push: Push
    radios: tuple[str, ...]
    policy: ListPolicy  # as the enforcer carries it out
    settings: EnforcerSettings

    @property
    def page(self) -> PageSettings | None:
        """Return the page, if a person types it in."""
        return self.settings if isinstance(self.settings, PageSettings) else None


def published(roster: Roster, site: Site) -> list[Published]:
    """Return what the pushes so far have left in force, by enforcer; only of those that hold the network still.

    A sheet that waits for its person counts, too: it may have been typed in.
    """
    taken: set[tuple[str, str, str]] = set()
    found = []
    for each in pushes(roster):
        if each.state not in (PushState.DONE, PushState.WAITING):
            continue
        settings = next((one for one in settings_of(site, each.ssid) if one.name == each.enforcer), None)
        if settings is None:
            continue
        radios = tuple(radio for radio in each.radios if (each.ssid, each.enforcer, radio) not in taken)
        taken |= {(each.ssid, each.enforcer, radio) for radio in radios}
        if radios and each.policy is not None:
            policy = read_policy(each.policy)
            if isinstance(settings, PageSettings):
                policy = as_carried_out(policy, traits_of(settings))
            found.append(Published(each, radios, policy, settings))
    return found


def is_out_of_date(site: Site, each: Published) -> bool:
    """Tell whether another list is wanted by now than was published."""
    now = wanted(each.policy, site.clock.now(), site.clock.local)
    ours = target_of(now, Held())
    return any(not _same(read_held(each.push.radios[radio]["ours"]), ours) for radio in each.radios)


def next_out_of_date(site: Site, each: Published) -> datetime | None:
    """Return when another list is wanted than was published: now if it is so already; None: never by itself."""
    now = site.clock.now()
    if is_out_of_date(site, each):
        return now
    return next_change(each.policy, now, site.clock.local) if each.policy.changes_by_itself else None


def _same(held: Held, ours: Held) -> bool:
    return (held.allow, held.deny, held.mode) == (ours.allow, ours.deny, ours.mode)
