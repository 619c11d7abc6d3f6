"""Words the weekly report as a message: the summary, what needs attention, and the page beside it. Pure."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from scopion.alerts.message import Action, Message
from scopion.model.alert import Severity

_ITEMS = 12  # the page has the rest


def weekly_message(
    identity: str,
    site: str,
    at: datetime,
    period: str,
    summary: Sequence[str],
    concerns: Sequence[tuple[str, str]],
    page: str,
    program: str,
) -> Message:
    """Return the message; ``concerns`` are sentences, each with the command that goes on from there."""
    count = len(concerns)
    look = "nothing needs attention" if not count else f"{count} thing{'s' if count > 1 else ''} to look at"
    left = count - _ITEMS
    items = [f"{says} ({command})" if command else says for says, command in concerns[:_ITEMS]]
    return Message(
        identity=identity,
        site=site,
        subject=f"{site}, {period}: {look}",
        severity=Severity.LOW,
        at=at,
        paragraphs=tuple(summary),
        items=(*items, *([f"and {left} more, on the page"] if left > 0 else [])),
        actions=(Action(f"{program} report --html report.html", "the same page, made now"),),
        thread="weekly-report",
        page=page,
    )
