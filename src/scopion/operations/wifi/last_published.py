"""What was last put on each radio, as the roster has recorded it: by a push, or by a person with the sheet."""

from __future__ import annotations

from collections.abc import Mapping

from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.pushes import PushState, pushes
from scopion.wireless.enforcers.enforcer import Held, read_held


def recorded(roster: Roster, ssid: str, enforcer: str) -> Mapping[str, Held]:
    """What each radio of an enforcer was last made to hold for a network, by radio; empty if nothing ever was."""
    found: dict[str, Held] = {}
    for each in pushes(roster, ssid):
        if each.enforcer == enforcer and each.state is PushState.DONE:
            for radio, told in each.radios.items():
                found.setdefault(radio, read_held(told["target"]))
    return found
