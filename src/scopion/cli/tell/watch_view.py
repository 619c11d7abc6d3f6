"""The view while a site is watched: the devices that are here, what happened last, and the state of the watch's parts.

It is drawn again when something has changed, and a clock in between; on standard error, and it is removed at the end.
"""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress
from datetime import timedelta
from typing import TYPE_CHECKING, Any

from scopion.cli.parts.device_rows import device_columns
from scopion.cli.parts.event_rows import kind_style
from scopion.cli.parts.session import Session
from scopion.cli.parts.table import Column, drawn
from scopion.model.address import by_number
from scopion.model.clock import spoken_span
from scopion.model.device import Standing
from scopion.model.errors import ScopionError
from scopion.model.text import counted, plain

if TYPE_CHECKING:
    from scopion.operations.devices.identify_device import Described
    from scopion.watching.sweep_subnets import Swept
    from scopion.watching.watch_site import Watch

# Seconds; the second one only moves the countdown to the next sweep.
_DRAW_EVERY_S, _COUNT_EVERY_S = 0.5, 5.0
_EVENTS = 6
_LEFT_OUT = {"seen", "registered in"}  # all are present, and the room is needed
_WEIGHT = (Standing.UNWANTED, Standing.NEW, Standing.GUEST, Standing.KNOWN)


class WatchView:
    """Draws on standard error from the first turn until it is left."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._live: Any = None
        self._drawn_at = 0.0
        self._drawn: object = None

    def __enter__(self) -> WatchView:
        from rich.console import Console
        from rich.live import Live

        console = Console(stderr=True)
        self._live = Live(console=console, auto_refresh=False, screen=True, vertical_overflow="crop")
        self._live.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._live.stop()

    def on_turn(self, watch: Watch) -> None:
        """Draw again if something may have changed."""
        now = time.monotonic()
        state = (
            watch.context.known,
            watch.context.counts.events.total(),
            dict(watch.context.troubles),
            dict(watch.outbox_state),
        )
        waited = now - self._drawn_at
        if waited < _DRAW_EVERY_S or (state == self._drawn and waited < _COUNT_EVERY_S):
            return
        self._drawn, self._drawn_at = state, now
        with suppress(ScopionError):  # the roster is in use or damaged: the view stays as it is, and the watch goes on
            self._live.update(self._picture(watch), refresh=True)

    def _picture(self, watch: Watch) -> Any:
        from rich.text import Text

        width, height = self._live.console.width, self._live.console.height
        here = sorted(_here(watch), key=_by_weight)
        foot = ["", *_latest(watch, width), "", *_channels(watch)]
        foot += [_styled(f"{doing}: {problem}", fg="red") for doing, problem in watch.context.troubles.items()]
        head = [*_heading(watch, here, width), ""]
        room = max(3, height - len(head) - len(foot) - 2)
        lines = [*head, *_present(watch, here, width, room), *foot]
        return Text.from_ansi("\n".join(lines), no_wrap=True)


def _styled(text: str, **style: Any) -> str:
    import click

    return click.style(plain(text), **style)


def _here(watch: Watch) -> list[Described]:
    from scopion.operations.devices.list_devices import described_devices

    return [each for each in described_devices(watch.context.site) if each.device.present]


def _heading(watch: Watch, here: Sequence[Described], width: int) -> list[str]:
    context = watch.context
    name, standings = f"{context.site.name} is watched", Counter(each.device.standing for each in here)
    counts = ", ".join(f"{standings[each]} {each}" for each in _WEIGHT if standings[each])
    counts = f"   {len(here)} here: {counts}" if here else ""
    now = f"{context.clock.local(context.clock.now()):%a %d %b %H:%M:%S}"
    lines = [f"{_styled(name, bold=True)}{counts}{now:>{max(1, width - len(name) - len(counts) - 1)}}"]
    lines += [_swept(watch, swept) for swept in watch.sweeping.swept.values()]
    for subnet, until in watch.learning.items() if watch.delivering.channels else ():
        said = f"{subnet} is learnt until {context.clock.local(until):%a %d %b %H:%M}: what joins is told once a day"
        said += " (scopion alerts learning --end ends that)"
        lines.append(_styled(said, dim=True))
    return lines


def _swept(watch: Watch, swept: Swept) -> str:
    """Return the state of a subnet, and when it is swept next."""
    context, interface = watch.context, swept.watched.interface
    heard = any(listener.interface == interface for listener in watch.listening.listeners)
    how = "listening" if heard else "not listening"
    place = {"here": "", "unknown": ", being looked at", "elsewhere": ", another network", "down": ", down"}
    why = f": {swept.why}" if swept.why else ""
    due = swept.next_at - context.clock.monotonic()
    following = "now" if swept.sweeping or due <= 0 else f"in {spoken_span(_span(due))}"
    said = f"{swept.watched.subnet} by {interface.name}, {how}; next sweep {following}{place[swept.place]}{why}"
    return _styled(said, fg="red" if swept.place == "down" else None, dim=swept.place == "here")


def _span(seconds: float) -> timedelta:
    return timedelta(seconds=max(0.0, seconds))


def _present(watch: Watch, here: list[Described], width: int, room: int) -> list[str]:
    columns = [column for column in device_columns(watch.context.clock, here) if column.title not in _LEFT_OUT]
    if not here:
        return [_styled("No device is known to be here yet.", dim=True)]
    shown = here
    lines = drawn(shown, columns, width)
    while len(lines) > room and len(shown) > 1:
        shown = shown[: max(1, len(shown) - (len(lines) - room) - 1)]
        lines = drawn(shown, columns, width)
    hidden = len(here) - len(shown)
    return [*lines, _styled(f"and {hidden} more", dim=True)] if hidden else lines


def _by_weight(each: Described) -> tuple[int, float, tuple[int, int, int]]:
    """Return the order: unwanted devices, then those not reviewed yet, the latest first."""
    device = each.device
    latest = -device.first_seen.timestamp() if device.standing is Standing.NEW else 0.0
    return _WEIGHT.index(device.standing), latest, by_number(device.addresses[0])


def _latest(watch: Watch, width: int) -> list[str]:
    from scopion.operations.devices.list_events import event_log

    clock = watch.context.clock
    rows = [
        {"at": f"{clock.local(told.event.at):%a %H:%M}", "kind": str(told.event.kind), "said": told.sentence}
        for told in event_log(watch.context.site, limit=_EVENTS).told
    ]
    if not rows:
        return [_styled("Nothing has happened yet.", dim=True)]
    columns = [
        Column("latest", lambda row: row["at"], lambda _: "dim"),
        Column("event", lambda row: row["kind"], kind_style),
        Column("what", lambda row: row["said"], shrinks=True),
    ]
    return drawn(rows[::-1], columns, width)


def _channels(watch: Watch) -> list[str]:
    """Return one line: each channel, and how many alerts wait for it."""
    waiting, troubles = watch.outbox_state, watch.context.troubles
    said = []
    for name in watch.delivering.channels:
        count, age = waiting.get(name, (0, 0.0))
        if f"channel {name}" in troubles:
            late = f"{counted(count, 'alert')} for {spoken_span(_span(age))}" if count else "in trouble"
            said.append(_styled(f"{name}: waiting, {late}", fg="yellow"))
        else:
            said.append(f"{name}: {counted(count, 'alert')} on the way" if count else f"{name}: ready")
    return [_styled("Alerts by  ", dim=True) + "   ".join(said)] if said else []
