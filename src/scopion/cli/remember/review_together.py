"""``scopion review --together``: all new devices in one list, and one question, for a first evening."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from scopion.cli.parts.output import show_table
from scopion.cli.parts.session import Session
from scopion.cli.parts.table import Column, Row
from scopion.cli.parts.terminal import prompt
from scopion.model.device import Standing
from scopion.model.text import counted

if TYPE_CHECKING:
    from scopion.operations.devices.identify_device import Described

COLUMNS = (
    Column("", lambda row: str(row["number"]), lambda _: "bold", right=True),
    Column("name", lambda row: row["name"]),
    Column("address", lambda row: row["address"]),
    Column("vendor", lambda row: row["vendor"], shrinks=True),
    Column("may be", lambda row: row["kind"], shrinks=True),
)


def review_together(session: Session) -> list[str]:
    """Show the new devices that are here, and mark all known but those that a person names. Returns the named ones."""
    from scopion.operations.devices.list_devices import described_devices
    from scopion.operations.edit.edit_devices import Mark, mark_devices

    there = [
        each for each in described_devices(session.site) if each.device.present and each.device.standing is Standing.NEW
    ]
    if not there:
        session.note("No new device is here: all have been reviewed.")
        return []
    show_table([_row(number, each) for number, each in enumerate(there, 1)], COLUMNS)
    session.note("")
    left = _numbers(len(there))
    yours = [each.device for number, each in enumerate(there, 1) if number not in left]
    if yours:
        mark_devices(session.site, yours, Mark(Standing.KNOWN))
        session.note(f"{counted(len(yours), 'device')} marked known. scopion undo takes it back.")
    return [str((*each.device.macs, *each.device.addresses)[0]) for n, each in enumerate(there, 1) if n in left]


def _row(number: int, each: Described) -> Row:
    device = each.device
    return {
        "number": number,
        "name": device.called,
        "address": str(device.addresses[0]) if device.addresses else "",
        "vendor": next((vendor.name for vendor in each.vendors if vendor.organisations), ""),
        "kind": str(each.guess),
    }


def _numbers(most: int) -> Sequence[int]:
    """Ask which devices are not known; a word that is no number of the list is asked again. Raises Abort for q."""

    def read(text: str) -> list[int]:
        if text.strip().casefold() in ("q", "quit"):
            raise click.Abort
        found: list[int] = []
        for part in text.replace(",", " ").split():
            begin, dash, end = part.partition("-")
            if not begin.isdecimal() or (dash and not end.isdecimal()):
                raise click.UsageError(f"{part!r} is no number: write 3, 5-7 or nothing")
            found += range(int(begin), int(end or begin) + 1)
        if any(not 1 <= each <= most for each in found):
            raise click.UsageError(f"the numbers are 1 to {most}")
        return found

    answer = prompt(
        "Which do you not know? Their numbers, as 3 5-7; Enter: you know them all; q: leave",
        "",
        show_default=False,
        value_proc=read,
    )
    return list(answer) if answer else []
