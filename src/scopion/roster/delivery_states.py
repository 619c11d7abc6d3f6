"""How each channel does: what was sent or given up last, and what waits in the outbox."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written, from_ms, to_ms


@dataclass(frozen=True, slots=True)
class DeliveryState:
    """The alerts of one channel, as far as they are remembered."""

    sent_at: datetime | None = None  # the last that was delivered
    failed_at: datetime | None = None  # the last that was given up
    waiting: int = 0  # due, and not delivered
    waiting_since: datetime | None = None
    gathering: int = 0  # not due yet: gathered, or held in the night
    next_at: datetime | None = None  # when the first of those is due
    problem: str = ""  # why the last attempt failed, if nothing was delivered since
    attempts: int = 0  # of what waits, at most


def delivery_states(roster: Roster, now: datetime) -> dict[str, DeliveryState]:
    """Return the state of each channel that has had an alert, by its name."""
    at = to_ms(now)
    with roster.guarded(), as_written("an alert"):
        rows = list(
            roster.rows(
                "SELECT channel, max(CASE WHEN state = 'sent' THEN ended END),"
                " max(CASE WHEN state = 'failed' THEN ended END),"
                f" count(CASE WHEN state = 'waiting' AND due <= {at} THEN 1 END),"
                f" min(CASE WHEN state = 'waiting' AND due <= {at} THEN due END),"
                f" count(CASE WHEN state = 'waiting' AND due > {at} THEN 1 END),"
                f" min(CASE WHEN state = 'waiting' AND due > {at} THEN due END),"
                " max(CASE WHEN state = 'waiting' THEN attempts ELSE 0 END) FROM alert GROUP BY channel"
            )
        )
        problems = dict(
            roster.rows(
                "SELECT channel, problem FROM alert WHERE id IN "
                "(SELECT max(id) FROM alert WHERE problem <> '' AND state <> 'sent' GROUP BY channel)"
            )
        )
    found = {}
    for channel, sent, failed, waiting, since, gathering, following, attempts in rows:
        sent_at, failed_at = _moment(sent), _moment(failed)
        over = not waiting and sent_at is not None and (failed_at is None or sent_at > failed_at)
        problem = "" if over else str(problems.get(channel, ""))
        found[str(channel)] = DeliveryState(
            sent_at, failed_at, waiting, _moment(since), gathering, _moment(following), problem, attempts
        )
    return found


def _moment(value: int | None) -> datetime | None:
    return from_ms(value) if value is not None else None
