"""What only people can tell about a wireless network, kept with the day on which they said it."""

from __future__ import annotations

from datetime import datetime

from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, to_ms


def answers(roster: Roster, ssid: str) -> dict[str, tuple[str, datetime]]:
    """Return what was said of a network, by question, with the time."""
    with roster.guarded():
        rows = roster.db.execute("SELECT question, answer, at FROM posture WHERE ssid = ?", (ssid,))
        return {row["question"]: (row["answer"], from_ms(row["at"])) for row in rows}


def note_answer(roster: Roster, ssid: str, question: str, answer: str, at: datetime) -> None:
    """Keep an answer; it replaces an earlier one."""
    with roster.transaction() as db:
        db.execute("INSERT OR REPLACE INTO posture VALUES (?, ?, ?, ?)", (ssid, question, answer, to_ms(at)))
