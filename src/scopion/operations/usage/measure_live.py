"""Measures who uses the line just now: reads every counter again and again, each source at its own pace.

A source that is slow, or fails, keeps no other waiting: its last figures stay until they are old.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import Future, wait
from dataclasses import dataclass, replace
from itertools import zip_longest
from pathlib import Path

from scopion.attachment.lane import Lane
from scopion.attachment.system_clock import pass_time
from scopion.model.errors import EnforcerUnreachable, NotFound, ScopionError
from scopion.model.usage import UsageSource
from scopion.operations.intake.count_octets import counts_of_known, station_counts
from scopion.operations.site.open_site import Site
from scopion.operations.site.snmp_settings import SwitchSettings
from scopion.operations.usage.list_usage import nothing_counted
from scopion.operations.usage.live_counter import LiveCounter
from scopion.operations.usage.read_meters import read_meter
from scopion.operations.wifi.open_enforcers import read_stations
from scopion.operations.wires.fold_wires import look_at_wires
from scopion.operations.wires.read_switches import read_counters
from scopion.roster.usage.counters import CountRead, Rate
from scopion.roster.wires.switches import known_ports, known_switches
from scopion.roster.wires.wire_stays import lone_adapters

_WINDOW_S = 10.0  # a rate is that of the last seconds, or of a longer time that was asked for
_EVERY_S = 1.0
_FIRST_S = 8.0  # a connection over SSH takes some seconds


@dataclass(frozen=True, slots=True)
class LiveSource:
    """Something that counts, and how to read it."""

    name: str
    read: Callable[[Site], list[CountRead]]


# When it was read, by the monotonic clock, and what. An answer may wait for its turn, and then is older than it looks.
_Answer = tuple[float, list[CountRead]]


def _timed(source: LiveSource, site: Site) -> _Answer:
    began = site.clock.monotonic()
    read = source.read(site)
    return (began + site.clock.monotonic()) / 2, read


class _Reader:
    """A thread that reads one source. It has a site of its own: a roster is used by the thread that opened it."""

    def __init__(self, folder: Path, source: LiveSource) -> None:
        self._site = Site(folder)
        self._source = source
        self._lane = Lane(source.name)
        self._running: Future[_Answer] | None = None

    def begin(self) -> None:
        """Read, unless that goes on still."""
        if self._running is None:
            self._running = self._lane.begin(_timed, self._source, self._site)

    def answer(self, within_s: float) -> Callable[[], _Answer] | None:
        """Return what gives the answer, or raises its error; None if it has not come in time."""
        running = self._running
        if running is None or running not in wait([running], max(0.0, within_s)).done:
            return None
        self._running = None
        return running.result

    def close(self) -> None:
        """Close what it has opened, once its reading has ended; nothing waits for that."""
        self._lane.submit(self._site.close)
        self._lane.submit(None)


class LiveMeasure:
    """Reads sources, and knows the rates of the last seconds."""

    def __init__(self, site: Site, window_s: float = _WINDOW_S) -> None:
        self._site = site
        self._window_s = max(window_s, _WINDOW_S)
        self.problems: dict[str, str] = {}  # by source, why it cannot be read
        self._read: dict[tuple[str, str], LiveCounter] = {}
        self._learn_ports()
        self._sources = list(_sources(site))
        # A made-up site answers at once, and its clock goes on for this process only.
        self._readers = [] if site.story is not None else [_Reader(site.folder, each) for each in self._sources]

    @property
    def sources(self) -> list[str]:
        """Return what is read, in words."""
        return [each.name for each in self._sources]

    def turn(self, within_s: float) -> None:
        """Read every source that is not being read still, and wait for answers, but not longer than ``within_s``."""
        ends = self._site.clock.monotonic() + within_s
        for reader in self._readers:
            reader.begin()
        for source, reader in zip_longest(self._sources, self._readers):
            if reader is None:
                self._take(source, lambda source=source: _timed(source, self._site))  # type: ignore[misc]
            elif (answer := reader.answer(ends - self._site.clock.monotonic())) is not None:
                self._take(source, answer)

    def rates(self) -> list[Rate]:
        """Return the rates of the last seconds; a lone adapter at a port has those of its port."""
        found: list[Rate] = []
        now = self._site.clock.monotonic()
        for counter in self._read.values():
            if (rate := counter.rate(now)) is None:
                continue
            last = counter.changes[-1].read
            told = (last.where, rate.up_bps, rate.down_bps, self._site.clock.now(), rate.seconds)
            found.append(Rate(last.source, last.subject, *told))
            if last.also:
                found.append(Rate(UsageSource.CABLE, last.also, *told))
        return found

    def close(self) -> None:
        """Leave what is being read: the process ends, or goes on without it."""
        for reader in self._readers:
            reader.close()

    def _learn_ports(self) -> None:
        """Read the switches whole if one never was: what a port counts says little while no one knows who is there."""
        known = known_switches(self._site.roster_for_reading())
        if all(each.name in known and known[each.name].read is not None for each in self._site.settings.switch):
            return
        try:
            look_at_wires(self._site)
        except ScopionError as error:  # of one who may not write into this roster
            self.problems["ports"] = str(error)

    def _take(self, source: LiveSource, result: Callable[[], _Answer]) -> None:
        try:
            at, read = result()
        except ScopionError as error:
            self.problems[source.name] = str(error)
            return
        self.problems.pop(source.name, None)
        for each in read:
            self._read.setdefault((each.source, each.key or each.subject), LiveCounter(self._window_s)).take(at, each)


def _sources(site: Site) -> Iterator[LiveSource]:
    """Yield all that can be read."""
    for switch in site.settings.switch:
        yield LiveSource(switch.name, lambda own, switch=switch: _ports(own, switch))  # type: ignore[misc]
    for meter in site.settings.meter:
        yield LiveSource(meter.name, lambda own, meter=meter: read_meter(own, meter))  # type: ignore[misc]
    if site.settings.enforcer:
        yield LiveSource("access points", _stations)


def _ports(site: Site, switch: SwitchSettings) -> list[CountRead]:
    roster = site.roster_for_reading()
    return counts_of_known(read_counters(site, switch), known_ports(roster), lone_adapters(roster))


def _stations(site: Site) -> list[CountRead]:
    """Return the counts of stations. They tell their time in whole seconds: ours is better for a few of them."""
    found, unread = read_stations(site)
    if not found and unread:
        raise EnforcerUnreachable("; ".join(f"{each.enforcer}: {each.problem}" for each in unread))
    read = station_counts(found)
    return [replace(each, count=replace(each.count, own_s=None, from_zero=False)) for each in read]


def measured(site: Site, seconds: float) -> tuple[list[Rate], dict[str, str]]:
    """Return the rates of some seconds, and what could not be read and why. Raises NotFound if nothing counts."""
    measure = LiveMeasure(site, seconds)
    if not measure.sources:
        raise NotFound(nothing_counted(site))
    try:
        measure.turn(_FIRST_S)
        at = site.clock.monotonic()
        ends = at + seconds
        while at < ends:
            at = min(ends, max(at + _EVERY_S, site.clock.monotonic()))
            pause(site, at)
            measure.turn(_EVERY_S)
        measure.turn(_FIRST_S)
        return measure.rates(), dict(measure.problems)
    finally:
        measure.close()


def pause(site: Site, until: float) -> None:
    """Wait until a monotonic moment; a made-up site's clock goes on by itself."""
    pass_time(site.attachment.clock, until)
