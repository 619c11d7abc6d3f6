"""``scopion where``: the port, socket or access point of one device."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import card_frame as blocks
from scopion.cli.parts import options
from scopion.cli.parts.output import chosen_format, iso, output_format, show, spoken_ago
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.terminal import echo, style
from scopion.model.clock import spoken_span
from scopion.model.errors import NotFound
from scopion.model.text import closed
from scopion.model.wires import spoken_others, spoken_speed

if TYPE_CHECKING:
    from scopion.operations.wires.find_place import FoundDevice, FoundPlace

KEYS = (
    "name", "mac", "here", "where", "socket", "switch", "port", "at_edge", "vlan", "speed_mbit", "shared_with",
    "others", "access_point", "ssid", "radio", "signal_dbm", "signal", "since", "last_told", "device",
)  # fmt: skip


@click.command()
@options.device
@click.option("--now", "look", is_flag=True, help="Read the switches and access points first.")
@output_format
@pass_session
def where(session: Session, device: str, look: bool, format_name: str | None) -> None:
    """Where a device is: socket and port, or access point.

    By cable: the switch, the port and the socket, since when, and what else hangs there. On the air: the access point,
    the band, the signal. Then the same over the last week. It shows what the roster knows: scopion watch reads the
    switches and access points of site.toml all the time. DEVICE may be any MAC address that a switch knows.
    """
    from scopion.operations.wires.find_place import find_place

    found = find_place(session.site, device, look=look)
    name = chosen_format(format_name)
    if format_name is None and name == "tsv":
        name = "table"  # people read a card in a pipe, too
    if name == "table":
        for line in _lines(session, found):
            echo(line)
    else:
        rows = [_row(found, each) for each in found.places]
        show(rows, KEYS, [], name, document={"places": rows, "last_week": _last_week(found)})
    if not found.places:
        raise NotFound(_nothing_told(session, found))
    if not found.is_somewhere:
        last = found.places[0].spot
        raise NotFound(f"{found.called} is nowhere now: it was last at {last.at_length}, {_ago(session, last.until)}")


def _lines(session: Session, found: FoundDevice) -> Iterator[str]:
    yield blocks.heading(found.device) if found.device is not None else style(found.called, bold=True)
    several = len(found.places) > 1
    for each in found.places:
        if several:
            yield from blocks.block("adapter", [str(each.spot.mac)])
        yield from _place_lines(session, each)
    yield from blocks.block("last week", list(_lately_lines(session, found)))


def _lately_lines(session: Session, found: FoundDevice) -> Iterator[str]:
    """Yield the places of the last week; none if it was at one place without a break, which is said already."""
    if [each.stays for each in found.lately] == [1] and found.is_somewhere:
        return
    width = max((len(each.where) for each in found.lately), default=0)
    for late in found.lately:
        until = "until now" if late.present else f"until {_at(session, late.until)}"
        signal = f", signal {late.strength} ({late.signal} dBm)" if late.signal is not None else ""
        yield f"{late.where:<{width}}  {spoken_span(late.lasted)}, {until}{signal}"


def _place_lines(session: Session, found: FoundPlace) -> Iterator[str]:
    spot = found.spot
    since = f"since {_at(session, spot.since)}" if spot.present else f"until {_at(session, spot.until)}"
    if spot.port is None:
        network = f", network {spot.ssid}" if spot.ssid else ""
        yield from blocks.block("on the air", [f"{style(spot.where, bold=spot.present)}{network}, {since}"])
        if spot.signal is not None:
            yield from blocks.block("signal", [f"{spot.strength} ({spot.signal} dBm)"])
        if found.carrier is not None:
            yield from blocks.block("cable", [f"the access point hangs at {found.carrier.at_length}"])
        return
    port = spot.port
    link = f", {spoken_speed(port.speed_mbit)}" if port.speed_mbit else ""
    said = f", which calls it {port.alias!r}" if port.alias else ""
    vlan = f", VLAN {spot.vlan}" if spot.vlan > 1 else ""
    behind = "" if spot.at_edge else f"somewhere behind {port.leads_to or 'another switch'}: "
    yield from blocks.block("cable", [f"{behind}{style(str(port.port), bold=spot.present)}{said}{link}{vlan}, {since}"])
    yield from blocks.block("socket", [style(port.socket, bold=True)] if port.socket else [])
    shared = spoken_others(found.named, found.others)
    if shared and port.behind:
        shared += f", behind {port.behind}"
    elif shared:
        shared += ": something at this port passes on what it gets"
    yield from blocks.block("shared", [shared] if shared else [])
    switch = found.switch
    if switch is not None and switch.problem and switch.read is not None:
        yield from blocks.block("caution", [f"as of {_ago(session, switch.read)}: {switch.problem}"])


def _row(found: FoundDevice, each: FoundPlace) -> dict[str, Any]:
    spot, port = each.spot, each.spot.port
    return {
        "name": found.device.name if found.device is not None else None,
        "mac": str(spot.mac),
        "here": spot.present,
        "where": spot.where,
        "socket": (port.socket or None) if port else None,
        "switch": port.port.switch if port else None,
        "port": port.port.name if port else None,
        "at_edge": spot.at_edge if port else None,
        "vlan": spot.vlan or None,
        "speed_mbit": (port.speed_mbit or None) if port else None,
        "shared_with": list(each.named),
        "others": each.others if port else None,
        "access_point": spot.access_point or None,
        "ssid": spot.ssid or None,
        "radio": spot.radio or None,
        "signal_dbm": spot.signal,
        "signal": spot.strength or None,
        "since": iso(spot.since),
        "last_told": iso(spot.until),
        "device": found.device.id if found.device is not None else None,
    }


def _last_week(found: FoundDevice) -> list[dict[str, Any]]:
    return [
        {
            "where": each.where, "seconds": round(each.lasted.total_seconds()), "until": iso(each.until),
            "here": each.present, "signal_dbm": each.signal, "weak_share": round(each.weak, 2),
        }
        for each in found.lately
    ]  # fmt: skip


def _nothing_told(session: Session, found: FoundDevice) -> str:
    settings = session.site.settings
    if not settings.switch and not settings.enforcer:
        return f"where {found.called} is, no one can tell: write a [[switch]] or an [[enforcer]] into site.toml"
    said = f"no switch and no access point has told where {found.called} is"
    if found.problem:
        return f"{said}. {closed(found.problem)}"
    return f"{said}: --now reads them, and scopion watch all the time"


def _at(session: Session, moment: datetime) -> str:
    """Return a moment of the last days in short: ``14:02``, ``Tuesday 14:02``, or with its date."""
    clock = session.site.clock
    local, today = clock.local(moment), clock.local(clock.now())
    if local.date() == today.date():
        return f"{local:%H:%M}"
    return f"{local:%A %H:%M}" if (today.date() - local.date()).days < 7 else f"{local:%Y-%m-%d %H:%M}"


def _ago(session: Session, moment: datetime) -> str:
    return spoken_ago(moment, session.site.clock.now())
