"""Looks after one place: each turn it looks at the clocks and the interfaces, and lets its parts do what is due.

It decides and never waits; an ``Executor`` runs what takes time. The driver calls ``turn``, and waits until the moment
that it returns, or until something was done or heard. The watch of a site and a sensor are both this, with other parts.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import timedelta
from ipaddress import IPv4Network
from typing import Protocol

from scopion.attachment.ports import Interface
from scopion.model.clock import spoken_span
from scopion.model.errors import DamagedRoster, ScopionError
from scopion.model.text import counted
from scopion.operations.site.open_site import Site
from scopion.operations.site.site_places import settle_home
from scopion.roster.outbox import move_with_the_clock
from scopion.roster.scans import known_subnets
from scopion.roster.store.open_roster import FILE as ROSTER_FILE
from scopion.roster.upkeep.mend_clock import bring_back_from_the_future, note_clocks, set_back_since
from scopion.watching.clock_watch import ClockWatch, Jump
from scopion.watching.executors import Executor
from scopion.watching.hear_devices import Listening
from scopion.watching.sweep_subnets import SubnetState, Sweeping, Swept
from scopion.watching.watch_context import WatchContext, log
from scopion.watching.watch_memory import WatchMemory
from scopion.watching.watched_subnets import WatchedSubnet, missing, strange, watched_subnets

# After this an interface that went away is an outage.
_OUTAGE_AFTER_S = 120.0


class Part(Protocol):
    """A part of a watch: its work is due at moments, and never takes long."""

    def turn(self, now: float) -> None:
        """Start what is due."""

    def wake_at(self) -> float:
        """Return when something is due next; far away while it is being done."""


class LookingAfter:
    """Sweeps the subnets of a place and listens there; its other parts are added by who makes it."""

    def __init__(
        self,
        site: Site,
        executor: Executor,
        memory: WatchMemory,
        sweeper: Callable[[], Site],
        clock_watch: ClockWatch | None = None,
    ) -> None:
        self.context = WatchContext(site, executor, memory)
        self.sweeping = Sweeping(self.context, sweeper, self._on_result)
        self.listening = Listening(self.context, site.attachment.rights(), self.sweeping.soon)
        self.parts: dict[str, Part] = {"sweeping": self.sweeping, "listening": self.listening}
        self.last_parts: dict[str, Part] = {}  # after the known devices were read again
        self._clocks = clock_watch or ClockWatch(site.clock)
        self._has_looked_back = False
        self._look_at = 0.0
        self._without_ground_since: float | None = None
        self._open_roster()

    def _open_roster(self) -> None:
        """Open the roster before anything else: one that cannot be written is told now, not in the night."""
        try:
            _ = self.context.site.roster
        except DamagedRoster as error:
            log.error("%s", error)
            _ = self.context.site.roster
        settle_home(self.context.site, self.context.site.roster)

    @property
    def in_a_line(self) -> str:
        """Return its state in a line, for the service manager."""
        said = f"{counted(self.context.known.devices, 'device')} here"
        return f"{said}; {next(iter(self.context.troubles.values()))}" if self.context.troubles else said

    @property
    def is_well(self) -> bool:
        """Tell whether nothing is wrong just now."""
        return not self.context.troubles

    def turn(self) -> float:
        """Do what is due. Returns the monotonic moment at which something is due next."""
        context = self.context
        context.executor.finished(context.contained)
        now = context.clock.monotonic()
        due = [self._part("the clocks", now, self._look_at_clocks, lambda: float("inf"))]
        due += [self._part("looking around", now, lambda: self._look_around(now), lambda: self._look_at)]
        due.append(self._part("the daily upkeep", now, lambda: self.keep_up(now), self.keep_up_at))
        for name, each in self.parts.items():
            due.append(self._part(name, now, lambda each=each: each.turn(now), each.wake_at))  # type: ignore[misc]
        due.append(self._part("what is known", now, self._learn, lambda: float("inf")))
        for name, each in self.last_parts.items():
            due.append(self._part(name, now, lambda each=each: each.turn(now), each.wake_at))  # type: ignore[misc]
        return min(due)

    def keep_up(self, now: float) -> None:
        """Do what keeps its memory sound, when it is due: nothing, if that ends with the process."""

    def keep_up_at(self) -> float:
        """Return when that is due next."""
        return float("inf")

    def learnt(self) -> None:
        """Let what depends on the known devices be done: they were read again."""
        self.listening.learnt()

    def _learn(self) -> None:
        """Read the known devices again, if anything was folded."""
        with self.context.doing("reading the roster"):
            if self.context.refreshed():
                self.learnt()

    def _part(self, name: str, now: float, turn: Callable[[], None], wake_at: Callable[[], float]) -> float:
        """Let a part do what is due, unless it has failed and rests. Returns when to call it again."""
        context = self.context
        rests = context.rests_until(name)
        if rests > now:
            return rests
        with context.contained(name):
            turn()
            return wake_at()
        return context.rests_until(name)

    def _look_at_clocks(self) -> None:
        if not self._has_looked_back:  # while no watch ran
            site, now = self.context.site, self.context.clock.now()
            set_by = set_back_since(site.roster, site.boot(), now)
            if set_by is not None:  # only what waits: a machine that has just started may not know the time yet
                self._clock_was_set(set_by)
                with site.roster.transaction():  # once, whatever happens next
                    move_with_the_clock(site.roster, set_by, now)
                    note_clocks(site.roster, site.boot(), now)
            self._has_looked_back = True
        jump = self._clocks.look()
        if jump is not None:
            self._on_jump(jump)

    def _look_around(self, now: float) -> None:
        """Look at the interfaces, and at what they mean for sweeping and listening."""
        if now < self._look_at:
            return
        self._look_at = now + self.context.look_every_s
        site = self.context.site
        if site.leave_replaced_roster():
            log.error("%s was moved away: a new one is begun", site.folder / ROSTER_FILE)
            self.context.outdated()
        try:
            interfaces = site.attachment.interfaces()
            known = {each.range for each in known_subnets(site.roster)}
        except (ScopionError, OSError) as error:
            self.context.trouble("looking at the interfaces", str(error))
            return
        self.context.works("looking at the interfaces")
        wanted = watched_subnets(interfaces, known, site.settings)
        self.sweeping.look_after(wanted, now)
        for each in strange(interfaces, wanted, site.settings):
            advice = "it is watched once a [[subnet]] in site.toml names it"
            self.context.remark(f"{each.subnet} on {each.interface.name}", f"not one of the site's subnets: {advice}")
        self._ground(now, wanted, known, interfaces)
        attached = {each.interface.name: each.interface for each in wanted if not each.routed}
        for name in attached:
            self._place(name)
        self.listening.attend(list(attached.values()), frozenset(each.mac for each in interfaces if each.mac))

    def _ground(
        self, now: float, wanted: Sequence[WatchedSubnet], known: set[IPv4Network], interfaces: Sequence[Interface]
    ) -> None:
        """Note whether this machine is in the site at all; if all subnets are beyond routers it need not be."""
        settings = self.context.site.settings
        named = {each.range for each in settings.here if each.router is None}
        expected = named | known - {each.range for each in settings.here if each.router is not None}
        if any(not each.routed for each in wanted) or (wanted and not expected):
            self._without_ground_since = None
            self.context.works("standing in the site")
            return
        why = missing(expected, interfaces, settings)
        self.context.trouble("standing in the site", why)
        if self._without_ground_since is None:
            self._without_ground_since = now
        # With another network this machine was carried away; with none at all something is broken.
        elsewhere = any(each.can_resolve and each.subnets for each in interfaces)
        if not elsewhere and now - self._without_ground_since >= _OUTAGE_AFTER_S:
            for subnet in known:
                self.sweeping.lost(subnet, why)

    def _place(self, interface: str) -> None:
        """Set whether what is heard on an interface is of the site."""
        places = {each.place for each in self.sweeping.swept.values() if each.watched.interface.name == interface}
        self.listening.stands(interface, at_home=SubnetState.HERE in places or SubnetState.DOWN in places)
        if places == {SubnetState.ELSEWHERE}:
            self.listening.drop(interface)

    def _on_result(self, swept: Swept) -> None:
        if not swept.watched.routed:
            self._place(swept.watched.interface.name)

    def _clock_was_set(self, by: timedelta) -> None:
        way = "forward" if by > timedelta() else "back"
        log.warning("the clock was set %s by %s", way, _spoken(abs(by.total_seconds())))

    def _on_jump(self, jump: Jump) -> None:
        """Take note that the clock was set, or that the machine was suspended."""
        context = self.context
        if jump.slept:
            log.warning("this machine has slept for %s", _spoken(jump.slept.total_seconds()))
        if jump.set_by:
            self._clock_was_set(jump.set_by)
            context.memory.clock_was_set(jump.set_by)
            with context.doing("setting the roster's clock"), context.site.roster.transaction():
                if jump.set_by < timedelta():
                    bring_back_from_the_future(context.site.roster, context.clock.now())
                move_with_the_clock(context.site.roster, jump.set_by, context.clock.now())
                note_clocks(context.site.roster, context.site.boot(), context.clock.now())
        if jump.slept:  # no scan looked meanwhile, and the machine may have been carried away
            if context.memory.since is not None:
                context.memory.since = context.clock.now()
            for swept in self.sweeping.swept.values():
                swept.place = SubnetState.UNKNOWN
            self._look_at = 0.0
            self.sweeping.soon()


def _spoken(seconds: float) -> str:
    return spoken_span(timedelta(seconds=seconds))
