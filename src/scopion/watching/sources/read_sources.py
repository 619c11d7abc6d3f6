"""The part of the watch that reads what other machines record: lease files, and the address tables of routers."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from scopion.attachment.ports import NeighbourState
from scopion.discovery.records.reading import RecordContext
from scopion.discovery.records.registry import read_record
from scopion.model.errors import NotFound, ScopionError
from scopion.model.observation import Observation, Source
from scopion.operations.intake.take_in import take_in
from scopion.operations.site.reach_machine import snmp_access
from scopion.operations.site.snmp_settings import RouterSettings
from scopion.watching.watch_context import WatchContext

LANE = "read"


@dataclass(slots=True)
class RecordSource:
    """Something to read now and then."""

    called: str
    every_s: float
    read: Callable[[], Sequence[Observation]]
    next_at: float
    attempts: int = 0


class Sources:
    """Reads each record at its interval."""

    def __init__(self, context: WatchContext) -> None:
        self._context = context
        site, now = context.site, context.clock.monotonic()
        settings = site.settings
        self._changed: dict[Path, float] = {}
        self._records = [
            RecordSource(f"reading {path}", settings.watch.leases_s, lambda path=path: self._leases(path), now)  # type: ignore[misc]
            for path in (site.folder / each for each in settings.watch.leases)
        ]
        self._records += [
            RecordSource(
                f"asking router {router.address}",
                settings.watch.routers_s,
                lambda router=router: self._table(router),  # type: ignore[misc]
                now,
            )
            for router in settings.router
        ]
        self._unread = len(self._records)

    @property
    def have_been_read(self) -> bool:
        """Tell whether each was read, or tried, at least once."""
        return self._unread == 0

    def wake_at(self) -> float:
        """Return when something is to be read next."""
        return min((each.next_at for each in self._records), default=float("inf"))

    def turn(self, now: float) -> None:
        """Start what is due."""
        for record in self._records:
            if record.next_at <= now and not self._context.executor.busy(LANE):
                record.next_at = now + record.every_s
                self._start(record)

    def _start(self, record: RecordSource) -> None:
        def finish(seen: Any, error: BaseException | None) -> None:
            self._finish(record, seen, error)

        self._context.executor.start(LANE, record.read, finish)

    def _finish(self, record: RecordSource, seen: Sequence[Observation] | None, error: BaseException | None) -> None:
        context = self._context
        self._unread -= record.attempts == 0
        record.attempts += 1
        changed, self._changed = self._changed, {}  # to be read once more unless all goes well
        if isinstance(error, OSError) and not isinstance(error, ScopionError):
            context.trouble(record.called, error.strerror or str(error))
            return
        with context.contained(record.called):
            self._take_in(record, seen or (), error)
            self._changed = changed

    def _take_in(self, record: RecordSource, seen: Sequence[Observation], error: BaseException | None) -> None:
        context = self._context
        if error is not None:
            raise error
        taken = take_in(context.site, seen)
        context.works(record.called)
        context.counts.observations.update(str(each.source) for each in seen)
        if seen:
            context.outdated()
        context.tell(taken.events, taken.devices)

    def _leases(self, path: Path) -> Sequence[Observation]:
        """Return what a lease file tells, if it has changed since it was read last. Raises OSError, ScopionError."""
        now = path.stat()
        if self._changed.get(path) == now.st_mtime or not now.st_size:  # there is no lease yet
            return ()
        with path.open("rb") as stream:
            try:
                found = read_record(stream, RecordContext(self._context.clock.now())).observations
            except NotFound:  # no lease is given out
                found = []
        self._changed[path] = now.st_mtime
        return found

    def _table(self, router: RouterSettings) -> Sequence[Observation]:
        """Return the hosts that a router has met just now. Raises RouterUnreadable, InvalidSettings."""
        site = self._context.site
        table = site.attachment.router_table(snmp_access(site.folder, router, f"router {router.address}"))
        now = site.clock.now()
        met = (NeighbourState.REACHABLE, NeighbourState.FIXED)
        ranges = [each.range for each in site.settings.here if each.router == router.address]
        return [
            Observation(entry.mac, entry.address, now, Source.ROUTER)
            for entry in table
            if entry.mac and entry.state in met and any(entry.address in each for each in ranges)
        ]
