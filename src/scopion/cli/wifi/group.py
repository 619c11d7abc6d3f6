"""``scopion wifi``: the family of commands about wireless lists, in the order of the work."""

from __future__ import annotations

import click

from scopion.cli.parts.families import Family
from scopion.cli.wifi import (
    audit,
    edit_lists,
    entries,
    hours,
    preview,
    push,
    radius,
    revert,
    sheet,
    stations,
    verify,
)


@click.group(cls=Family, no_args_is_help=True)
def wifi() -> None:
    """Allow and deny lists: kept, scheduled, pushed, verified.

    Each network (SSID) has a mode - off, allow: only the listed may associate, deny: all but the listed - and
    entries. The first allow or deny makes the network. A list is a convenience, not a lock: encryption and a changed
    passphrase are.
    """


for command in (
    entries.ssids,
    entries.entries,
    edit_lists.mode,
    edit_lists.allow,
    edit_lists.deny,
    edit_lists.drop,
    edit_lists.only,
    hours.hours,
    hours.timetable,
    preview.preview,
    push.push,
    revert.keep,
    verify.verify,
    revert.revert,
    sheet.sheet,
    sheet.done,
    sheet.import_entries,
    stations.stations,
    radius.radius,
    audit.audit,
    audit.passphrase,
):
    wifi.add_command(command)
