"""The drawing of a switch within the page: its ports as they stand side by side, and what hangs at each. SVG (W3C).

Like the other drawings it uses classes whose colours the page sets for light, dark and paper; what a port is shows in
its shape as well. Text from outside is escaped here, and cut: a figure has no room for more.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from markupsafe import Markup

from scopion.model.wires import spoken_speed
from scopion.reports.content import WirePort, WireSwitch

_WIDE = 720
_ROW, _TOP = 21, 8  # the height of a row of text
_PLATE, _GAP, _ACROSS = 17, 5, 24  # a port of the faceplate; so many stand side by side
_NAME, _TEXT = 56, 96  # where names of ports end, and where what hangs there begins
_LETTER = 6.3  # the width of a letter, on average
_ROWS = 36  # of one drawing: more would not fit on a sheet of paper
# What a port is, as a shape in a square of fifteen.
SHAPES = {
    "free": "M2.5 2.5h10v10h-10z",
    "one": "M1 1h13v13h-13z",
    "several": "M1 1h6v6h-6zM8 1h6v6h-6zM1 8h6v6h-6zM8 8h6v6h-6z",
    "air": "M7.5 13.5L1 6a9.5 9.5 0 0 1 13 0z",
    "switch": "M1 8L7.5 1L14 8H10.5V14H4.5V8z",
    "silent": "M1 6.5h13v2h-13z",
}
WORDS = {
    "one": "one device", "several": "several devices", "air": "access point", "switch": "leads to a switch",
    "silent": "a link, and nothing heard", "free": "free",
}  # fmt: skip


def kind_of(port: WirePort) -> str:
    """Return what a port is: a key of ``SHAPES``."""
    if port.leads_to:
        return "switch"
    if port.radio or port.stations:
        return "air"
    count = len(port.devices) + port.unknown
    if count:
        return "one" if count == 1 else "several"
    return "free" if port.up is False else "silent"


def switch_drawings(switch: WireSwitch) -> list[Markup]:
    """Return the drawings of a switch: the faceplate above all rows; of many rows some are in further drawings."""
    used = [each for each in switch.ports if kind_of(each) != "free"]
    chunks = [used[at : at + _ROWS] for at in range(0, len(used), _ROWS)] or [[]]
    said = f"{switch.name}: {len(used)} of {len(switch.ports)} ports in use"
    drawn = [_drawing(_faceplate(switch.ports), chunks[0], said)]
    return drawn + [_drawing(([], 0), chunk, f"{said}, continued") for chunk in chunks[1:]]


def _drawing(plate: tuple[list[str], int], ports: Sequence[WirePort], label: str) -> Markup:
    parts, top = plate
    for number, port in enumerate(ports):
        parts += _row(port, top + number * _ROW)
    high = top + len(ports) * _ROW + 4
    return Markup(
        '<svg class="wires" role="img" viewBox="0 0 {wide} {high}" aria-label="{label}">{parts}</svg>'
    ).format(wide=_WIDE, high=high, label=label, parts=Markup("".join(parts)))  # fmt: skip


def _faceplate(ports: Sequence[WirePort]) -> tuple[list[str], int]:
    """Return the ports side by side as squares, with their numbers below, and how high that is."""
    parts = []
    step = _PLATE + _GAP
    for place, port in enumerate(ports):
        x, y = place % _ACROSS * step, _TOP + place // _ACROSS * (step + 10)
        title = Markup("<title>{}</title>").format(f"{port.name}: {WORDS[kind_of(port)]}")
        parts.append(f'<path class="port-{kind_of(port)}" transform="translate({x} {y})" d="{SHAPES[kind_of(port)]}">')
        parts.append(f"{title}</path>")
        parts.append(f'<text class="tick" x="{x + 7.5}" y="{y + _PLATE + 8}">{port.number}</text>')
    rows = -(-len(ports) // _ACROSS)
    return parts, _TOP + rows * (step + 10) + 8


def _row(port: WirePort, y: int) -> list[str]:
    """Return one line: the port, a wire, and what hangs at its end."""
    middle = y + _ROW // 2
    parts = [
        f'<text class="port" x="{_NAME}" y="{middle + 4}">{Markup.escape(_cut(port.name, 8))}</text>',
        f'<path class="wire" d="M{_NAME + 6} {middle}H{_TEXT - 22}"/>',
        f'<path class="port-{kind_of(port)}" transform="translate({_TEXT - 20} {middle - 7})" '
        f'd="{SHAPES[kind_of(port)]}"/>',
    ]
    notes = list(_notes(port))
    tail = ", ".join(notes)
    room = int((_WIDE - _TEXT - 8) / _LETTER) - len(tail) - 3 * bool(tail)
    said = _said(port, room)
    socket = _cut(port.socket, room)
    first = Markup('<tspan class="socket">{}</tspan>{}').format(socket, ": " if said else "") if socket else ""
    said = _cut(said, max(8, room - len(socket)))
    parts.append(f'<text x="{_TEXT}" y="{middle + 4}">{first}{Markup.escape(said)}</text>')
    if tail:
        caution = " odd" if port.errors or 0 < port.speed_mbit <= 10 else ""
        parts.append(f'<text class="end{caution}" x="{_WIDE}" y="{middle + 4}">{Markup.escape(tail)}</text>')
    return parts


def _said(port: WirePort, room: int) -> str:
    """Return what hangs at a port, as many names as fit."""
    if port.leads_to:
        return f"to {port.leads_to}"
    names = list(port.devices)
    if port.stations:
        on_air = f"{len(port.stations)} on the air ({', '.join(port.stations)})"
        return f"{', '.join(names)}: {on_air}" if names else on_air
    more = port.unknown
    while len(names) > 1 and len(", ".join(names)) > room - 10:
        names.pop()
        more += 1
    others = f"{more} more" if names else f"{more} unknown"
    return ", ".join([*names, *([others] if more else [])])


def _notes(port: WirePort) -> Iterator[str]:
    if port.errors:
        yield f"{port.errors} errors today"
    if port.speed_mbit:
        yield spoken_speed(port.speed_mbit)


def _cut(text: str, letters: int) -> str:
    return text if len(text) <= letters else f"{text[: max(1, letters - 1)]}…"
