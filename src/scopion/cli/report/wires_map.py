"""The map of the wires in a terminal: a tree of switches, their ports, and what hangs at each."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from scopion.cli.parts.output import spoken_ago
from scopion.cli.parts.session import Session
from scopion.cli.parts.terminal import echo, style
from scopion.model.text import closed, counted
from scopion.model.wires import port_words, spoken_speed

if TYPE_CHECKING:
    from scopion.operations.wires.map_wires import Hanger, MappedPort, MappedSwitch
    from scopion.roster.wires.switches import KnownPort

KEYS = (
    "switch", "port", "number", "socket", "alias", "up", "speed_mbit", "leads_to", "behind", "devices", "macs",
    "stations", "unknown", "errors",
)  # fmt: skip
_MOST_SHOWN = 8  # of the devices at one port


def rows_of(trees: Sequence[MappedSwitch]) -> list[dict[str, Any]]:
    """Return a row for each port of each switch, in the order of the tree."""
    found = []
    for tree in trees:
        found += [_row(each) for each in tree.ports]
        found += rows_of([each.leads for each in tree.ports if each.leads is not None])
    return found


def _row(each: MappedPort) -> dict[str, Any]:
    port = each.port
    return {
        "switch": port.port.switch,
        "port": port.port.name,
        "number": port.number,
        "socket": port.socket or None,
        "alias": port.alias or None,
        "up": port.up,
        "speed_mbit": port.speed_mbit or None,
        "leads_to": port.leads_to or None,
        "behind": port.behind or None,
        "devices": [hanger.called for hanger in each.hangers if not hanger.on_air],
        "macs": [str(hanger.mac) for hanger in each.hangers],
        "stations": [hanger.called for hanger in each.hangers if hanger.on_air],
        "unknown": each.unknown,
        "errors": each.errors,
    }


def draw(session: Session, trees: Sequence[MappedSwitch]) -> None:
    """Print the trees."""
    for number, tree in enumerate(trees):
        echo("\n" * (number > 0), nl=False)
        echo(_head(tree))
        for line in _below(tree):
            echo(line)
    _tell(session, trees)


def _head(tree: MappedSwitch) -> str:
    by = f", at its {tree.by}" if tree.by else ""
    ports = style(f", {counted(len(tree.ports), 'port')}", dim=True)
    return f"{style(tree.switch.name, bold=True)}{by}{ports}"


def _below(tree: MappedSwitch) -> Iterator[str]:
    """Yield the lines below a switch: its ports in use, then the free ones in one line."""
    used = [each for each in tree.ports if not each.is_free and not (each.is_uplink and each.port.short == tree.by)]
    width = max((len(each.port.port.name) for each in used), default=0)
    free = _free(tree)
    for number, each in enumerate(used):
        last = number == len(used) - 1 and not free
        lead, further = ("└─ ", "   ") if last else ("├─ ", "│  ")
        first, *more = _port_lines(each)
        name = each.port.port.name
        yield f"{style(lead, dim=True)}{name.rjust(width) if name.isdecimal() else name.ljust(width)}  {first}"
        indent = style(further, dim=True) + " " * (width + 2)
        yield from (f"{indent}{line}" for line in more)
        if each.leads is not None:
            yield from (f"{indent}{line}" for line in _below(each.leads))
    if free:
        yield f"{style('└─ ', dim=True)}{style(free, dim=True)}"


def _free(tree: MappedSwitch) -> str:
    if not tree.free:
        return ""
    runs: list[list[KnownPort]] = []  # of ports without a socket that follow each other
    for port in (each.port for each in tree.free):
        if runs and not port.socket and not runs[-1][-1].socket and port.number == runs[-1][-1].number + 1:
            runs[-1].append(port)
        else:
            runs.append([port])
    return f"free: {', '.join(name for run in runs for name in _run(run))}"


def _run(run: Sequence[KnownPort]) -> list[str]:
    names = [f"{port.port.name} ({port.socket})" if port.socket else port.port.name for port in run]
    return names if len(names) < 3 else [f"{names[0]} to {names[-1]}"]


def _port_lines(each: MappedPort) -> Iterator[str]:
    """Yield what is at a port: the socket, the link, then each thing that hangs there."""
    port = each.port
    notes = [spoken_speed(port.speed_mbit)] if port.speed_mbit else []
    notes += [f"{counted(each.errors, 'damaged frame')} in the last day"] if each.errors else []
    notes += [f"the switch calls it {port.alias!r}"] if port.alias and port.alias != port.socket else []
    tail = style(f"  {', '.join(notes)}", dim=True) if notes else ""
    socket = f"{style(port.socket, fg='cyan')}: " if port.socket else ""
    on_cable = [hanger for hanger in each.hangers if not hanger.on_air]
    stations = [hanger for hanger in each.hangers if hanger.on_air]
    if each.leads is not None:
        yield f"{socket}{_head(each.leads)}{tail}"
    elif port.leads_to:
        yield f"{socket}to {port.leads_to}{tail}"
    elif len(on_cable) == 1 and not each.unknown:
        yield f"{socket}{_named(on_cable[0])}{tail}"
    elif not on_cable and not stations and not each.unknown:
        yield f"{socket}{style('a link, and nothing has been heard there', dim=True)}{tail}"
    else:
        shared = f"behind {port.behind}, " if port.behind else ""
        count = len(on_cable) + each.unknown
        yield f"{socket}{shared}{counted(count, 'device')}{' by cable' if stations else ''}{tail}"
        yield from _listed(on_cable, each.unknown)
    if stations:
        yield style(f"{counted(len(stations), 'device')} on the air:", dim=True)
        yield from _listed(stations, 0)


def _listed(hangers: Sequence[Hanger], unknown: int) -> Iterator[str]:
    shown = [_named(each) for each in hangers[:_MOST_SHOWN]]
    more = len(hangers) - len(shown) + unknown
    shown += [style(f"{more} more" + (" that no scan has met" if more == unknown else ""), dim=True)] if more else []
    for number, said in enumerate(shown):
        yield f"{style('└ ' if number == len(shown) - 1 else '├ ', dim=True)}{said}"


def _named(hanger: Hanger) -> str:
    device = hanger.device
    if device is None:
        return f"{hanger.mac} {style('(no scan has met it)', dim=True)}"
    new = f" {style('new', fg='yellow')}" if device.standing == "new" else ""
    new = f" {style('unwanted', fg='red', bold=True)}" if device.standing == "unwanted" else new
    address = f" {style(str(device.addresses[0]), dim=True)}" if device.addresses else ""
    return f"{hanger.called}{address}{new}"


def _tell(session: Session, trees: Sequence[MappedSwitch]) -> None:
    """Print what is shared, how fresh it is, and what cannot be read."""
    now = session.site.clock.now()
    session.note("")
    every = list(_every(trees))
    for each in every:
        for port in each.ports:
            several = [hanger for hanger in port.hangers if not hanger.on_air]
            if len(several) + port.unknown > 1 and not port.port.behind and not port.port.leads_to:
                there = port_words(port.port.port.name)
                session.note(
                    f"Several devices share {there} of {each.switch.name}: a switch without settings is there, or a "
                    "machine with several adapters."
                )
    for each in every:
        read = each.switch.read
        if each.switch.problem and read is not None:
            session.note(f"{each.switch.name}: as of {spoken_ago(read, now)}. {closed(each.switch.problem)}")
        for remark in each.switch.remarks:
            session.note(f"{each.switch.name}: {closed(remark)}")
    free = sum(len(each.free) for each in every)
    ports = sum(len(each.ports) for each in every)
    oldest = min((each.switch.read for each in every if each.switch.read is not None), default=now)
    session.note(
        f"{counted(len(every), 'switch', 'switches')}, {counted(ports, 'port')}, {free} of them free, "
        f"read {'just now' if (now - oldest).total_seconds() < 60 else spoken_ago(oldest, now)}."
    )


def _every(trees: Sequence[MappedSwitch]) -> Iterator[MappedSwitch]:
    for tree in trees:
        yield tree
        yield from _every([each.leads for each in tree.ports if each.leads is not None])
