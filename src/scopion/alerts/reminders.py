"""Decides which reminders are due, and words them: what a person should do once a year and no event asks for. Pure."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from typing import Annotated

from annotated_types import Ge, Le, MaxLen

from scopion.alerts.alert_settings import Name
from scopion.alerts.message import Action, Message
from scopion.model.alert import Severity
from scopion.model.clock import spoken_span
from scopion.model.settings_table import settings_table

Days = Annotated[int, Ge(0), Le(36_500)]


@settings_table
class RemindSettings:
    """After how many days ``scopion watch`` reminds of what no event asks for; 0: never. Each is told once."""

    passphrase_days: Days = 365  # since it was changed, as scopion wifi audit --passphrase-changed says
    list_days: Days = 365  # since people changed anything of devices or lists
    vendors_days: Days = 365  # since the listing of vendors was made
    channels: Annotated[tuple[Name, ...], MaxLen(64)] = ()  # empty: all of them


@dataclass(frozen=True, slots=True)
class Dates:
    """When each was done last; None, or left out: not known, so that nothing is due."""

    today: date
    passphrases: Mapping[str, date] = field(default_factory=dict)  # by SSID
    changed: date | None = None
    listing: date | None = None


@dataclass(frozen=True, slots=True)
class Reminder:
    """One thing to do, and the key by which it is told once."""

    key: str
    subject: str
    says: str
    command: str
    purpose: str


def reminders_due(dates: Dates, settings: RemindSettings) -> Iterator[Reminder]:
    """Yield what is due. The key has the date from which it counts, so that it is told again after the next time."""

    def over(since: date | None, days: int) -> str:
        age = (dates.today - since).days if since is not None else 0
        return spoken_span(timedelta(days=age)) if days and age >= days else ""

    for ssid, since in sorted(dates.passphrases.items()):
        if age := over(since, settings.passphrase_days):
            yield Reminder(
                f"passphrase {ssid} {since}",
                f"The passphrase of {ssid} is {age} old",
                f"The passphrase of the wireless network {ssid!r} was changed last on {since}, {age} ago. Everyone who "
                "ever got it still has it: visitors, former members of the household or staff, and their devices.",
                f"wifi passphrase {shlex.quote(ssid)}",
                "another one, and the devices that will need it",
            )
    if age := over(dates.changed, settings.list_days):
        yield Reminder(
            f"list {dates.changed}",
            "Look through your devices and lists",
            f"No person has changed anything of your devices and lists for {age}. Is each device still yours, and is "
            "what may use the Wi-Fi still right? Those that were not seen for long can be forgotten.",
            "devices --sort last-seen",
            "the devices, those that were not seen for longest at one end",
        )
    if age := over(dates.listing, settings.vendors_days):
        yield Reminder(
            f"vendors {dates.listing}",
            f"The listing of vendors is {age} old",
            f"The listing that names the makers of devices is as of {dates.listing}, {age} ago. The maker of many a "
            "newer device is not in it.",
            "vendor --refresh URL",
            "a newer one; the manual of that command says from where",
        )


def reminder_message(identity: str, site: str, at: datetime, reminder: Reminder, program: str) -> Message:
    """Return a reminder as a message."""
    return Message(
        identity=identity,
        site=site,
        subject=f"Reminder: {reminder.subject}",
        severity=Severity.LOW,
        at=at,
        paragraphs=(reminder.says, "You get this once."),
        actions=(Action(f"{program} {reminder.command}", reminder.purpose),),
        thread="reminder",
    )
