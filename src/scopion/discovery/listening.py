"""Listens on a link for a time without sending a frame, and gathers what was heard."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Network

from scopion.attachment.ports import Attachment, Link
from scopion.discovery.hearing import Hearing
from scopion.model.address import Address
from scopion.model.errors import InterfaceLost
from scopion.model.observation import Observation, Pair, Trait

INTERRUPTED = "interrupted"  # a person has ended the scan early

# How often progress is reported.
_TELL_EVERY_S = 0.1
_FRAMES_A_TURN = 1000
_GRAIN_S = 0.01
# A sender that makes up MAC addresses gets no further than this: 20 MB.
MAX_PAIRS = 65_536


@dataclass(slots=True)
class Heard:
    """The result of listening."""

    observations: list[Observation] = field(default_factory=list)  # each pair of MAC and address, with all its traits
    frames: int = 0
    understood: int = 0
    malformed: int = 0
    passed_over: int = 0  # pairs beyond the limit
    completed: bool = False
    interruption: str = ""
    duration_s: float = 0.0


class Gathered:
    """Observations by pair of MAC and address: the latest time and all traits, within a limit.

    ``subnet`` is that of the link where they are gathered; without it, each keeps its own.
    """

    def __init__(self, subnet: IPv4Network | None = None) -> None:
        self._subnet = subnet
        self._pairs: dict[Pair, Observation] = {}
        self._traits: dict[Pair, dict[Trait, None]] = {}
        self.passed_over = 0

    def add(self, seen: Observation) -> bool:
        """Take one in. Returns whether it tells more than that a known device is still there."""
        pair = (seen.mac, seen.address)
        known = self._pairs.get(pair)
        if known is None and len(self._pairs) >= MAX_PAIRS:
            self.passed_over += 1
            return False
        self._pairs[pair] = seen
        if not seen.traits:
            return known is None
        traits = self._traits.setdefault(pair, {})
        before = len(traits)
        traits.update(dict.fromkeys(seen.traits))
        return known is None or len(traits) > before

    def observations(self) -> list[Observation]:
        """Return each pair once."""
        return [
            replace(seen, traits=tuple(self._traits.get(pair, ())), subnet=self._subnet or seen.subnet)
            for pair, seen in self._pairs.items()
        ]


def listen(
    link: Link,
    attachment: Attachment,
    seconds: float,
    on_observation: Callable[[Observation], None] = lambda _: None,
    on_progress: Callable[[float, int], None] = lambda _, __: None,
    on_link: Callable[[Address], bool] = lambda _: False,
) -> Heard:
    """Listen for a number of seconds; Ctrl-C or a lost interface end it early, and what was heard is kept."""
    clock = attachment.clock
    began = clock.monotonic()
    ends = began + seconds
    hearing, gathered, heard = Hearing(on_link), Gathered(), Heard()
    try:
        tell_at = known_until = began
        at = clock.now()
        while (now := clock.monotonic()) < ends:
            if now >= tell_at:
                on_progress(now - began, hearing.frames)
                hearing.forget()  # so that a host that speaks again is seen again
                tell_at = now + _TELL_EVERY_S
            until = min(ends, tell_at)
            for _ in range(_FRAMES_A_TURN):
                arrival = link.receive(until)
                if arrival is None:
                    break
                if arrival.at >= known_until:  # the time of day to a hundredth of a second is exact enough
                    at, known_until = clock.now(), arrival.at + _GRAIN_S
                until = arrival.at  # what else is there already, without more waiting
                for seen in hearing.take(arrival.frame, at):
                    if gathered.add(seen):
                        on_observation(seen)
        heard.completed = True
    except KeyboardInterrupt:
        heard.interruption = INTERRUPTED
    except InterfaceLost as lost:
        heard.interruption = str(lost)
    heard.observations, heard.passed_over = gathered.observations(), gathered.passed_over
    heard.frames, heard.understood, heard.malformed = hearing.frames, hearing.decoded.total(), hearing.malformed
    heard.duration_s = clock.monotonic() - began
    return heard
