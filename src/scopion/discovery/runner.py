"""Drives a sweep on a link, live or in a scene, and gathers what was seen."""

from __future__ import annotations

from collections.abc import Callable, Collection, Container, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from itertools import chain, islice
from types import MappingProxyType
from typing import Protocol

from scopion.attachment.ports import Attachment
from scopion.discovery.greeting import Greeting
from scopion.discovery.listening import INTERRUPTED, Heard
from scopion.discovery.prober import Answer, Prober
from scopion.discovery.probing import ARP_PORTION, CHECKING_LIMIT_S, KERNEL_REQUESTS, TOUCH_PORTION
from scopion.discovery.side_by_side import SideBySide
from scopion.discovery.sweep import SweepPlan
from scopion.model.address import Address
from scopion.model.errors import InterfaceLost
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation

# Several adapters may answer for one address (a contest, a forger); more than this is noise and only costs memory.
MAX_MACS_PER_ADDRESS = 4
# A sender that makes up IPv6 addresses gets no further than this; a large office has a few hundred.
MAX_UNASKED = 4096
# How long names and ports wait for their turn while a sweep waits for answers.
_SIDE_TASKS_EVERY_S = 0.02
# An answer is shown within this time.
_TOLD_EVERY_S = 0.05


@dataclass(frozen=True, slots=True)
class Progress:
    """The progress of a scan, for showing."""

    touched: int
    total: int
    answered: int
    rounds: int


@dataclass(slots=True)
class Findings:
    """The result of a scan."""

    observations: list[Observation] = field(default_factory=list)
    # Of the addresses where a device was expected: those that were asked so often and long that a silent device is
    # gone.
    asked_enough: set[Address] = field(default_factory=set)
    asked: int = 0  # addresses
    requests: int = 0
    rounds: int = 0
    loss: float = 0.0  # share of round trips
    completed: bool = False
    interruption: str = ""  # why it is not complete
    duration_s: float = 0.0
    heard: Heard | None = None  # of a scan that only listened
    remarks: list[str] = field(default_factory=list)  # what could not be done beside it, for telling
    router_read: bool = False  # a router's own table was read, too
    # Each asked address that was silent was asked at least so often, for at least so many seconds; None: none was.
    silent_requests: int | None = None
    silent_span_s: float | None = None

    @property
    def answered(self) -> int:
        """Return the number of addresses that answered."""
        return len({seen.address for seen in self.observations if seen.address and seen.address.version == 4})


# The adapters that were at each address before: until all of them have answered, an address is asked again.
Expected = Mapping[Address, Collection[MacAddress]]


@dataclass(frozen=True, slots=True)
class Watcher:
    """Functions that are called while a scan runs; ``on_progress`` is None if no person looks on."""

    on_observation: Callable[[Observation], None] = lambda _: None
    on_progress: Callable[[Progress], None] | None = None


class SideTask(Protocol):
    """Work beside a sweep, about the hosts that were found: asking for their names, trying their ports."""

    def met(self, seen: Observation) -> None:
        """Take note of a host that was found."""

    def turn(self, deadline: float) -> Iterable[Observation]:
        """Do what is due, and return what was learnt. Waits at most until the monotonic ``deadline``, which may be
        over.
        """

    @property
    def done(self) -> bool:
        """Tell whether nothing more will be learnt; the task limits its own time."""


def run_scan(
    addresses: Collection[Address],
    prober: Prober,
    attachment: Attachment,
    plan: SweepPlan,
    expected: Expected = MappingProxyType({}),
    watcher: Watcher = Watcher(),
    side_tasks: Sequence[SideTask] = (),
    also: Sequence[Address] | None = None,
    greeting_pace: float | None = None,
) -> Findings:
    """Ask all addresses; Ctrl-C or a lost interface end it early, and what was found is kept.

    ``also`` are known IPv6 addresses, which are asked beside them, while all other nodes of the link are called; None
    for a part of a subnet, where no other node is asked for. With a ``greeting_pace``, in requests a second, the
    ``expected`` adapters are asked first.
    """
    findings = Findings()
    clock = attachment.clock
    began = clock.monotonic()
    done_before = 0
    touch = plan.checks is False
    sweep: SideBySide | None = None
    gathering = _Gathering(prober, attachment, findings, expected, watcher, side_tasks)
    alone_pace = greeting_pace if prober.greets else None
    try:
        in_turn = addresses if greeting_pace is None or prober.greets else _known_first(addresses, expected)
        portions = _portions(in_turn, TOUCH_PORTION if touch else ARP_PORTION)
        # Looked for only at the end: the addresses that are silent by then.
        for portion in chain(portions, gathering.silent_though_expected(addresses) if touch else ()):
            beside = () if done_before else also or ()
            if alone_pace is not None:
                # Whose answer may be on its way is asked last, so that it is clear which question was answered.
                portion.sort(key=expected.__contains__)
            sweep = SideBySide(portion, beside, plan)
            greeted = () if alone_pace is None else gathering.greet(sweep, (*portion, *beside), alone_pace)
            for touched in chain(greeted, gathering.drive(sweep, calls=also is not None)):
                if watcher.on_progress is not None:
                    asked = min(done_before + touched, len(addresses))
                    watcher.on_progress(Progress(asked, len(addresses), gathering.answered, sweep.rounds))
            gathering.settle(sweep)
            gathering.account(sweep, KERNEL_REQUESTS if touch else 1, again=done_before >= len(addresses))
            done_before += sweep.total
            sweep = None
        findings.completed = True
        gathering.finish()
    except KeyboardInterrupt:
        findings.interruption = "" if findings.completed else INTERRUPTED
    except InterfaceLost as lost:
        findings.interruption = str(lost)
    if sweep is not None:
        sweep.stop(clock.monotonic())
        gathering.account(sweep, 1, again=done_before >= len(addresses))
        findings.asked_enough.clear()  # an unfinished scan says nothing about absence
    findings.duration_s = clock.monotonic() - began
    return findings


class _Gathering:
    """Turns answers into observations, each pair of MAC and address once."""

    def __init__(
        self,
        prober: Prober,
        attachment: Attachment,
        findings: Findings,
        expected: Expected,
        watcher: Watcher,
        side_tasks: Sequence[SideTask],
    ) -> None:
        self._prober = prober
        self._clock = attachment.clock
        self._findings = findings
        self._expected = expected
        self._watcher = watcher
        self._side_tasks = side_tasks
        self._macs: dict[Address, list[MacAddress | None]] = {}
        self._unasked = 0
        self._greeting = Greeting()

    @property
    def answered(self) -> int:
        """Return the number of addresses that have answered so far."""
        return len(self._macs)

    def greet(self, sweep: SideBySide, addresses: Iterable[Address], pace: float) -> Iterator[int]:
        """Ask the adapters that are expected at some addresses, each alone; late answers come while the sweep runs.

        Yields, as ``drive`` does, the number of addresses that the sweep has asked so far: none.
        """
        known = ((address, mac) for address in addresses for mac in self._expected.get(address, ()))
        self._greeting = greeting = Greeting(known, pace)
        while not greeting.done:
            for address, mac in greeting.due(self._clock.monotonic()):
                self._prober.greet(address, mac)
                self._findings.requests += 1
            self.take(sweep, greeting.wake_at())
            yield sweep.touched

    def drive(self, sweep: SideBySide, *, calls: bool) -> Iterator[int]:
        """Ask and take in answers until a sweep is done; yields the number of addresses that it has asked so far.

        ``calls``: all nodes of the link are called at the beginning of each round.
        """
        rounds = 0
        while not sweep.done:
            for address in sweep.due(self._clock.monotonic()):
                self._prober.ask(address)
            if calls and sweep.rounds != rounds:
                self._prober.call()
            rounds = sweep.rounds
            if not sweep.done:
                self.take(sweep, sweep.wake_at())
                yield sweep.touched

    def take(self, sweep: SideBySide, deadline: float) -> None:
        """Take in what comes until the deadline."""
        now = self._clock.monotonic()
        if any(not side_task.done for side_task in self._side_tasks):
            deadline = min(deadline, now + _SIDE_TASKS_EVERY_S)
        elif self._watcher.on_progress is not None:
            deadline = min(deadline, now + _TOLD_EVERY_S)
        for answer in self._prober.answers(deadline):
            self._take(sweep, answer)
        self._learn(self._clock.monotonic())

    def finish(self) -> None:
        """Let the side tasks come to their end."""
        while any(not side_task.done for side_task in self._side_tasks):
            self._learn(self._clock.monotonic() + _SIDE_TASKS_EVERY_S)

    def _take(self, sweep: SideBySide, answer: Answer) -> None:
        known = self._macs.get(answer.address, [])
        # An answer without a MAC address is all that will be told about this host.
        expected = self._expected.get(answer.address, ()) if answer.mac is not None else ()
        missing = set(expected) - {answer.mac, *known}
        greeted_s = self._greeting.answered(answer.address, answer.mac, answer.at) if answer.asked else None
        to_sweep = answer.asked and greeted_s is None
        about = sweep.heard(answer.address, answer.at, answer=to_sweep, settled=not missing)
        if not about and answer.address not in self._macs and not self._welcome(answer):
            return
        known = self._macs.setdefault(answer.address, known)
        if answer.mac in known or len(known) >= MAX_MACS_PER_ADDRESS:
            return
        rtt_s = greeted_s if about and not sweep.has_asked(answer.address) else None
        if about and to_sweep and not known:
            rtt_s = sweep.round_trip(answer.address)
        known.append(answer.mac)
        age = max(0.0, self._clock.monotonic() - answer.at)
        seen = Observation(
            mac=answer.mac,
            address=answer.address,
            at=self._clock.now() - timedelta(seconds=age),
            source=answer.source,
            rtt_s=rtt_s,
        )
        self._tell(seen)
        for side_task in self._side_tasks:
            side_task.met(seen)

    def _welcome(self, answer: Answer) -> bool:
        """Tell whether an answer may come in that was not asked by address: IPv6 nodes answer a call to all, within
        limits.
        """
        if answer.address.version == 4 or self._unasked >= MAX_UNASKED:
            return False
        self._unasked += 1
        return True

    def _learn(self, deadline: float) -> None:
        for side_task in self._side_tasks:
            for seen in side_task.turn(deadline) if not side_task.done else ():
                self._tell(seen)

    def _tell(self, seen: Observation) -> None:
        self._findings.observations.append(seen)
        self._watcher.on_observation(seen)

    def silent_though_expected(self, addresses: Container[Address]) -> Iterator[list[Address]]:
        """Yield addresses where a device was and none answered: no device is given up after one set of the system's
        tries.
        """
        silent = [
            each for each, macs in self._expected.items() if macs and each in addresses and each not in self._macs
        ]
        if silent:
            yield silent

    def account(self, sweep: SideBySide, requests_each: int, *, again: bool = False) -> None:
        """Add up what a sweep has asked; ``requests_each`` is the number of frames of one request."""
        findings, patience = self._findings, sweep.plan.patience
        findings.requests += sweep.sent
        findings.rounds = max(findings.rounds, sweep.rounds)
        findings.loss = max(findings.loss, sweep.loss)
        for address, asked in sweep.account().items():
            findings.asked += address.version == 4 and not again
            requests = asked.requests * requests_each
            enough = requests >= patience.requests and asked.span_s >= patience.span_s
            if address not in self._macs and address.version == 4:
                findings.silent_requests = min(requests, findings.silent_requests or requests)
                findings.silent_span_s = min(asked.span_s, findings.silent_span_s or asked.span_s)
            if enough and address in self._expected:
                findings.asked_enough.add(address)

    def settle(self, sweep: SideBySide) -> None:
        """Wait, within limits, for the addresses that the system has not decided."""
        limit = self._clock.monotonic() + CHECKING_LIMIT_S
        while self._prober.undecided() and self._clock.monotonic() < limit:
            self.take(sweep, min(limit, self._clock.monotonic() + 0.2))


def _known_first(addresses: Collection[Address], expected: Expected) -> Iterator[Address]:
    yield from (each for each in expected if each in addresses)
    yield from (each for each in addresses if each not in expected)


def _portions(addresses: Iterable[Address], size: int) -> Iterator[list[Address]]:
    rest = iter(addresses)
    while portion := list(islice(rest, size)):
        yield portion
