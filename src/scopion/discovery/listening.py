"""Listens on a link for a time, without sending a frame, and gathers what was heard."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import timedelta

from scopion.attachment.ports import Attachment, Link
from scopion.discovery.hearing import Hearing
from scopion.model.address import Address
from scopion.model.errors import InterfaceLost
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Trait

# How often the one who waits is told how far it is.
_TELL_EVERY_S = 0.1
# Who makes up MAC addresses without end gets no further than this: 20 MB.
MAX_PAIRS = 65_536
_Pair = tuple[MacAddress | None, Address | None]


@dataclass(slots=True)
class Heard:
    """What came of listening."""

    observations: list[Observation] = field(default_factory=list)  # each pair of MAC and address, with all its traits
    frames: int = 0
    understood: int = 0
    malformed: int = 0
    completed: bool = False
    interruption: str = ""
    duration_s: float = 0.0


class Gathered:
    """Observations by pair of MAC and address: the latest time, all traits. Bounded."""

    def __init__(self) -> None:
        self._pairs: dict[_Pair, Observation] = {}
        self._traits: dict[_Pair, dict[Trait, None]] = {}
        self.passed_over = 0

    def add(self, seen: Observation) -> bool:
        """Take one in; whether it tells anything but that somebody known is still there."""
        pair = (seen.mac, seen.address)
        known = self._pairs.get(pair)
        if known is None and len(self._pairs) >= MAX_PAIRS:
            self.passed_over += 1
            return False
        traits = self._traits.setdefault(pair, {})
        before = len(traits)
        traits.update(dict.fromkeys(seen.traits))
        self._pairs[pair] = seen
        return known is None or len(traits) > before

    def observations(self) -> list[Observation]:
        """Each pair once."""
        return [replace(seen, traits=tuple(self._traits[pair])) for pair, seen in self._pairs.items()]


def listen(
    link: Link,
    attachment: Attachment,
    seconds: float,
    on_observation: Callable[[Observation], None] = lambda _: None,
    on_progress: Callable[[float, int], None] = lambda _, __: None,
) -> Heard:
    """Hear for so many seconds; Ctrl-C or a lost interface end it early, and what was heard is kept."""
    clock = attachment.clock
    began = clock.monotonic()
    ends = began + seconds
    hearing, gathered, heard = Hearing(), Gathered(), Heard()
    try:
        tell_at = began
        while (now := clock.monotonic()) < ends:
            if now >= tell_at:
                on_progress(now - began, hearing.frames)
                hearing.forget()  # so that who speaks again is seen again
                tell_at = now + _TELL_EVERY_S
            arrival = link.receive(min(ends, tell_at))
            if arrival is None:
                continue
            at = clock.now() - timedelta(seconds=max(0.0, clock.monotonic() - arrival.at))
            for seen in hearing.take(arrival.frame, at):
                if gathered.add(seen):
                    on_observation(seen)
        heard.completed = True
    except KeyboardInterrupt:
        heard.interruption = "interrupted"
    except InterfaceLost as lost:
        heard.interruption = str(lost)
    heard.observations = gathered.observations()
    heard.frames, heard.understood, heard.malformed = hearing.frames, hearing.decoded.total(), hearing.malformed
    heard.duration_s = clock.monotonic() - began
    return heard
