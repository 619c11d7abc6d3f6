"""The part of the watch that hears: a listener for each interface of the site, and what becomes of what is heard.

News is taken in at once; that a device is still there is noted once a minute. If another adapter had a claimed address,
both are asked first, so that a contest is told as what it is.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from contextlib import closing
from datetime import datetime
from ipaddress import IPv4Address, IPv4Network
from typing import Any

from scopion.attachment.ports import Interface, Rights
from scopion.discovery.listening import Gathered
from scopion.discovery.name_task import NameTask
from scopion.discovery.probing import Method, open_prober, plan_for
from scopion.discovery.runner import Findings, run_scan
from scopion.model.address import Address
from scopion.model.device import EventKind
from scopion.model.errors import InterfaceLost, NotPermitted, ScopionError
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation
from scopion.operations.intake.take_in import take_in
from scopion.operations.scan.ask_network import name_servers
from scopion.watching.interface_listener import InterfaceListener
from scopion.watching.watch_context import WatchContext, log

# Devices that are still there are noted this often; news goes at once.
NOTE_EVERY_S = 60.0
# Other news waits this many times as long as taking in the last one took, with the reading of the roster that follows:
# a flood leaves the watch its time, and a device that joins right after another waits for a moment only.
_PAUSES, _LEAST_PAUSE_S, _MOST_PAUSE_S = 10, 0.05, 0.5
# After the roster could not be written: until then what is heard is kept, each pair once.
_AGAIN_S = 5.0
# An address is asked about not more often than this, whichever device claims it.
_CHECK_EVERY_S = 20.0
_MOST_CHECKED = 1024
# This many new devices are asked for their names at a time; with more there is no time for it.
_MOST_NAMED = 16
# The message about a new device waits a little longer than this; later answers come with the next sweep.
_NAMES_WITHIN_S = 0.45
_CHECK_PACE = 200.0
_ARRIVALS = (EventKind.JOINED, EventKind.UNWANTED_PRESENT)


class Listening:
    """The listeners, and the fold of what they hear."""

    def __init__(self, context: WatchContext, rights: Rights, sweep_soon: Callable[[IPv4Network], None]) -> None:
        self._context = context
        self._sweep_soon = sweep_soon
        self._rights = rights
        self._listeners: dict[str, InterfaceListener] = {}
        self._kept = Gathered()
        self._away: set[str] = set()  # interfaces that are not on the site's network, or not for certain
        self._due_at = context.clock.monotonic() + NOTE_EVERY_S
        self._not_before = 0.0
        self._news_began: float | None = None  # when taking in began in this turn, if anything was taken in
        self._checked: dict[IPv4Address, float] = {}
        self._own: frozenset[MacAddress] = frozenset()

    @property
    def listeners(self) -> Collection[InterfaceListener]:
        """Return the running listeners."""
        return self._listeners.values()

    def attend(self, interfaces: Sequence[Interface], own: frozenset[MacAddress]) -> None:
        """Listen on exactly these; an interface that has changed gets a new listener."""
        self._own = own
        wanted = {each.name: each for each in interfaces}
        for name, listener in list(self._listeners.items()):
            if listener.lost or wanted.get(name) != listener.interface:
                if listener.lost:
                    log.warning("listening on %s ended: %s", name, listener.lost)
                if name not in self._away:
                    self._keep(self._count(listener))
                self._context.executor.neglect(listener)
                del self._listeners[name]
        for name, interface in wanted.items():
            if name not in self._listeners and self._rights.raw_frames:
                self._open(interface)
            elif not self._rights.raw_frames:
                doing = f"listening on {name}"
                more = self._rights.how_to_get_more
                self._context.remark(
                    doing, f"not listening, so that a device that joins is noticed by the next sweep only: {more}"
                )

    def _open(self, interface: Interface) -> None:
        try:
            heard = self._context.memory.heard
            listener = InterfaceListener(
                self._context.site.attachment, interface, self._context.executor.wake, self._own, heard
            )
        except (InterfaceLost, NotPermitted) as error:
            self._context.trouble(f"listening on {interface.name}", str(error))
            return
        listener.known = self._context.known
        self._listeners[interface.name] = listener
        self._context.executor.attend(listener)
        self._context.works(f"listening on {interface.name}")

    def stands(self, interface: str, *, at_home: bool) -> None:
        """Set whether what is heard on an interface is of this site; until that is known it is kept."""
        if at_home:
            self._away.discard(interface)
        else:
            self._away.add(interface)

    def learnt(self) -> None:
        """Use the known devices, which were read again, and forget when absent adapters were heard."""
        self._rest()
        self._context.memory.forget_all_but(self._context.known.here)
        for listener in self._listeners.values():
            listener.known = self._context.known

    def drop(self, interface: str) -> None:
        """Drop what was heard there: it is not of this site."""
        if interface in self._listeners:
            self._count(self._listeners[interface])

    def wake_at(self) -> float:
        """Return when something has to be taken in."""
        if any(listener.has_news for name, listener in self._listeners.items() if name not in self._away):
            return self._not_before
        return max(self._due_at, self._not_before)

    def turn(self, now: float) -> None:
        """Take in what is due."""
        self._news_began = None
        if now < self.wake_at():
            return
        self._due_at = now + NOTE_EVERY_S
        self._news_began = self._context.clock.monotonic()
        self._take_in(now)
        self._rest()

    def _rest(self) -> None:
        """Let other news wait, if any was taken in in this turn."""
        if self._news_began is not None:
            now = self._context.clock.monotonic()
            pause = min(max(_PAUSES * (now - self._news_began), _LEAST_PAUSE_S), _MOST_PAUSE_S)
            self._not_before = max(self._not_before, now + pause)

    def _take_in(self, now: float) -> None:
        seen = self._gathered()
        self._ask_clients(now)
        if not seen:
            return
        settled, questioned = self._told_apart(seen, now)
        try:
            taken = take_in(self._context.site, settled)
        except ScopionError as error:
            if not self._context.keeping("remembering what was heard", error):
                raise
            self._keep(settled)
            for claims in questioned.values():
                self._forget_checks(claims)
            self._not_before = now + _AGAIN_S
            return
        self._context.works("remembering what was heard")
        if taken.events or any(map(self._context.known.is_news, settled)):
            self._context.outdated()
        self._context.tell(taken.events, taken.devices)
        arrived = {event.mac for event in taken.events if event.kind in _ARRIVALS}
        self._ask_names([each for each in settled if each.mac in arrived and self._is_alone(each)])
        for interface, claims in questioned.items():
            self._check(interface, claims)

    def _keep(self, seen: Sequence[Observation]) -> None:
        """Keep what could not be remembered, each pair once, and try again soon."""
        for each in seen:
            self._kept.add(each)
        self._due_at = min(self._due_at, self._context.clock.monotonic() + _AGAIN_S)

    def _forget_checks(self, claims: Sequence[Observation]) -> None:
        """Ask about these claims when they come again."""
        self._keep(claims)
        for each in claims:
            if isinstance(each.address, IPv4Address):
                self._checked.pop(each.address, None)

    def _is_alone(self, seen: Observation) -> bool:
        """Tell whether it is the only one at its address: otherwise an answer could come from either."""
        return seen.address is not None and not self._context.known.claims_a_held_address(seen)

    def _gathered(self) -> list[Observation]:
        """Return what all listeners have heard, and what could not be remembered before."""
        kept, self._kept = self._kept.observations(), Gathered()
        found = list(kept)
        for name, listener in self._listeners.items():
            if name not in self._away:
                found += self._count(listener)
        return found

    def _count(self, listener: InterfaceListener) -> list[Observation]:
        heard, counts = listener.take(), self._context.counts
        counts.frames += heard.frames
        counts.malformed += heard.malformed
        counts.dropped += heard.dropped
        counts.passed_over += heard.passed_over
        counts.observations.update(str(each.source) for each in heard.observations)
        return heard.observations

    def _told_apart(
        self, seen: Sequence[Observation], now: float
    ) -> tuple[list[Observation], dict[str, list[Observation]]]:
        """Return what can be taken in, and by interface the claims of addresses that another adapter had."""
        settled: list[Observation] = []
        questioned: dict[str, list[Observation]] = {}
        for each in seen:
            listener = self._listener_of(each)
            claims = self._context.known.has_come(each) and self._context.known.claims_a_held_address(each)
            if not claims or listener is None or not isinstance(each.address, IPv4Address):
                settled.append(each)
            elif now >= self._checked.get(each.address, 0.0):
                self._note_checked(each.address, now)
                questioned.setdefault(listener.interface.name, []).append(each)
        return settled, questioned

    def _listener_of(self, seen: Observation) -> InterfaceListener | None:
        if seen.address is None:
            return None
        return next(
            (listener for listener in self._listeners.values() if listener.interface.reaches(seen.address)), None
        )

    def _ask_clients(self, now: float) -> None:
        """Ask for clients that have just asked a DHCP server for an address: its answer went to them alone."""
        for name, listener in self._listeners.items():
            wanted = {
                address
                for address in listener.take_requests().values()
                if name not in self._away and now >= self._checked.get(address, 0.0)
            }
            for address in wanted:
                self._note_checked(address, now)
            if wanted:
                self._check(name, (), sorted(wanted))

    def _note_checked(self, address: IPv4Address, now: float) -> None:
        if len(self._checked) >= _MOST_CHECKED:
            self._checked.pop(next(iter(self._checked)))
        self._checked[address] = now + _CHECK_EVERY_S

    def _check(self, interface: str, claims: Sequence[Observation], more: Sequence[IPv4Address] = ()) -> None:
        """Ask for addresses that are claimed, or will be used in a moment; fold claims and answers together."""
        context, listener = self._context, self._listeners[interface]
        began = context.clock.now()
        addresses = [*(each.address for each in claims if isinstance(each.address, IPv4Address)), *more]
        own = listener.interface.address_in(addresses[0])
        expected: dict[Address, list[MacAddress]] = {
            address: list(context.known.holders.get(address, ())) for address in addresses
        }
        attachment = context.site.attachment

        def ask() -> Findings:
            with closing(open_prober(Method.ARP, attachment, listener.interface, own)) as prober:
                return run_scan(addresses, prober, attachment, plan_for(Method.ARP, _CHECK_PACE), expected)

        def finish(found: Any, error: BaseException | None) -> None:
            answers: list[Observation] = found.observations if isinstance(found, Findings) else []
            asked = found.asked_enough if isinstance(found, Findings) else set()
            if claims or answers or error is not None:
                subnet = next((each for each in listener.interface.subnets if addresses[0] in each), None)
                self._conclude([*claims, *answers], asked, began, error, subnet)
            # The adapter at the gateway's address decides whether this is the site: a sweep tells, and what has
            # changed.
            for subnet in {
                context.known.gateways[address] for address in addresses if address in context.known.gateways
            }:
                self._sweep_soon(subnet)

        context.executor.start("ask", ask, finish)

    def _conclude(
        self,
        seen: Sequence[Observation],
        asked: Collection[Any],
        began: datetime,
        error: BaseException | None,
        subnet: IPv4Network | None,
    ) -> None:
        context = self._context
        if error is not None and not context.keeping("asking who has an address", error):
            raise error
        try:
            taken = take_in(context.site, seen, asked, began, subnet)
        except ScopionError as problem:
            if not context.keeping("remembering what was heard", problem):
                raise
            self._keep(seen)
            return
        context.outdated()
        context.tell(taken.events, taken.devices)
        arrived = {event.mac for event in taken.events if event.kind in _ARRIVALS}
        self._ask_names([each for each in seen if each.mac in arrived and self._is_alone(each)])

    def _ask_names(self, newcomers: Sequence[Observation]) -> None:
        """Ask new devices for their names, so that the message about them can use them."""
        context = self._context
        if not newcomers or not context.site.settings.names.ask or len(newcomers) > _MOST_NAMED:
            return
        by_listener: dict[InterfaceListener, list[Observation]] = {}
        for each in newcomers:
            listener = self._listener_of(each)
            if listener is not None:
                by_listener.setdefault(listener, []).append(each)
        for listener, those in by_listener.items():
            self._ask_names_by(listener, those)

    def _ask_names_by(self, listener: InterfaceListener, newcomers: Sequence[Observation]) -> None:
        context = self._context
        attachment = context.site.attachment
        servers = name_servers(context.site, listener.interface)

        def ask() -> list[Observation]:
            with closing(NameTask(attachment, listener.interface, servers)) as company:
                for each in newcomers:
                    company.met(each)
                found: list[Observation] = []
                until = attachment.clock.monotonic() + _NAMES_WITHIN_S
                while not company.done and attachment.clock.monotonic() < until:
                    found += company.turn(attachment.clock.monotonic() + 0.02)
                return found

        def finish(found: Any, error: BaseException | None) -> None:
            if error is not None:
                context.trouble("asking for names", str(error))
            elif found:
                self._conclude(found, (), context.clock.now(), None, None)

        context.executor.start("names", ask, finish)
