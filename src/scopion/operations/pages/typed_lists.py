"""What each radio was last made to hold: by a push, or by a person who said that a sheet was typed in.

A sheet that was handed over and never said to be done may have been typed in all the same: then a radio may hold one of
several lists.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.pushes import Push, PushState, pushes
from scopion.wireless.enforcers.enforcer import Held, read_held


def last_published(roster: Roster, ssid: str, enforcer: str) -> Mapping[str, Held]:
    """Return what each radio was last made to hold, by its band."""
    found: dict[str, Held] = {}
    for each in pushes(roster, ssid):
        if each.enforcer == enforcer and each.state is PushState.DONE:
            for radio, told in each.radios.items():
                found.setdefault(radio, read_held(told["target"]))
    return found


def waiting_sheet(roster: Roster, ssid: str, enforcer: str) -> Push | None:
    """Return the sheet that a person has and has not said to be typed in; None if there is none."""
    of_page = (each for each in pushes(roster, ssid) if each.enforcer == enforcer)
    return next((each for each in of_page if each.state is PushState.WAITING and each.radios), None)


def took_back(history: Iterable[Push], sheet: Push, policy: Mapping[str, Any] | None) -> bool:
    """Tell whether a sheet takes back just this policy, as a push keeps it: people have not changed their lists since,
    so the sheet is what they want. ``history`` are the pushes of its network, or all.
    """
    return any(each.reverted_by == sheet.id and each.policy == policy for each in history)


def basis_of(history: Iterable[Push], sheet: Push, radio: str) -> list[Push]:
    """Return the pushes that may have left a radio as it is when a page's sheet is made: the last that was said to be
    done, after the later sheets. Empty if nothing was ever said to be done there.

    ``history`` are the pushes of its network, the latest first.
    """
    found = []
    for each in history:
        if each.enforcer != sheet.enforcer or radio not in each.radios or each.id >= sheet.id:
            continue
        if each.state in (PushState.DONE, PushState.WAITING, PushState.SKIPPED):
            found.append(each)
        if each.state is PushState.DONE:
            return found
    return []
