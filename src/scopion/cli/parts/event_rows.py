"""Events as rows: the JSON keys, and the columns of the table."""

from __future__ import annotations

from typing import Any

from scopion.cli.parts.output import on_clock, row_of
from scopion.cli.parts.table import Column, Row
from scopion.model.clock import Clock
from scopion.model.device import Event

_KEYS = (
    "kind", "at", "device", "mac", "address", "was_address", "away_since", "other_mac", "name", "was_name", "place",
)  # fmt: skip
_STYLES = {
    "joined": "yellow", "contested": "red", "gateway-changed": "bold red", "unwanted-present": "bold red",
    "unlisted-present": "red", "network-down": "bold red", "guest-overstayed": "yellow", "left": "dim",
    "refused-attempt": "yellow",
    "returned": "dim",
}  # fmt: skip


def event_row(event: Event) -> dict[str, Any]:
    """Return an event under its JSON keys."""
    return row_of(event, _KEYS, device=event.device_id)


def event_columns(clock: Clock, *, date: bool = True) -> list[Column]:
    """Return the columns: when, what kind, and the sentence."""
    form = "%a %Y-%m-%d %H:%M" if date else "%H:%M"

    def when(row: Row) -> str:
        return on_clock(clock, row["at"], form)

    return [
        Column("when", when, lambda _: "dim"),
        Column("event", lambda row: row["kind"], kind_style),
        Column("what", lambda row: row["sentence"], lambda row: "dim" if kind_style(row) == "dim" else "", wraps=True),
    ]


def kind_style(row: Row) -> str:
    """Return the colour of a kind of event."""
    return _STYLES.get(row["kind"], "")
