"""``scopion map``."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.options import SpanParam
from scopion.cli.parts.output import chosen_format, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import styled
from scopion.cli.parts.terminal import echo, style
from scopion.model.clock import spoken_span
from scopion.model.text import counted, joined
from scopion.reports.address_use import Use

if TYPE_CHECKING:
    from scopion.operations.devices.map_addresses import AddressMap
    from scopion.reports.address_use import AddressUse, Cell, SubnetUse

KEYS = ("address", "use", "devices", "last_used", "reserved", "dhcp_pool", "subnet", "place")
_MONTH_S = 30 * 86_400.0
# The signs differ in shape; colours only help. In a grid that is not folded, an address that is used now is a full
# square.
_SIGNS = {
    Use.CONTESTED: ("!", "red bold", "contested"),
    Use.NOW: ("■", "green", "used now"),
    Use.LATELY: ("□", "cyan", "used lately"),
    Use.RESERVED: ("r", "magenta", "reserved"),
    Use.POOL: ("p", "dim", "free in the DHCP pool"),
    Use.FREE: ("·", "dim", "free"),
    Use.EDGE: (" ", "", ""),
}
_LINE = 79
_EIGHTHS = "▁▂▃▄▅▆▇█"


@click.command(name="map")
@click.argument("subnet", metavar="[SUBNET]", required=False)
@click.option(
    "--lately",
    type=SpanParam(),
    default=_MONTH_S,
    metavar="TIME",
    help="The time that counts as lately [30d].",
    show_default=False,
)
@click.option("--wires", is_flag=True, help="Instead: the switches, their ports, and what hangs at each.")
@click.option("--now", "look", is_flag=True, help="With --wires: read the switches first.")
@options.place
@output_format
@pass_session
def address_map(
    session: Session,
    subnet: str | None,
    lately: float,
    wires: bool,
    look: bool,
    place: str | None,
    format_name: str | None,
) -> None:
    """The addresses of a subnet as a grid: which are used.

    It shows what the roster knows, and sends nothing. SUBNET is a range, or a name of site.toml; without it all are
    shown. In a subnet of more than 256 addresses each square stands for several. With --wires it shows the cables,
    as the switches of site.toml have told them.
    """
    if wires:
        _show_wires(session, look=look, format_name=format_name)
        return
    if look:
        raise click.UsageError("--now belongs to --wires: the addresses are read by scopion scan")
    from scopion.operations.devices.map_addresses import address_maps

    maps = address_maps(session.site, subnet, place, timedelta(seconds=lately))
    if chosen_format(format_name) != "table":
        show([_row(each, used) for each in maps for used in each.use.addresses], KEYS, [], format_name)
        return
    for number, each in enumerate(maps):
        echo("\n" * (number > 0), nl=False)
        _draw(each)
        _tell(session, each, timedelta(seconds=lately))


def _show_wires(session: Session, *, look: bool, format_name: str | None) -> None:
    from scopion.cli.report import wires_map
    from scopion.operations.wires.map_wires import map_wires

    trees = map_wires(session.site, look=look)
    if chosen_format(format_name) == "table":
        wires_map.draw(session, trees)
    else:
        show(wires_map.rows_of(trees), wires_map.KEYS, [], format_name)


def _row(each: AddressMap, place: AddressUse) -> dict[str, Any]:
    names = [each.devices[number].called for number in place.devices if number in each.devices]
    return row_of(place, KEYS, devices=names, dhcp_pool=place.in_pool, subnet=each.use.subnet, place=each.place)


def _draw(each: AddressMap) -> None:
    """Draw the grid: the first address of a row at its left, what a square adds to it above."""
    use = each.use
    rows = use.rows()
    size = use.per_cell
    labels = [str(row[0].first) for row in rows]
    margin = max(map(len, labels))
    steps = [f"+{number * size}" for number in range(len(rows[0]))] if size < 256 else _thirds(rows[0])
    wide = max(2, *map(len, steps)) + 1 if size > 1 else 4
    title = f"{use.subnet}{f' {each.name}' if each.name else ''}{f', {each.place}' if each.place else ''}"
    folded = f", each square {size} addresses" if size > 1 else ""
    echo(style(title, bold=True) + folded)
    echo(style(" " * margin + "".join(f"{step:>{wide}}" for step in steps), dim=True))
    for label, row in zip(labels, rows, strict=True):
        squares = "".join(" " * (wide - 1) + _sign(cell, size) for cell in row)
        echo(f"{style(f'{label:<{margin}}', dim=True)}{squares}".rstrip())


def _thirds(row: Sequence[Cell]) -> list[str]:
    """Return labels for the squares of a row of whole /24s: what their third octets add."""
    begin = int(row[0].first)
    return [f"+{(int(cell.first) - begin) >> 8}.0" for cell in row]


def _sign(cell: Cell, size: int) -> str:
    sign, looks, _ = _SIGNS[cell.use]
    if size > 1 and cell.use is Use.NOW:
        sign = _EIGHTHS[min(7, cell.now * 8 // (size + 1))]
    return styled(sign, looks)


def _tell(session: Session, each: AddressMap, lately: timedelta) -> None:
    """Print the legend with counts, what is contested, and how fresh it is."""
    use, size = each.use, each.use.per_cell
    echo(_legend(use, size))
    for place in use.addresses:
        if place.use is Use.CONTESTED:
            names = [each.devices[number].called for number in place.devices if number in each.devices]
            session.note(f"{style(str(place.address), fg='red')} is used by {joined(names)}: only one can work.")
    session.note(_fresh(session, each, lately))
    if not each.pool_known:
        session.note("The DHCP server's pool is not known: write it in site.toml, dhcp_pool under [[subnet]].")


def _legend(use: SubnetUse, size: int) -> str:
    """Return what the signs mean and how many there are, in lines that fit."""
    lines: list[tuple[int, str]] = []
    for each, (sign, looks, words) in _SIGNS.items():
        count = use.counts.get(each, 0)
        if words and (count or each is Use.FREE):
            folded = size > 1 and each is Use.NOW
            shown = f"{_EIGHTHS[0]}{_EIGHTHS[3]}{_EIGHTHS[7]}" if folded else sign
            said = f" {count} {words}{' (few, half, all of a square)' if folded else ''}"
            wide = 3 + len(shown) + len(said)
            text = f"   {styled(shown, looks)}{said}"
            if lines and lines[-1][0] + wide <= _LINE:
                lines[-1] = lines[-1][0] + wide, lines[-1][1] + text
            else:
                lines.append((wide, text))
    return "\n".join(text for _, text in lines)


def _ago(span: timedelta) -> str:
    """Return how long ago something was, where a minute more or less does not matter."""
    return "just now" if span < timedelta(minutes=1) else f"{spoken_span(span)} ago"


def _fresh(session: Session, each: AddressMap, lately: timedelta) -> str:
    now = session.site.clock.now()
    here = each.use.in_use
    lead = f"{counted(here, 'address', 'addresses')} of {each.use.subnet} in use"
    scanned = (
        f"as of the scan {_ago(now - each.scanned)}"
        if each.scanned
        else "but no complete scan of it is remembered: scopion scan looks"
    )
    memory = f"; the roster goes back {spoken_span(now - each.since)} only" if now - each.since < lately else ""
    return f"{style(lead, bold=True)}, {scanned}{memory}."
