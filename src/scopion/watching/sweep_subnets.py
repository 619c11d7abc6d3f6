"""The part of the watch that sweeps each subnet at its interval, one at a time, and judges the result.

A subnet in which no device answers is down, which is told once. A subnet with another gateway is another network, and
nothing of it is remembered until this machine is back.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Network
from typing import Any

from scopion.attachment.choose import what_happened
from scopion.attachment.ports import Interface
from scopion.model.errors import InterfaceLost, NoInterface, ScopionError
from scopion.operations.intake.take_in import TakenIn, tell_back, tell_down
from scopion.operations.scan.prepare_scan import ScanRequest, prepare_scan
from scopion.operations.scan.run_scan import run_prepared
from scopion.operations.scan.scan_result import ScanResult
from scopion.operations.site.open_site import Site
from scopion.watching.watch_context import WatchContext, log
from scopion.watching.watched_subnets import WatchedSubnet

LANE = "sweep"
# One sweep without any answer may be a switch that restarts; this many in a row are an outage.
SILENT_SWEEPS = 2
_CONFIRMED_S = 10.0  # the second one comes soon
# A network that is not the site's is looked at again this much less often.
_ELSEWHERE = 10
# After a sweep that takes long the network gets this much rest.
_REST = 2.0
# A sweep that was asked for out of turn comes not sooner than this after the last.
_NOT_SOONER_S = 5.0


class SubnetState(StrEnum):
    """Whether a subnet is the site's."""

    UNKNOWN = "unknown"
    HERE = "here"
    ELSEWHERE = "elsewhere"
    DOWN = "down"


@dataclass(slots=True)
class Swept:
    """A subnet that is swept, and its state."""

    watched: WatchedSubnet
    interval_s: float
    next_at: float
    place: SubnetState = SubnetState.UNKNOWN
    why: str = ""  # why it is elsewhere or down
    silent: int = 0  # sweeps in a row without any answer
    sweeping: bool = False
    last_at: float = float("-inf")

    @property
    def is_in_doubt(self) -> bool:
        """Tell whether no device has answered, and that is not certain yet."""
        return 0 < self.silent < SILENT_SWEEPS


class Sweeping:
    """Schedules sweeps and takes their results."""

    def __init__(self, context: WatchContext, sweeper: Callable[[], Site], on_result: Callable[[Swept], None]) -> None:
        self._context = context
        self._sweeper = sweeper  # the site for the thread that sweeps
        self._on_result = on_result
        self.swept: dict[IPv4Network, Swept] = {}

    def look_after(self, plots: Sequence[WatchedSubnet], now: float) -> None:
        """Sweep exactly these from now on; a subnet whose interface has changed is swept at once."""
        for subnet in self.swept.keys() - {each.subnet for each in plots}:
            swept = self.swept.pop(subnet)
            log.warning("%s cannot be seen any more from %s", subnet, swept.watched.interface.name)
        for watched in plots:
            known = self.swept.get(watched.subnet)
            if known is None:
                interval = self._context.site.settings.interval_of(watched.subnet)
                self.swept[watched.subnet] = Swept(watched, interval, now)
                log.info("looking after %s from %s, every %g s", watched.subnet, watched.interface.name, interval)
            elif known.watched.interface != watched.interface:
                happened = _change(known.watched.interface, watched.interface, watched.subnet)
                if happened:
                    log.warning("%s: %s, looking again", watched.subnet, happened)
                    known.place, known.next_at = SubnetState.UNKNOWN, now
                known.watched = watched

    def soon(self, subnet: IPv4Network | None = None) -> None:
        """Sweep out of turn: one subnet, or all."""
        now = self._context.clock.monotonic()
        for swept in self.swept.values():
            if subnet in (None, swept.watched.subnet):
                swept.next_at = min(swept.next_at, max(now, swept.last_at + _NOT_SOONER_S))

    def wake_at(self) -> float:
        """Return when the next sweep is due."""
        if self._context.executor.busy(LANE):
            return float("inf")
        return min((each.next_at for each in self.swept.values() if not each.sweeping), default=float("inf"))

    def turn(self, now: float) -> None:
        """Start what is due, if nothing is being swept."""
        if self._context.executor.busy(LANE):
            return
        due = sorted((each for each in self.swept.values() if each.next_at <= now), key=lambda each: each.next_at)
        if due:
            self._start(due[0])

    def _start(self, swept: Swept) -> None:
        swept.sweeping = True
        watched = swept.watched
        request = ScanRequest(targets=(str(watched.subnet),), interface=watched.interface.name)

        def sweep() -> ScanResult:
            site = self._sweeper()
            return run_prepared(site, prepare_scan(site, request))

        def finish(result: Any, error: BaseException | None) -> None:
            self._finish(swept, result, error)

        self._context.executor.start(LANE, sweep, finish)

    def _finish(self, swept: Swept, result: ScanResult | None, error: BaseException | None) -> None:
        context, now = self._context, self._context.clock.monotonic()
        first = swept.last_at == float("-inf")
        swept.sweeping, swept.last_at = False, now
        doing = f"sweeping {swept.watched.subnet}"
        if result is None:
            assert error is not None
            context.counts.sweeps["failed"] += 1
            swept.next_at = now + swept.interval_s
            if not isinstance(error, ScopionError) or not context.keeping(doing, error):
                raise error
            if isinstance(error, InterfaceLost | NoInterface):
                self._silent(swept, str(error))
            return
        self._schedule(swept, first, now, result.findings.duration_s)
        context.counts.sweeps["complete" if result.findings.completed else "partial"] += 1
        context.counts.observations.update(str(each.source) for each in result.findings.observations)
        if result.not_remembered:
            context.trouble(doing, result.not_remembered)
            return
        context.works(doing)
        self._judge(swept, result)

    def _schedule(self, swept: Swept, first: bool, now: float, took: float) -> None:
        """Set when it is swept next: after its interval; several subnets are spread over it."""
        if first:
            order = list(self.swept.values())
            place = order.index(swept) if swept in order else 0
            swept.next_at = now + swept.interval_s * (place + 1) / max(1, len(order))
            return
        swept.next_at += swept.interval_s
        if swept.next_at < now:  # the machine was busy or asleep: missed sweeps are not made up for
            swept.next_at = now + swept.interval_s
        if took > swept.interval_s:
            swept.next_at = max(swept.next_at, now + _REST * took)

    def _judge(self, swept: Swept, result: ScanResult) -> None:
        """Decide whether this is the site's, another network, or one that is down."""
        context, subnet = self._context, swept.watched.subnet
        alone = all(host.own for host in result.hosts)
        if alone and result.findings.completed and self._is_anybody_expected(swept):
            self._silent(swept, "")
        elif result.folded:
            self._stands(swept, SubnetState.HERE, "")
            swept.silent = 0
            if result.doubt:
                log.warning("%s: %s, so no device counts as gone yet", subnet, result.doubt)
                swept.next_at = min(swept.next_at, context.clock.monotonic() + _CONFIRMED_S)
            context.outdated()
            context.tell(result.events, result.devices)
            if result.baseline:
                log.info("%s: this is its baseline, %d devices", subnet, len(result.hosts))
            if result.memory_lost:
                log.error("the roster was damaged and is kept as %s; a new one was begun", result.memory_lost)
            self._told(f"telling that {subnet} is back", lambda: tell_back(context.site, subnet))
        else:
            swept.next_at += (_ELSEWHERE - 1) * swept.interval_s
            self._stands(swept, SubnetState.ELSEWHERE, result.recognition.reason)
        self._on_result(swept)

    def _is_anybody_expected(self, swept: Swept) -> bool:
        """Tell whether other devices were here: in an empty subnet none can be missed."""
        own = {each.mac for each in self._context.site.attachment.interfaces()}
        holders = self._context.known.holders.items()
        return any(address in swept.watched.subnet and set(macs) - own for address, macs in holders)

    def _silent(self, swept: Swept, why: str) -> None:
        swept.silent += 1
        self._context.memory.note_reachable(swept.watched.subnet, self._context.clock.now(), down=True)
        if swept.is_in_doubt:
            swept.next_at = min(swept.next_at, self._context.clock.monotonic() + _CONFIRMED_S)
        if swept.silent >= SILENT_SWEEPS and swept.place is not SubnetState.ELSEWHERE:
            self._stands(swept, SubnetState.DOWN, why or "no device answers any more")
            subnet = swept.watched.subnet
            self._told(f"telling that {subnet} is down", lambda: tell_down(self._context.site, subnet, why))

    def lost(self, subnet: IPv4Network, why: str) -> None:
        """Note that a subnet of the site is not attached any more, and has not come back for a while."""
        self._told(f"telling that {subnet} is down", lambda: tell_down(self._context.site, subnet, why))

    def _told(self, doing: str, tell: Callable[[], TakenIn]) -> None:
        with self._context.doing(doing):
            taken = tell()
            self._context.tell(taken.events, taken.devices)

    def _stands(self, swept: Swept, place: SubnetState, why: str) -> None:
        if swept.place is place:
            return
        swept.place, swept.why = place, why
        subnet = swept.watched.subnet
        if place is SubnetState.HERE:
            log.info("%s: this is %s", subnet, self._context.site.name)
        elif place is SubnetState.ELSEWHERE:
            log.warning("%s is not the site's network: %s. Nothing of it is remembered", subnet, why)
        else:
            log.warning("%s is down: %s. No device counts as gone", subnet, why)


def _change(before: Interface, now: Interface, subnet: IPv4Network) -> str:
    """Return what has become of an interface, if it may be another network now; empty for what does not matter."""
    if before.gateway != now.gateway:
        return f"the gateway of {now.name} is {now.gateway or 'gone'}, it was {before.gateway or 'none'}"
    own = next((each.ip for each in before.addresses if each.network == subnet), None)
    if own is None or before.name != now.name:
        return f"it is reached by {now.name} now"
    return what_happened(before, now, own)
