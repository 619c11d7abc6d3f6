"""The small drawings within the page: a week as a strip, bars over time, the addresses of a subnet. SVG (W3C).

They use classes whose colours the page sets for light, dark and paper; differences show in shape as well. Text from
outside is escaped here.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from markupsafe import Markup

from scopion.reports.address_use import ACROSS, SubnetUse, Use
from scopion.reports.count_hours import ALWAYS, DAY_HOURS, WEEK_HOURS, WeekOf

# The strip's lanes: the last week above the usual week.
_TOP, _LANE, _HEIGHT = 2, 9, 22
_SQUARE = 16
_WIDE, _HIGH, _LEFT, _BOTTOM = 720, 150, 34, 20
_THICKEST = 44
_DOT = "h1v1h-1z"
# The use of an address shows in shape as well as in colour; each shape fits a square of fifteen.
SHAPES = {
    Use.CONTESTED: "M1 1h13v13h-13zM4 4l7 7M11 4l-7 7",
    Use.NOW: "M1 1h13v13h-13z",
    Use.LATELY: "M2.5 2.5h10v10h-10z",
    Use.RESERVED: "M2 13L13 2",
    Use.POOL: "M5 5h5v5h-5z",
    Use.FREE: f"M7 7{_DOT}",
}
_LABELS = 14  # this many fit under the bars


def strip(week: WeekOf, label: str) -> Markup:
    """Return the last week of a device, hour by hour: where it was above, what is usual below."""
    odd, missed = set(week.unusual), set(week.missed)
    lanes = {
        "blind": _boxes((number for number, here in enumerate(week.here) if here is None), 0, _HEIGHT),
        "usual": "".join(_share(number, share) for number, share in enumerate(week.usual) if share),
        "here": _boxes((n for n, here in enumerate(week.here) if here and n not in odd), _TOP, _LANE),
        "odd": _boxes(odd, 0, _LANE + _TOP),
        "missed": _boxes(missed, _TOP + _LANE // 2, 2),
    }
    paths = "".join(f'<path class="{name}" d="{path}"/>' for name, path in lanes.items() if path)
    days = "".join(f"M{day * DAY_HOURS} 0v{_HEIGHT}" for day in range(1, 7))
    return Markup(
        '<svg class="strip" role="img" viewBox="0 0 {wide} {high}" preserveAspectRatio="none" aria-label="{label}">'
        '{paths}<path class="days" d="{days}"/></svg>'
    ).format(wide=WEEK_HOURS, high=_HEIGHT, label=label, paths=Markup(paths), days=days)


def _boxes(numbers: Iterable[int], top: int, high: int) -> str:
    """Return hours as boxes, neighbours as one box."""
    found: list[list[int]] = []
    for number in sorted(numbers):
        if found and found[-1][1] == number:
            found[-1][1] = number + 1
        else:
            found.append([number, number + 1])
    return "".join(f"M{begin} {top}h{end - begin}v{high}h-{end - begin}z" for begin, end in found)


def _share(number: int, share: float) -> str:
    """Return how usual an hour is, as a column that grows from the bottom."""
    high = _LANE if share >= ALWAYS else max(1, round(share * _LANE))
    return f"M{number} {_HEIGHT - high}h1v{high}h-1z"


def usage_strip(hours: Sequence[int], label: str) -> Markup:
    """Return the octets of the hours of a week as columns, to the scale of the largest one."""
    most = max(hours, default=0) or 1
    columns = "".join(
        f"M{number} {_HEIGHT - high}h1v{high}h-1z"
        for number, octets in enumerate(hours)
        if (high := -(-octets * (_HEIGHT - _TOP) // most))
    )
    days = "".join(f"M{day * DAY_HOURS} 0v{_HEIGHT}" for day in range(1, len(hours) // DAY_HOURS))
    return Markup(
        '<svg class="strip" role="img" viewBox="0 0 {wide} {high}" preserveAspectRatio="none" aria-label="{label}">'
        '<path class="here" d="{columns}"/><path class="days" d="{days}"/></svg>'
    ).format(wide=len(hours), high=_HEIGHT, label=label, columns=columns, days=days)


@dataclass(frozen=True, slots=True)
class Bar:
    """One bar: its label below, and its parts from the bottom up, each with its class."""

    label: str
    parts: Sequence[tuple[str, int]]

    @property
    def total(self) -> int:
        """Return its height."""
        return sum(value for _, value in self.parts)


def bars(drawn: Sequence[Bar], unit: str, label: str) -> Markup:
    """Return bars side by side, with a scale at the left."""
    most = max((bar.total for bar in drawn), default=0) or 1
    step = _step(most)
    top = step * -(-most // step)
    scale = (_HIGH - _BOTTOM - 16) / top
    wide = (_WIDE - _LEFT) / max(1, len(drawn))
    thick = min(wide * 0.76, _THICKEST)
    base = _HIGH - _BOTTOM
    every = -(-len(drawn) // _LABELS)
    parts = [f'<text class="unit" x="{_LEFT}" y="9">{Markup.escape(unit)}</text>']
    for value in range(0, top + 1, step):
        y = base - value * scale
        parts.append(f'<path class="grid" d="M{_LEFT} {y:.1f}H{_WIDE}"/>')
        parts.append(f'<text class="tick" x="{_LEFT - 5}" y="{y + 4:.1f}">{value}</text>')
    for number, bar in enumerate(drawn):
        left, height = _LEFT + number * wide, float(base)
        for name, value in bar.parts:
            high = value * scale
            height_now = height - high
            if value:
                begin = left + (wide - thick) / 2
                path = f"M{begin:.1f} {height_now:.1f}h{thick:.1f}v{high:.1f}h-{thick:.1f}z"
                parts.append(f'<path class="{name}" d="{path}"/>')
            height = height_now
        if number % every == 0:
            middle = left + wide / 2
            parts.append(f'<text class="name" x="{middle:.1f}" y="{_HIGH - 5}">{Markup.escape(bar.label)}</text>')
    return Markup(
        '<svg class="bars" role="img" viewBox="0 0 {wide} {high}" aria-label="{label}">{parts}</svg>'
    ).format(wide=_WIDE, high=_HIGH, label=label, parts=Markup("".join(parts)))  # fmt: skip


def _step(most: int) -> int:
    """Return a round distance between the lines of a scale up to ``most``: five lines at most."""
    step = 1
    while most / step > 5:
        step = step * 2 if str(step)[0] in "15" else step * 5 // 2
    return step


def squares(use: SubnetUse, said: Sequence[str], label: str) -> Markup:
    """Return a subnet's addresses as squares, sixteen in a row; ``said`` is the text of each square
    under the pointer.
    """
    cells = list(use.cells())
    found, free = [], []
    for number, cell in enumerate(cells):
        x, y = number % ACROSS * _SQUARE, number // ACROSS * _SQUARE
        if cell.use is Use.FREE:  # most of them: one path for all
            free.append(f"M{x + 7} {y + 7}{_DOT}")
        elif cell.use is not Use.EDGE:
            title = Markup("<title>{}</title>").format(said[number]) if said[number] else ""
            path = f'<path class="use-{cell.use}" transform="translate({x} {y})" d="{SHAPES[cell.use]}"'
            found.append(f"{path}>{title}</path>" if title else f"{path}/>")
    found.append(f'<path class="use-{Use.FREE}" d="{"".join(free)}"/>')
    rows = -(-len(cells) // ACROSS)
    return Markup(
        '<svg class="squares" role="img" viewBox="0 0 {wide} {high}" aria-label="{label}">{cells}</svg>'
    ).format(wide=ACROSS * _SQUARE, high=rows * _SQUARE, label=label, cells=Markup("".join(found)))  # fmt: skip
