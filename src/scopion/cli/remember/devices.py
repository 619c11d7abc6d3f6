"""``scopion devices``."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from datetime import date
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.device_rows import DEVICE_KEYS, device_columns, device_row
from scopion.cli.parts.output import chosen_format, output_format, show, show_table
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, Row, plain_column
from scopion.model.address import by_number
from scopion.model.device import BY_URGENCY, Device, Standing
from scopion.model.text import counted

if TYPE_CHECKING:
    from scopion.operations.devices.identify_device import Described

_RANKS = {standing: number for number, standing in enumerate(BY_URGENCY)}
KEYS = (*DEVICE_KEYS, "near")
_LONG = ("vendor", "kind_evidence", "names", "note", "because")


def _place(device: Device) -> tuple[int, ...]:
    """Return its first address as it sorts: devices without an address come first."""
    addresses = device.addresses
    return by_number(addresses[0]) if addresses else ()


SORTS: dict[str, Callable[[Described], Any]] = {
    "standing": lambda each: (_RANKS[each.device.standing], _place(each.device)),
    "name": lambda each: (not each.device.name, each.device.name.casefold(), _place(each.device)),
    "address": lambda each: (not each.device.addresses, _place(each.device)),
    "mac": lambda each: each.device.macs,
    "vendor": lambda each: (not each.vendors, *(vendor.name.casefold() for vendor in each.vendors[:1])),
    "kind": lambda each: (not each.guess.kind, each.guess.kind, _place(each.device)),
    "owner": lambda each: (not each.device.owner, each.device.owner.casefold(), _place(each.device)),
    "first-seen": lambda each: each.device.first_seen,
    "last-seen": lambda each: (-each.device.last_seen.timestamp(), _place(each.device)),
}


@click.command()
@click.argument("words", metavar="[TEXT]...", nargs=-1)
@click.option("--near", is_flag=True, help="TEXT is the MAC on a sticker, or its end: its neighbours, too.")
@click.option("--present/--absent", default=None, help="Only those that are here, or are not.")
@options.standings
@click.option("--vendor", metavar="TEXT", default="", help="Part of the vendor's name.")
@click.option("--kind", metavar="TEXT", default="", help="Part of its guessed kind: printer, phone.")
@click.option("--owner", metavar="TEXT", default="", help="Part of its owner's name.")
@click.option("--subnet", metavar="RANGE|NAME", help="With an address in it, as 192.0.2.0/24 or by site.toml's name.")
@options.place
@click.option("--private", is_flag=True, help="Only those with a private address.")
@click.option(
    "--seen-since", metavar="WHEN", type=options.MomentParam(), help="Here then or later: yesterday, '3 days'."
)
@click.option("--not-seen-since", metavar="WHEN", type=options.MomentParam(), help="Not here since then.")
@click.option("--sort", type=click.Choice(list(SORTS)), default="standing", show_default=True, help="The order.")
@click.option("--reverse", is_flag=True, help="The other way round.")
@click.option("--columns", metavar="KEY,KEY", type=options.KeysParam(KEYS), help="Only these, in this order.")
@output_format
@pass_session
def devices(
    session: Session,
    /,
    sort: str,
    reverse: bool,
    columns: tuple[str, ...] | None,
    format_name: str | None,
    **wishes: Any,
) -> None:
    """The devices of the site, present and absent.

    TEXT is any part of a name, address, vendor, owner, place, note or of a MAC in any notation; all TEXTs must fit.
    With --near it is the sticker on a box, which often shows the address of its other port. Absent devices are dimmed,
    with the address that they had last.
    """
    from scopion.operations.devices.find_devices import find
    from scopion.operations.devices.list_devices import described_devices

    wanted = _wanted(session, **wishes)
    everybody = described_devices(session.site)
    found = sorted(find(everybody, wanted), key=SORTS[sort], reverse=reverse)
    _show(session, found, columns, format_name, near=wanted.near)
    _close(session, found, len(everybody))


def _wanted(session: Session, **wishes: Any) -> Any:
    from scopion.operations.devices.find_devices import DeviceFilter
    from scopion.operations.devices.list_devices import subnet_called

    subnet = subnet_called(session.site, wishes.pop("subnet")) if wishes["subnet"] else wishes.pop("subnet")
    return DeviceFilter(subnet=subnet, standings=wishes.pop("standing"), **wishes)


def _show(
    session: Session, found: list[Described], chosen: tuple[str, ...] | None, format_name: str | None, *, near: bool
) -> None:
    if chosen is not None:
        picked = ({key: row[key] for key in chosen} for row in map(_row, found))
        show(picked, chosen, [plain_column(key, shrinks=key in _LONG) for key in chosen], format_name)
        return
    if chosen_format(format_name) != "table":
        show(map(_row, found), KEYS, [], format_name)
        return
    columns = device_columns(session.site.clock, found)
    if near:
        columns.insert(4, Column("near", lambda each: each.near, lambda _: "yellow"))
    show_table(found, columns)


def _row(each: Described) -> Row:
    row = device_row(each)
    row["near"] = each.near or None
    return row


def _close(session: Session, found: list[Described], total: int) -> None:
    if not total:
        session.note("Nothing is remembered yet: scopion scan looks for devices.")
        return
    shown_devices = [each.device for each in found]
    counts = Counter([device.standing for device in shown_devices])
    parts = [f"{counts[each]} {each}" for each in Standing if counts[each]]
    here = sum([device.present for device in shown_devices])
    shown = counted(len(found), "device") + (f" of {total}" if len(found) < total else "")
    if found:
        session.note("")
    session.note(f"{shown}{': ' + ', '.join(parts) if parts else ''}; {here} present.")
    today = session.site.clock.local(session.site.clock.now()).date()
    ended = [device.called for device in shown_devices if _has_ended(device, today)]
    if ended:
        session.note(f"The time as a guest is over for {', '.join(ended)}: scopion review shows each.")


def _has_ended(device: Device, today: date) -> bool:
    return device.standing is Standing.GUEST and device.guest_until is not None and device.guest_until < today
