"""What all parts of the watch share: the site, the executor, what is known, and the counts of what was done."""

from __future__ import annotations

import logging
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

from scopion.alerts.news import owners, sentence
from scopion.model.clock import Clock
from scopion.model.device import Device, Event
from scopion.model.errors import DamagedRoster, ScopionError, place_of
from scopion.operations.intake.take_in import Known
from scopion.operations.site.open_site import Site
from scopion.roster.watch_record import EnforcerReading, HeardAttempts
from scopion.watching.executors import Executor
from scopion.watching.watch_memory import WatchMemory

log = logging.getLogger("scopion.watch")
# A part that has failed rests this long, twice as long each time in a row.
_FIRST_REST_S, _LONGEST_REST_S = 5.0, 900.0
# How often the system is asked about its interfaces, and the outbox about alerts of another process: a cable that was
# moved is noticed soon enough. A made-up site has neither, and its days are played in seconds.
_LOOK_EVERY_S, _SCENE_LOOK_EVERY_S = 2.0, 300.0


@dataclass(slots=True)
class Counts:
    """What was done since the watch began; the counts only grow, for the metrics."""

    sweeps: Counter[str] = field(default_factory=Counter)  # by how they ended: complete, partial, failed
    observations: Counter[str] = field(default_factory=Counter)  # by source
    events: Counter[str] = field(default_factory=Counter)  # by kind
    deliveries: Counter[tuple[str, str]] = field(default_factory=Counter)  # by channel, and sent, waiting or failed
    errors: Counter[str] = field(default_factory=Counter)  # by what was being done
    frames: int = 0
    malformed: int = 0
    dropped: int = 0  # by the kernel, before they were read
    passed_over: int = 0  # observations of made-up devices


class WatchContext:
    """Passed to every part of the watch."""

    def __init__(self, site: Site, executor: Executor, memory: WatchMemory) -> None:
        self.site = site
        self.executor = executor
        self.memory = memory
        site.watch_state = memory
        self.counts = Counts()
        self.known = Known()
        self.troubles: dict[str, str] = {}  # what does not work just now, by what was being done
        self.readings: dict[str, EnforcerReading] = {}  # the last of each access point
        self.attempts: dict[tuple[str, str], HeardAttempts] = {}  # who was turned away, by access point and radio
        self._remarks: dict[str, str] = {}
        self.look_every_s = _LOOK_EVERY_S if site.story is None else _SCENE_LOOK_EVERY_S
        self._rests: dict[str, tuple[int, float]] = {}  # parts that have failed: how often in a row, and until when
        self._stale = True  # whether the known devices have to be read again

    @property
    def clock(self) -> Clock:
        """Return the site's clock."""
        return self.site.clock

    def refreshed(self) -> bool:
        """Read the known devices again, if they may have changed. Returns whether they were read."""
        if not self._stale:
            return False
        self.known = Known.of(self.site.roster)
        self._stale = False
        return True

    def outdated(self) -> None:
        """Have the known devices read again: something was folded."""
        self._stale = True

    def tell(self, events: Sequence[Event], devices: Mapping[int, Device]) -> None:
        """Log events that were recorded; ``devices`` are those that they are about."""
        owner = owners(devices.values())
        for event in events:
            other = owner.get(event.other_mac)
            said = sentence(event, devices.get(event.device_id), self.site.vendors, other=other)
            self.counts.events[event.kind] += 1
            log.info("%s: %s", event.kind, said)

    def trouble(self, doing: str, problem: str) -> None:
        """Note that something does not work: logged when it begins, and when the problem is another one."""
        self.counts.errors[doing] += 1
        if self.troubles.get(doing) != problem:
            log.warning("%s: %s", doing, problem)
            self.troubles[doing] = problem

    def remark(self, about: str, remark: str) -> None:
        """Log something worth knowing, once."""
        if self._remarks.get(about) != remark:
            log.info("%s: %s", about, remark)
            self._remarks[about] = remark

    def works(self, doing: str) -> None:
        """Note that it works; logged if it did not before."""
        if self.troubles.pop(doing, None) is not None:
            log.info("%s: works again", doing)

    @contextmanager
    def doing(self, what: str) -> Iterator[None]:
        """Run something that may fail and be tried again: trouble and recovery are logged."""
        try:
            yield
        except ScopionError as error:
            self.keeping(what, error)
        else:
            self.works(what)

    @contextmanager
    def contained(self, part: str) -> Iterator[None]:
        """Run a part of the watch: any error is logged, and the part rests for longer each time.

        The other parts go on: one odd answer must not end the watch, and end it again after each start.
        """
        try:
            yield
        except Exception as error:
            self._failed(part, error)
        else:
            if self._rests.pop(part, None) is not None:
                self.works(part)

    def _failed(self, part: str, error: Exception) -> None:
        count = self._rests[part][0] + 1 if part in self._rests else 1
        self._rests[part] = count, self.clock.monotonic() + min(_FIRST_REST_S * 2.0 ** (count - 1), _LONGEST_REST_S)
        if not self.keeping(part, error):
            self.trouble(part, f"unexpected: {place_of(error)}")
            log.debug("%s", part, exc_info=error)

    def rests_until(self, part: str) -> float:
        """Return the monotonic moment until which a part rests; long past for one that does not."""
        return self._rests[part][1] if part in self._rests else float("-inf")

    def keeping(self, doing: str, error: BaseException) -> bool:
        """Log an error in the roster or the network. Returns whether the watch goes on; other
        errors are our mistakes.
        """
        if isinstance(error, DamagedRoster):
            # The next opening moves it aside; what was known is lost, and the watch begins again with a baseline.
            self.site.forget_open_roster()
            self.outdated()
        if isinstance(error, ScopionError):
            self.trouble(doing, str(error))
            return True
        return False
