"""The record of pushes: what was sent to which enforcer, what it held before and after, and by when it is taken back.

Lists are kept as documents, because their words are those of ``wireless``. ``scopion undo`` does not take a push back:
what an access point holds is changed by another push.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from sqlite3 import Row
from typing import Any

from scopion.model.errors import NotFound
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written, from_ms, stored_mac, to_ms

HAND = "by hand"  # the enforcer's name if a person types into a router's web page
# This many of the latest pushes to each network are kept: with a timetable more than a month.
_KEPT = 200


class PushState(StrEnum):
    """The state of a push."""

    RUNNING = "running"  # or its process has ended: see ``interrupted``
    WAITING = "waiting"  # a person has the sheet, and has not said that it was typed in
    SKIPPED = "skipped"  # a person had the sheet, and another came after it
    INTERRUPTED = "interrupted"  # its process ended half-way; another push goes on from there
    DONE = "done"
    ROLLED_BACK = "rolled-back"  # it failed, and everything is as it was before
    DIVIDED = "divided"  # it failed, and could not be rolled back everywhere


@dataclass(frozen=True, slots=True)
class Push:
    """One push of lists to one enforcer."""

    id: int
    ssid: str
    enforcer: str
    at: datetime
    ended: datetime | None
    who: str
    because: str  # the reason, if no person asked for it
    state: PushState
    problem: str
    radios: Mapping[str, Mapping[str, Any]]  # by band: before, target, ours, after
    policy: Mapping[str, Any] | None  # what was published; None: it went back to before all pushes
    revert_at: datetime | None  # it is taken back then, unless a person keeps it
    reverted_by: int | None


@dataclass(frozen=True, slots=True)
class NewPush:
    """A push that begins; its fields are those of ``Push``."""

    ssid: str
    enforcer: str
    at: datetime
    who: str
    because: str
    radios: Mapping[str, Mapping[str, Any]]
    policy: Mapping[str, Any] | None
    revert_at: datetime | None = None


def begin_push(roster: Roster, push: NewPush) -> int:
    """Record a push before anything is sent. Returns its number."""
    ssid, enforcer = push.ssid, push.enforcer
    with roster.transaction() as db:
        number = db.execute(
            "INSERT INTO push (ssid, enforcer, at, who, because, radios, policy, revert_at) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            (
                ssid,
                enforcer,
                to_ms(push.at),
                push.who,
                push.because,
                json.dumps(push.radios),
                json.dumps(push.policy),
                to_ms(push.revert_at) if push.revert_at else None,
            ),
        ).lastrowid
        db.execute(
            "DELETE FROM push WHERE ssid = ?1 AND enforcer = ?2 AND revert_at IS NULL AND id NOT IN "
            "(SELECT id FROM push WHERE ssid = ?1 AND enforcer = ?2 ORDER BY id DESC LIMIT ?3)",
            (ssid, enforcer, _KEPT),
        )
    assert number is not None
    return number


def note_radios(roster: Roster, number: int, radios: Mapping[str, Mapping[str, Any]]) -> None:
    """Note how far a push has come."""
    with roster.transaction() as db:
        db.execute("UPDATE push SET radios = ? WHERE id = ?", (json.dumps(radios), number))


def end_push(roster: Roster, number: int, state: PushState, at: datetime, problem: str = "") -> None:
    """Note how a push ended; one that changed nothing has nothing to be taken back."""
    with roster.transaction() as db:
        db.execute(
            "UPDATE push SET state = ?, ended = ?, problem = ?, "
            "revert_at = CASE WHEN ? THEN NULL ELSE revert_at END WHERE id = ?",
            (state, to_ms(at), problem, state is PushState.ROLLED_BACK, number),
        )


def await_person(roster: Roster, number: int) -> None:
    """Note that a push is a sheet which a person has to type in; it takes the place of earlier ones."""
    with roster.transaction() as db:
        db.execute(
            "UPDATE push SET state = ?1 "
            "WHERE state = ?2 AND (ssid, enforcer) = (SELECT ssid, enforcer FROM push WHERE id = ?3) AND id < ?3",
            (PushState.SKIPPED, PushState.WAITING, number),
        )
        db.execute("UPDATE push SET state = ? WHERE id = ?", (PushState.WAITING, number))


def pushes(roster: Roster, ssid: str | None = None, limit: int = 1000) -> list[Push]:
    """Return the latest pushes, the latest first."""
    with roster.guarded():
        rows = roster.db.execute(
            "SELECT * FROM push WHERE ?1 IS NULL OR ssid = ?1 ORDER BY id DESC LIMIT ?2", (ssid, limit)
        )
        return [_push(row) for row in rows]


def lists_mark(roster: Roster) -> tuple[object, ...]:
    """Return a value that changes when anything is pushed, kept or taken back, or when people change anything: cheaper
    than reading the pushes and the lists.
    """
    with roster.guarded():
        row = roster.db.execute(
            "SELECT count(*), max(id), max(ended), total(revert_at), count(revert_at), total(reverted_by), "
            "total(state = 'running'), (SELECT max(id) FROM change) FROM push"
        ).fetchone()
        return tuple(row)


def push_of(roster: Roster, number: int) -> Push:
    """Return one push. Raises NotFound."""
    with roster.guarded():
        row = roster.db.execute("SELECT * FROM push WHERE id = ?", (number,)).fetchone()
    if row is None:
        raise NotFound(f"there is no push {number}: scopion wifi revert SSID --list shows them")
    return _push(row)


def with_deadline(roster: Roster) -> list[Push]:
    """Return the pushes that are taken back unless a person keeps them, the first due first."""
    with roster.guarded():
        rows = roster.db.execute("SELECT * FROM push WHERE revert_at IS NOT NULL ORDER BY revert_at, id DESC")
        return [_push(row) for row in rows]


def keep_push(roster: Roster, number: int) -> None:
    """Keep a push: it is not taken back any more."""
    with roster.transaction() as db:
        db.execute("UPDATE push SET revert_at = NULL WHERE id = ?", (number,))


def note_reverted(roster: Roster, number: int, by: int) -> None:
    """Note that it was taken back by another push."""
    with roster.transaction() as db:
        db.execute("UPDATE push SET revert_at = NULL, reverted_by = ? WHERE id = ?", (by, number))


def _radios(read: dict[str, Any]) -> dict[str, Any]:
    """Return what was kept of each radio, whole: lists of addresses under these names."""
    for told in read.values():
        for held in (told["before"], told["target"], told["ours"], told["after"]):
            if held is None and held is not told["target"]:
                continue
            for mac in (*held["allow"], *held["deny"]):
                stored_mac(mac)
    return read


@as_written("a push")
def _push(row: Row) -> Push:
    return Push(
        id=row["id"],
        ssid=row["ssid"],
        enforcer=row["enforcer"],
        at=from_ms(row["at"]),
        ended=from_ms(row["ended"]) if row["ended"] is not None else None,
        who=row["who"],
        because=row["because"],
        state=PushState(row["state"]),
        problem=row["problem"],
        radios=_radios(json.loads(row["radios"])),
        policy=json.loads(row["policy"]),
        revert_at=from_ms(row["revert_at"]) if row["revert_at"] is not None else None,
        reverted_by=row["reverted_by"],
    )
