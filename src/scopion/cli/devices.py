"""``scopion devices``."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.device_rows import DEVICE_KEYS, device_columns, device_row
from scopion.cli.output import output_format, show
from scopion.cli.session import Session, pass_session
from scopion.model.address import by_number
from scopion.model.device import Standing
from scopion.model.text import counted

if TYPE_CHECKING:
    from scopion.model.device import Device

# What somebody has to look at comes first.
_STANDINGS = [Standing.UNWANTED, Standing.NEW, Standing.GUEST, Standing.KNOWN]


def _place(device: Device) -> tuple[tuple[int, int, int], ...]:
    """Its addresses as they sort: those without any first."""
    return tuple(map(by_number, device.addresses))


SORTS: dict[str, Callable[[Device], Any]] = {
    "standing": lambda device: (_STANDINGS.index(device.standing), _place(device)),
    "name": lambda device: (not device.label, device.label.casefold(), _place(device)),
    "address": lambda device: (not device.addresses, _place(device)),
    "mac": lambda device: device.macs,
    "first-seen": lambda device: device.first_seen,
    "last-seen": lambda device: (-device.last_seen.timestamp(), _place(device)),
}


@click.command()
@click.option("--present", is_flag=True, help="Only those that are here.")
@click.option(
    "--standing",
    type=click.Choice([str(each) for each in Standing]),
    multiple=True,
    help="Only these. May be repeated.",
)
@click.option("--sort", type=click.Choice(list(SORTS)), default="standing", show_default=True, help="By what.")
@output_format
@pass_session
def devices(session: Session, present: bool, standing: tuple[str, ...], sort: str, format_name: str | None) -> None:
    """The devices of the site, present and absent.

    Absent ones are dimmed, with the address that they had last.
    """
    from scopion.operations.describe import devices as all_devices

    everybody = all_devices(session.site)
    chosen = [
        device
        for device in sorted(everybody, key=SORTS[sort])
        if (not present or device.present) and (not standing or device.standing in standing)
    ]
    rows = [device_row(device, session.site.vendors, session.site.kinds) for device in chosen]
    show(rows, DEVICE_KEYS, device_columns(session.site.clock, rows), format_name)
    if not everybody:
        session.note("Nothing is remembered yet: scopion scan looks for devices.")
        return
    counts = Counter(device.standing for device in chosen)
    parts = [f"{counts[each]} {each}" for each in Standing if counts[each]]
    here = sum(device.present for device in chosen)
    shown = counted(len(chosen), "device") + (f" of {len(everybody)}" if len(chosen) < len(everybody) else "")
    if rows:
        session.note("")
    session.note(f"{shown}{': ' + ', '.join(parts) if parts else ''}; {here} present.")
