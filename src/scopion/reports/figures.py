"""Single figures as PNG or SVG, by Matplotlib: one style, for a screen, a page and every eye.

Colours are those of Okabe and Ito, apart in lightness as well as in hue; shades are those of cividis. Axes say what
they show, and in which unit. Of many things the largest and the rest are shown, so that a figure can hold 5 devices or
250.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from scopion.model.errors import ScopionError, StorageFailed
from scopion.model.week import WEEKDAYS
from scopion.reports.address_use import ACROSS, Use
from scopion.reports.content import LEAST_DAYS, DeviceLine, Group, Report
from scopion.reports.count_hours import DAY_HOURS
from scopion.reports.sentences import said_period

if TYPE_CHECKING:
    from matplotlib.figure import Figure

Axes = Any  # matplotlib.axes.Axes, whose types do not know that dates can be drawn

# Okabe and Ito, "Color universal design", 2008.
_ORANGE, _SKY, _GREEN, _BLUE, _VERMILION, _BLACK = "#e69f00", "#56b4e9", "#009e73", "#0072b2", "#d55e00", "#222222"
_STANDINGS = (("new", _ORANGE), ("known", _GREEN), ("guest", _SKY), ("unwanted", _BLACK))
_USES = (
    (Use.FREE, "#f2f2ee", "free"),
    (Use.POOL, "#f7d98b", "free in the DHCP pool"),
    (Use.RESERVED, "#cc79a7", "reserved"),
    (Use.LATELY, _SKY, "used lately"),
    (Use.NOW, _BLUE, "used now"),
    (Use.CONTESTED, _VERMILION, "contested"),
)
_INCHES, _DPI = (10.0, 5.6), 128  # 1280 by 717 pixels
_ROW_INCHES, _SQUARE_INCHES, _LEAST_INCHES, _MOST_INCHES = 0.2, 0.27, 3.2, 40.0
_BARS = 100  # this many days are drawn as bars
_NAMED_ROWS, _NAMED_EVERY, _THIN_INCHES = 80, 4, 0.05
_GROUPS = 14  # this many vendors or kinds are named, the others are one bar
_NAME = 26  # this many letters of a name fit beside its row
_STYLE: dict[Any, Any] = {
    "font.family": "DejaVu Sans", "font.size": 10, "axes.titlesize": 13, "axes.titleweight": "bold",
    "axes.titlelocation": "left", "axes.titlepad": 12, "axes.spines.top": False, "axes.spines.right": False,
    "axes.grid": True, "axes.grid.axis": "y", "axes.axisbelow": True, "grid.color": "#dddad4",
    "axes.edgecolor": "#777269",
    "axes.labelcolor": "#33302b", "xtick.color": "#55514a", "ytick.color": "#55514a", "text.color": "#1d1b18",
    "legend.frameon": False, "figure.facecolor": "white", "svg.fonttype": "none", "svg.hashsalt": "scopion",
    "image.cmap": "cividis",
}  # fmt: skip


def draw(report: Report, name: str, path: Path) -> None:
    """Write one figure, as PNG or SVG by the file's name. Raises ScopionError without Matplotlib, StorageFailed."""
    from io import BytesIO

    from scopion.roster.store.write_files import write_atomically

    figure = figure_of(report, name)
    kind = path.suffix.lower().removeprefix(".")
    made = BytesIO()
    # Nothing of the moment goes into the file: the same report gives the same figure.
    with _styled():
        figure.savefig(made, format=kind, metadata={"Date": None} if kind == "svg" else {"Software": None})
    try:
        write_atomically(path, made.getvalue())
    except OSError as error:
        raise StorageFailed(f"{path} cannot be written: {error.strerror}") from None


def figure_of(report: Report, name: str) -> Figure:
    """Return one figure, to be saved or looked at. Raises ScopionError without Matplotlib."""
    with _styled():
        from matplotlib.figure import Figure

        figure = Figure(figsize=_INCHES, dpi=_DPI, layout="constrained")
        axes = figure.subplots()
        FIGURES[name](report, axes)
        title = axes.get_title(loc="left")
        axes.set_title(f"{title}\n{report.site}, {said_period(report.since, report.until)}", fontsize=12)
    return figure


def _styled() -> AbstractContextManager[None]:
    """Apply our style while something is drawn or saved. Raises ScopionError without Matplotlib."""
    try:
        from matplotlib import rc_context
    except ImportError:
        raise ScopionError("figures need Matplotlib: the pip that installed Scopion can install it") from None
    return rc_context(_STYLE)


def _presence(report: Report, axes: Axes) -> None:
    """Draw how many different devices were here on each day."""
    days = [each.day for each in report.days]
    values = [each.present if each.looked else math.nan for each in report.days]
    axes.plot(days, values, color=_BLUE, marker="o" if len(days) < 60 else "", markersize=4, label="devices")
    axes.set_ylim(bottom=0)
    _whole(axes)
    axes.set(title="Devices here", xlabel="day", ylabel="devices that were here on the day")
    _dates(axes)


def _comings(report: Report, axes: Axes) -> None:
    days = [each.day for each in report.days]
    joined = [each.joined for each in report.days]
    returned = [each.returned for each in report.days]
    left = [-each.left for each in report.days]
    came = [one + other for one, other in zip(joined, returned, strict=True)]
    nothing = [0] * len(days)
    for low, high, colour, label in (
        (nothing, joined, _ORANGE, "joined for the first time"),
        (joined, came, _BLUE, "came back"),
        (left, nothing, _SKY, "left"),
    ):
        if len(days) <= _BARS:
            axes.bar(days, [b - a for a, b in zip(low, high, strict=True)], bottom=low, color=colour, label=label)
        else:  # a year of bars would be drawn one by one, and be too thin to be told apart
            axes.fill_between(days, low, high, step="mid", color=colour, label=label, linewidth=0)
    axes.axhline(0, color="#777269", linewidth=1)
    axes.yaxis.set_major_formatter(lambda value, _: f"{abs(value):.0f}")
    axes.set(title="Comings and goings", xlabel="day", ylabel="left (below) and came (above), times")
    _dates(axes)
    _whole(axes)
    axes.figure.legend(ncols=3, loc="outside lower left")


def _hours(report: Report, axes: Axes) -> None:
    """Draw each device's usual day: the share of days of the week by hour, devices in rows."""
    lines = [each for each in report.devices if any(share is not None for share in each.week.usual)]
    shares = [_usual_day(each) for each in lines]
    figure = axes.figure
    # Of hundreds the rows are thin, and every fourth is named: a figure shows the pattern, the table has the names.
    few = len(lines) <= _NAMED_ROWS
    wide, high = _INCHES[0], _height(1.6 + (_ROW_INCHES if few else _THIN_INCHES) * len(lines))
    figure.set_size_inches(wide, high)
    # Its margins are known: letting the layout measure hundreds of names again and again takes seconds.
    figure.set_layout_engine("none")
    axes.set_position((2.4 / wide, 0.6 / high, (wide - 3.8) / wide, (high - 1.4) / high))
    axes.grid(False)
    axes.set(title="Usual hours", xlabel="hour of the day", ylabel="device" if few else f"{len(lines)} devices")
    if not lines:
        axes.text(0.5, 0.5, "nothing is usual yet: a week has to pass", ha="center", transform=axes.transAxes)
        return
    image = axes.imshow(shares, aspect="auto", vmin=0, vmax=1, interpolation="nearest")
    axes.set_yticks([])
    axes.yaxis.set_label_coords(-2.1 / (wide - 3.8), 0.5)
    for row, each in enumerate(lines[:: 1 if few else _NAMED_EVERY]):  # ticks would be measured several times each
        axes.text(
            -0.7,
            row * (1 if few else _NAMED_EVERY),
            _short(each.name),
            ha="right",
            va="center",
            fontsize=8,
            color="#55514a",
        )
    axes.set_xticks(range(0, DAY_HOURS, 2))
    beside = figure.add_axes(((wide - 1.1) / wide, 0.6 / high, 0.25 / wide, min(high - 1.4, 3.5) / high))
    figure.colorbar(image, cax=beside, label="share of days on which it was here")


def _height(inches: float) -> float:
    """Return the height that its rows need, within limits."""
    return min(_MOST_INCHES, max(_LEAST_INCHES, inches))


def _usual_day(line: DeviceLine) -> list[float]:
    """Return the mean of the seven usual days; days of which nothing is known do not count."""
    found = []
    for hour in range(DAY_HOURS):
        known = [share for share in line.week.usual[hour::DAY_HOURS] if share is not None]
        found.append(sum(known) / len(known) if known else math.nan)
    return found


def _busy(report: Report, axes: Axes) -> None:
    axes.grid(False)
    image = axes.imshow([list(hours) for hours in report.busy], aspect="auto", interpolation="nearest")
    axes.set_xticks(range(DAY_HOURS))
    axes.set_yticks(range(7), WEEKDAYS)
    title = "Busy hours" if report.tells_busy_hours else f"Busy hours, from fewer than {LEAST_DAYS} days"
    axes.set(title=title, xlabel="hour of the day", ylabel="day of the week")
    known = [value for hours in report.busy for value in hours if not math.isnan(value)]
    middle = (min(known) + max(known)) / 2 if known else 0.0
    for weekday, hours in enumerate(report.busy):
        for hour, value in enumerate(hours):
            if not math.isnan(value):
                colour = "#ffffff" if value <= middle else "#111111"
                said = axes.text(hour, weekday, f"{value:.0f}", ha="center", va="center", color=colour, fontsize=8)
                said.set_in_layout(False)  # it is within the axes: measuring 168 of them takes a fifth of the time
    axes.figure.colorbar(image, ax=axes, label="devices here at a time, mean", fraction=0.03)


def _new(report: Report, axes: Axes) -> None:
    names = [f"{each.monday.day} {each.monday:%b}" for each in report.new]
    places = list(range(len(names)))
    bottom = [0] * len(names)
    for standing, colour in _STANDINGS:
        values = [each.by_standing[standing] for each in report.new]
        axes.bar(places, values, 0.7, bottom=bottom, color=colour, label=standing, edgecolor="white", linewidth=0.6)
        bottom = [low + value for low, value in zip(bottom, values, strict=True)]
    every = max(1, len(names) // 14)
    axes.set_xticks(places[::every], names[::every])
    axes.set_xlim(-0.6, max(6, len(names)) - 0.4)
    axes.set(
        title="New devices per week", xlabel="week, by its Monday", ylabel="devices that joined for the first time"
    )
    _whole(axes)
    axes.figure.legend(title="standing now", ncols=4, loc="outside lower left", alignment="left")


def _vendors(report: Report, axes: Axes) -> None:
    _groups(report.vendors, "Vendors", axes)


def _kinds(report: Report, axes: Axes) -> None:
    _groups(report.kinds, "Kinds (guessed)", axes)


def _groups(groups: Sequence[Group], title: str, axes: Axes) -> None:
    """Draw the largest groups, and the others together."""
    shown = list(groups[:_GROUPS])
    rest = groups[_GROUPS:]
    if rest:
        others = f"{len(rest)} others"
        shown.append(Group(others, sum(each.devices for each in rest), sum(each.present for each in rest)))
    names = [_short(each.name) for each in shown]
    places = list(range(len(shown)))
    gone = [each.devices - each.present for each in shown]
    here = [each.present for each in shown]
    axes.barh(places, here, 0.7, color=_BLUE, label="here at the end of the period")
    axes.barh(places, gone, 0.7, left=here, color=_SKY, label="not here then")
    axes.set_yticks(places, names)
    axes.invert_yaxis()
    axes.grid(axis="x")
    axes.grid(visible=False, axis="y")
    axes.set(title=title, xlabel="devices", ylabel="")
    axes.xaxis.get_major_locator().set_params(integer=True)
    axes.legend(loc="lower right")


def _addresses(report: Report, axes: Axes) -> None:
    """Draw each subnet's addresses in rows, subnets one below the other."""
    from matplotlib.colors import ListedColormap
    from matplotlib.patches import Patch

    colours = [colour for _, colour, _ in _USES]
    numbers: dict[Use, float] = {use: float(number) for number, (use, _, _) in enumerate(_USES)}
    rows: list[list[float]] = []
    ticks: list[tuple[int, str]] = []
    across = ACROSS * 2
    for subnet in report.subnets:
        cells = [numbers.get(cell.use, math.nan) for cell in subnet.use.cells()]
        firsts = [cell.first for cell in subnet.use.cells()]
        if rows:
            rows.append([math.nan] * across)
        for begin in range(0, len(cells), across):
            ticks.append((len(rows), str(firsts[begin])))
            group = cells[begin : begin + across]
            rows.append(group + [math.nan] * (across - len(group)))
    axes.grid(False)
    axes.set(
        title="Address use", xlabel="squares after the first address of the row", ylabel="first address of the row"
    )
    if not rows:
        axes.text(0.5, 0.5, "no subnet is known yet", ha="center", transform=axes.transAxes)
        return
    colours_of = ListedColormap(colours)
    axes.pcolormesh(rows, cmap=colours_of, vmin=-0.5, vmax=len(colours) - 0.5, edgecolors="white", linewidth=0.8)
    axes.invert_yaxis()
    axes.set_aspect("equal")
    axes.figure.set_size_inches(_INCHES[0], _height(1.8 + _SQUARE_INCHES * len(rows)))
    axes.set_yticks([place + 0.5 for place, _ in ticks], [text for _, text in ticks], fontsize=8)
    axes.set_xticks([place + 0.5 for place in range(0, across, 4)], [f"+{place}" for place in range(0, across, 4)])
    counts = {use: sum(each.use.counts.get(use, 0) for each in report.subnets) for use, _, _ in _USES}
    patches = [
        Patch(facecolor=colour, edgecolor="#777269", label=f"{words} ({counts[use]})")
        for use, colour, words in _USES
        if counts[use]
    ]
    axes.figure.legend(handles=patches, ncols=4, loc="outside lower left")


def _dates(axes: Axes) -> None:
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    locator = AutoDateLocator(minticks=4, maxticks=10)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]


def _whole(axes: Axes) -> None:
    """Set whole numbers on an axis of devices."""
    axes.yaxis.get_major_locator().set_params(integer=True)


def _short(name: str) -> str:
    """Return a name beside a row; Matplotlib would read dollars as mathematics."""
    cut = name if len(name) <= _NAME else f"{name[: _NAME - 1]}…"
    return cut.replace("$", r"\$")


FIGURES: Mapping[str, Callable[[Report, Axes], None]] = {
    "presence": _presence,
    "comings": _comings,
    "hours": _hours,
    "busy-hours": _busy,
    "new-devices": _new,
    "vendors": _vendors,
    "kinds": _kinds,
    "addresses": _addresses,
}
