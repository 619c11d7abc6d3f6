"""The part of the watch that reads switches: where each adapter hangs, and what the ports count.

Each switch has a thread of its own, so that one that answers slowly keeps no other waiting.
"""

from __future__ import annotations

from collections.abc import Callable

from scopion.model.device import EventKind
from scopion.model.errors import ScopionError
from scopion.model.wires import SwitchReading
from scopion.operations.site.snmp_settings import SwitchSettings
from scopion.operations.wires.fold_wires import fold_wires, note_unreadable
from scopion.operations.wires.read_switches import read_switch
from scopion.watching.watch_context import WatchContext

# What a switch told longer ago says nothing of what is now.
_READINGS_LAST = 3
# In a busy place a device comes every few seconds.
_NOT_SOONER_S = 10.0


class Switches:
    """Reads each switch at its interval."""

    def __init__(self, context: WatchContext) -> None:
        self._context = context
        self._next: dict[str, float] = {each.name: context.clock.monotonic() for each in context.site.settings.switch}
        self._last: dict[str, float] = {}  # when each was begun to be read
        self._joined = context.counts.events[EventKind.JOINED]
        self._tried: set[str] = set()
        self._readings: dict[str, tuple[float, SwitchReading]] = {}  # the latest, and when it was taken

    @property
    def have_been_read(self) -> bool:
        """Tell whether each was read, or tried, at least once."""
        return len(self._tried) == len(self._next)

    def wake_at(self) -> float:
        """Return when one is to be read next."""
        return min(
            (at for name, at in self._next.items() if not self._context.executor.busy(_lane(name))),
            default=float("inf"),
        )

    def learnt(self) -> None:
        """Read the switches soon if a device has joined: they tell where it hangs, and its alert waits for that."""
        joined, before = self._context.counts.events[EventKind.JOINED], self._joined
        self._joined = joined
        if joined > before:
            now = self._context.clock.monotonic()
            for name, at in self._next.items():
                self._next[name] = min(at, max(now, self._last.get(name, float("-inf")) + _NOT_SOONER_S))

    def turn(self, now: float) -> None:
        """Start what is due."""
        for each in self._context.site.settings.switch:
            if self._next[each.name] <= now and not self._context.executor.busy(_lane(each.name)):
                self._last[each.name] = now
                self._next[each.name] = now + self._context.site.settings.watch.switches_s
                self._context.executor.start(_lane(each.name), self._reader(each), self._taker(each.name))

    def _reader(self, settings: SwitchSettings) -> Callable[[], SwitchReading]:
        return lambda: read_switch(self._context.site, settings)

    def _taker(self, name: str) -> Callable[[SwitchReading | None, BaseException | None], None]:
        def take(reading: SwitchReading | None, error: BaseException | None) -> None:
            self._tried.add(name)
            context = self._context
            doing = f"reading the switch {name}"
            if error is not None and not isinstance(error, ScopionError):
                raise error
            with context.contained(doing):
                if error is not None or reading is None:
                    self._readings.pop(name, None)
                    note_unreadable(context.site, name, str(error))
                    context.trouble(doing, str(error))
                    return
                context.works(doing)
                self._fold(name, reading)

        return take

    def _fold(self, name: str, reading: SwitchReading) -> None:
        context, now = self._context, self._context.clock.monotonic()
        oldest = now - _READINGS_LAST * context.site.settings.watch.switches_s
        self._readings[name] = (now, reading)
        self._readings = {each: kept for each, kept in self._readings.items() if kept[0] >= oldest}
        taken = fold_wires(context.site, {each: kept[1] for each, kept in self._readings.items()}, [name])
        if taken.events:
            context.tell(taken.events, taken.devices)
        for remark in reading.remarks:
            context.remark(f"the switch {name}", remark)


def _lane(name: str) -> str:
    return f"switch {name}"
