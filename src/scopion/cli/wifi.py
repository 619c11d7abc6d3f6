"""``scopion wifi``: the family of commands about wireless lists, in the order of the work."""

from __future__ import annotations

import click

from scopion.cli import (
    wifi_audit,
    wifi_entries,
    wifi_hours,
    wifi_lists,
    wifi_preview,
    wifi_push,
    wifi_revert,
    wifi_sheet,
    wifi_stations,
    wifi_verify,
)


class InOrder(click.Group):
    """Lists its commands in the order of the work, as they stand in this file."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The names in the order of their definition."""
        return list(self.commands)


@click.group(cls=InOrder, no_args_is_help=True)
def wifi() -> None:
    """Allow and deny lists: kept, scheduled, pushed, verified.

    Each network (SSID) has a mode - off, allow: only the listed may associate, deny: all but the listed - and
    entries. The first allow or deny makes the network. A list is a convenience, not a lock: encryption and a changed
    passphrase are.
    """


for command in (
    wifi_entries.ssids,
    wifi_entries.entries,
    wifi_lists.mode,
    wifi_lists.allow,
    wifi_lists.deny,
    wifi_lists.drop,
    wifi_lists.only,
    wifi_hours.hours,
    wifi_hours.timetable,
    wifi_preview.preview,
    wifi_push.push,
    wifi_revert.keep,
    wifi_verify.verify,
    wifi_revert.revert,
    wifi_sheet.sheet,
    wifi_sheet.done,
    wifi_sheet.import_entries,
    wifi_stations.stations,
    wifi_audit.audit,
    wifi_audit.passphrase,
):
    wifi.add_command(command)
