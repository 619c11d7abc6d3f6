"""A message as it goes to a channel: worded once, kept with its alert, and the same for every try."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from scopion.model.alert import Severity
from scopion.model.text import plain, plain_value


@dataclass(frozen=True, slots=True)
class Action:
    """A command that a person may run next, and its purpose."""

    command: str
    purpose: str


@dataclass(frozen=True, slots=True)
class Message:
    """Sentences, facts and commands, each a clean text in one line; every channel escapes for itself.

    Characters that could control a terminal, a log or a header are replaced here, whatever the roster holds.
    """

    identity: str  # the alert's: a receiver recognises a repetition by it
    site: str
    subject: str  # also the text of a phone's notification
    severity: Severity
    at: datetime  # when it happened; the last of several
    paragraphs: tuple[str, ...]
    facts: tuple[tuple[str, str], ...] = ()
    items: tuple[str, ...] = ()  # one line for each event, if several are told together
    actions: tuple[Action, ...] = ()
    thread: str = ""  # messages about the same device belong together
    events: tuple[Mapping[str, Any], ...] = ()  # in the form event/1
    more: int = 0  # events that are counted, not listed
    test: bool = False
    page: str = ""  # a page of HTML that goes with it, in the site's folder
    reached: tuple[str, ...] = ()  # recipients that have it already; the channel leaves them out

    def __post_init__(self) -> None:
        for name in ("identity", "site", "subject", "paragraphs", "facts", "items", "thread", "events", "page"):
            object.__setattr__(self, name, plain_value(getattr(self, name)))
        clean = tuple(Action(plain(each.command), plain(each.purpose)) for each in self.actions)
        object.__setattr__(self, "actions", clean)

    @property
    def text(self) -> str:
        """Return all of it as plain text, in lines of any length."""
        parts = ["\n\n".join(self.paragraphs)]
        if self.items:
            parts.append("\n".join(f"- {item}" for item in self.items))
        if self.facts:
            width = max(len(name) for name, _ in self.facts)
            parts.append("\n".join(f"{name:<{width}}  {value}" for name, value in self.facts))
        if self.actions:
            lines = [f"  {action.command}\n      {action.purpose}" for action in self.actions]
            parts.append("What to do next:\n" + "\n".join(lines))
        return "\n\n".join(part for part in parts if part)

    def document(self) -> dict[str, Any]:
        """Return all of it under stable keys, for webhooks, commands and files: the form ``alert/1``."""
        return {
            "form": "alert/1",
            "id": self.identity,
            "site": self.site,
            "subject": self.subject,
            "severity": str(self.severity),
            "at": self.at.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z"),
            "text": self.text,
            "facts": dict(self.facts),
            "actions": [{"command": each.command, "purpose": each.purpose} for each in self.actions],
            "thread": self.thread,
            "events": list(self.events),
            "more_events": self.more,
            "test": self.test,
            **({"page": self.page} if self.page else {}),
        }


def message_to_json(message: Message) -> str:
    """Return a message as its alert keeps it."""
    kept = {
        **message.document(),
        "paragraphs": message.paragraphs,
        "items": message.items,
        "facts": message.facts,
        "reached": message.reached,
    }
    return json.dumps(kept, ensure_ascii=False)


def message_from_json(text: str) -> Message:
    """Return the message that was kept. Raises ValueError, KeyError or TypeError if it is none of ours."""
    kept = json.loads(text)
    return Message(
        identity=kept["id"],
        site=kept["site"],
        subject=kept["subject"],
        severity=Severity(kept["severity"]),
        at=datetime.fromisoformat(kept["at"]),
        paragraphs=tuple(kept["paragraphs"]),
        facts=tuple((name, value) for name, value in kept["facts"]),
        items=tuple(kept["items"]),
        actions=tuple(Action(each["command"], each["purpose"]) for each in kept["actions"]),
        thread=kept["thread"],
        events=tuple(kept["events"]),
        more=kept["more_events"],
        test=kept["test"],
        page=_within(kept.get("page", "")),  # messages of earlier versions had none
        reached=tuple(kept.get("reached", ())),
    )


def _within(page: str) -> str:
    """Return the name of a page in the site's folder; a path that leads out of it could send any file by mail."""
    if page.startswith("/") or ".." in page.split("/"):
        raise ValueError(f"{page!r} is no page of the site")
    return page
