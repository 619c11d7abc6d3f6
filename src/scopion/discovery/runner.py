"""Drives a sweep on a link, live or in a scene, and gathers what was seen."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from ipaddress import IPv4Address
from itertools import islice
from types import MappingProxyType

from scopion.attachment.ports import Attachment
from scopion.discovery.asking import ARP_PORTION, CHECKING_LIMIT_S, KERNEL_REQUESTS, TOUCH_PORTION, Asker
from scopion.discovery.sweep import Sweep, SweepPlan
from scopion.model.errors import InterfaceLost
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation

# Several MACs may answer for one address (a contest, a forger); more than this is noise and only costs memory.
MAX_MACS_PER_ADDRESS = 4


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a scan is, for showing."""

    touched: int
    total: int
    answered: int
    rounds: int


@dataclass(slots=True)
class Findings:
    """What came of a scan."""

    observations: list[Observation] = field(default_factory=list)
    # Of the addresses where somebody was expected: those asked so often and long that who is silent there is gone.
    asked_enough: set[IPv4Address] = field(default_factory=set)
    asked: int = 0  # addresses
    requests: int = 0
    rounds: int = 0
    loss: float = 0.0  # share of round trips
    completed: bool = False
    interruption: str = ""  # why it is not complete
    duration_s: float = 0.0

    @property
    def answered(self) -> int:
        """How many addresses somebody answered for."""
        return len({seen.address for seen in self.observations})


# Who was at which address before: until all of them have answered, an address is asked again.
Expected = Mapping[IPv4Address, Collection[MacAddress]]
OnObservation = Callable[[Observation], None]
OnProgress = Callable[[Progress], None]


def run_scan(
    addresses: Collection[IPv4Address],
    asker: Asker,
    attachment: Attachment,
    plan: SweepPlan,
    expected: Expected = MappingProxyType({}),
    on_observation: OnObservation = lambda _: None,
    on_progress: OnProgress = lambda _: None,
) -> Findings:
    """Ask all addresses; Ctrl-C or a lost interface end it early, and what was found is kept."""
    findings = Findings()
    clock = attachment.clock
    began = clock.monotonic()
    done_before = 0
    touch = plan.checks is False
    sweep: Sweep | None = None
    gathering = _Gathering(asker, attachment, findings, expected, on_observation)
    try:
        for portion in _portions(addresses, TOUCH_PORTION if touch else ARP_PORTION):
            sweep = Sweep(portion, plan)
            while not sweep.done:
                for address in sweep.due(clock.monotonic()):
                    asker.ask(address)
                gathering.take(sweep, sweep.wake_at())
                on_progress(Progress(done_before + sweep.touched, len(addresses), gathering.answered, sweep.rounds))
            gathering.settle(sweep)
            gathering.account(sweep, KERNEL_REQUESTS if touch else 1)
            done_before += sweep.total
            sweep = None
        findings.completed = True
    except KeyboardInterrupt:
        findings.interruption = "interrupted"
    except InterfaceLost as lost:
        findings.interruption = str(lost)
    if sweep is not None:
        sweep.stop(clock.monotonic())
        gathering.account(sweep, 1)
        findings.asked_enough.clear()  # an unfinished scan says nothing about who is absent
    findings.duration_s = clock.monotonic() - began
    return findings


class _Gathering:
    """Turns answers into observations, each pair of MAC and address once."""

    def __init__(
        self,
        asker: Asker,
        attachment: Attachment,
        findings: Findings,
        expected: Expected,
        on_observation: OnObservation,
    ) -> None:
        self._asker = asker
        self._clock = attachment.clock
        self._findings = findings
        self._expected = expected
        self._on_observation = on_observation
        self._macs: dict[IPv4Address, list[MacAddress]] = {}

    @property
    def answered(self) -> int:
        """How many addresses somebody answered for so far."""
        return len(self._macs)

    def take(self, sweep: Sweep, deadline: float) -> None:
        """Take in what has come until the deadline."""
        for answer in self._asker.answers(deadline):
            known = self._macs.get(answer.address, [])
            missing = set(self._expected.get(answer.address, ())) - {answer.mac, *known}
            if not sweep.heard(answer.address, answer.at, answer=answer.asked, settled=not missing):
                continue
            known = self._macs.setdefault(answer.address, known)
            if answer.mac in known or len(known) >= MAX_MACS_PER_ADDRESS:
                continue
            measured = answer.asked and not known
            known.append(answer.mac)
            age = max(0.0, self._clock.monotonic() - answer.at)
            seen = Observation(
                mac=answer.mac,
                address=answer.address,
                at=self._clock.now() - timedelta(seconds=age),
                source=self._asker.source,
                rtt_s=sweep.round_trip(answer.address) if measured else None,
            )
            self._findings.observations.append(seen)
            self._on_observation(seen)

    def account(self, sweep: Sweep, requests_each: int) -> None:
        """Add up what a sweep has asked; ``requests_each`` are the frames that one asking makes."""
        findings, patience = self._findings, sweep.plan.patience
        findings.requests += sweep.sent
        findings.rounds = max(findings.rounds, sweep.rounds)
        findings.loss = max(findings.loss, sweep.loss)
        for address, asked in sweep.account().items():
            findings.asked += 1
            enough = asked.requests * requests_each >= patience.requests and asked.span_s >= patience.span_s
            if enough and address in self._expected:
                findings.asked_enough.add(address)

    def settle(self, sweep: Sweep) -> None:
        """Wait, within bounds, for those about whom the system has not decided."""
        limit = self._clock.monotonic() + CHECKING_LIMIT_S
        while self._asker.undecided() and self._clock.monotonic() < limit:
            self.take(sweep, min(limit, self._clock.monotonic() + 0.2))


def _portions(addresses: Iterable[IPv4Address], size: int) -> Iterator[list[IPv4Address]]:
    rest = iter(addresses)
    while portion := list(islice(rest, size)):
        yield portion
