"""How much time is left until a push is taken back, even if the clock is set meanwhile.

The time of day can be set; the time since the machine was started cannot. So a deadline is kept by both: as long as the
machine runs on, only the second counts. After a restart the time of day counts, up to the whole span.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime

from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.pushes import Push

_KEY = "boot_deadlines"  # meta: by the number of a push, the start of the machine and the second after it


@dataclass(frozen=True, slots=True)
class Boot:
    """An identity of this start of the machine, and the seconds since it, suspended ones included."""

    identity: str
    seconds: float


def note_deadline(roster: Roster, number: int, boot: Boot | None, left_s: float) -> None:
    """Keep when a push is to be taken back, by the machine's own time; with the push, in one transaction."""
    if boot is None:
        return
    with roster.transaction() as db:
        waiting = {str(row[0]) for row in db.execute("SELECT id FROM push WHERE revert_at IS NOT NULL")}
        kept = {each: said for each, said in _kept(roster).items() if each in waiting}
        kept[str(number)] = (boot.identity, boot.seconds + left_s)
        roster.set_meta(_KEY, json.dumps(kept))


def left_s(roster: Roster, push: Push, now: datetime, boot: Boot | None) -> float:
    """Return the seconds until a push is to be taken back; zero or less: it is due."""
    assert push.revert_at is not None
    by_the_wall = (push.revert_at - now).total_seconds()
    said = _kept(roster).get(str(push.id))
    if boot is None or said is None:
        return by_the_wall
    if said[0] == boot.identity:
        return said[1] - boot.seconds
    return min(by_the_wall, (push.revert_at - push.at).total_seconds() - boot.seconds)


def _kept(roster: Roster) -> dict[str, tuple[str, float]]:
    try:
        read = json.loads(roster.meta(_KEY) or "{}")
        return {str(each): (str(identity), float(at)) for each, (identity, at) in read.items()}
    except (ValueError, TypeError, AttributeError):  # damaged: the time of day decides
        return {}
