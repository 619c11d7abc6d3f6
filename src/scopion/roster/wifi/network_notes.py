"""What is kept of a wireless network beside its lists: what verifications found, and what only people can tell."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written, from_ms, to_ms

_KEPT = 50  # of each network: once a week for a year


@dataclass(frozen=True, slots=True)
class Verification:
    """One verification of a network's list."""

    ssid: str
    at: datetime
    met: bool | None  # None: nothing of it could be read
    unmet: tuple[str, ...]  # what contradicted the list


def note_verification(roster: Roster, ssid: str, at: datetime, met: bool | None, unmet: Sequence[str]) -> None:
    """Keep the result of a verification."""
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO verification (ssid, at, met, unmet) VALUES (?, ?, ?, ?)",
            (ssid, to_ms(at), met, json.dumps(list(unmet), ensure_ascii=False)),
        )
        db.execute(
            "DELETE FROM verification WHERE ssid = ?1 AND id NOT IN "
            "(SELECT id FROM verification WHERE ssid = ?1 ORDER BY id DESC LIMIT ?2)",
            (ssid, _KEPT),
        )


def latest_verifications(roster: Roster) -> dict[str, Verification]:
    """Return the latest verification of each network, by SSID."""
    with roster.guarded(), as_written("a verification"):
        rows = roster.db.execute(
            "SELECT * FROM verification WHERE id IN (SELECT max(id) FROM verification GROUP BY ssid)"
        )
        return {
            row["ssid"]: Verification(
                row["ssid"],
                from_ms(row["at"]),
                None if row["met"] is None else bool(row["met"]),
                tuple(json.loads(row["unmet"])),
            )
            for row in rows
        }


def answers(roster: Roster, ssid: str) -> dict[str, tuple[str, datetime]]:
    """Return what was said of a network, by question, with the time."""
    with roster.guarded():
        rows = roster.db.execute("SELECT question, answer, at FROM posture WHERE ssid = ?", (ssid,))
        return {row["question"]: (row["answer"], from_ms(row["at"])) for row in rows}


def note_answer(roster: Roster, ssid: str, question: str, answer: str, at: datetime) -> None:
    """Keep an answer; it replaces an earlier one."""
    with roster.transaction() as db:
        db.execute("INSERT OR REPLACE INTO posture VALUES (?, ?, ?, ?)", (ssid, question, answer, to_ms(at)))
