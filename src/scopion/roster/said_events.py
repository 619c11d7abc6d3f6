"""Up to which event all were said at the broker.

The number of an event that goes with a forgotten device is given again. So the latest that were said are kept with
their moments: what follows the last of them that is still there was not said.
"""

from __future__ import annotations

import json
from collections.abc import Sequence

from scopion.model.device import Event
from scopion.roster.read_events import events_after
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written, to_ms

_KEY = "said_at_broker"  # meta
_KEPT = 64  # a device that is forgotten has hardly more events in a row


def events_to_say(roster: Roster, most: int) -> list[Event]:
    """Return the next events that were not said, in the order in which they were recorded.

    The first time that is none: what was before is no news. Raises StorageFailed.
    """
    with roster.guarded(), as_written("what was said at the broker"):
        kept = roster.meta(_KEY)
        if kept is None:
            rows = roster.db.execute("SELECT id, at FROM event ORDER BY id DESC LIMIT ?", (_KEPT,)).fetchall()
            _keep(roster, [(row["id"], row["at"]) for row in reversed(rows)])
            return []
        said = [(int(number), int(at)) for number, at in json.loads(kept)]
        there = "SELECT 1 FROM event WHERE id = ? AND at = ?"
        for number, at in reversed(said):
            if roster.db.execute(there, (number, at)).fetchone() is not None:
                return events_after(roster, number, most)
    return events_after(roster, said[0][0] - 1 if said else 0, most)


def note_said(roster: Roster, events: Sequence[Event]) -> None:
    """Note that the broker has these, too. Raises StorageFailed."""
    said = [(number, at) for number, at in json.loads(roster.meta(_KEY) or "[]")]
    _keep(roster, [*said, *((event.id, to_ms(event.at)) for event in events if event.id is not None)])


def _keep(roster: Roster, said: Sequence[tuple[int, int]]) -> None:
    with roster.transaction():
        roster.set_meta(_KEY, json.dumps(list(said)[-_KEPT:]))
