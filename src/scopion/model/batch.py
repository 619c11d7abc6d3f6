"""What a sensor has to say: numbered batches of what it saw, and of what it asked without an answer.

A batch is in the order in which the sensor took things in: by steps. What was seen in a step counts before the scan of
that step, if it has one, judges which devices are silent.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv4Network, IPv6Address

from scopion.model.mac import MacAddress
from scopion.model.observation import Observation
from scopion.model.targets import Targets
from scopion.model.text import counted

# Clocks that are set by the network are right within this; others are corrected for.
RIGHT_WITHIN = timedelta(seconds=5)
# A sensor reports once a minute: what it has told is as old as that, and no older while nothing holds it up.
USUAL_LAG = timedelta(seconds=90)


@dataclass(frozen=True, slots=True)
class Sighting:
    """Something that was seen, and the step in which it was taken in first."""

    step: int
    seen: Observation


@dataclass(frozen=True, slots=True)
class ScanFacts:
    """A scan, or a question about a few addresses: what was asked, how often and for how long.

    Every IPv4 address of ``targets`` that did not answer was asked at least ``times`` times within ``span_s`` seconds
    or more; so were the IPv6 addresses in ``silent``.
    """

    step: int
    began: datetime
    ended: datetime
    subnet: IPv4Network
    targets: Targets
    interface: str
    method: str  # as ``Method`` has it
    asked: int = 0  # addresses
    answered: int = 0
    rounds: int = 0
    completed: bool = True
    times: int = 0
    span_s: float = 0.0
    silent: tuple[IPv6Address, ...] = ()
    gateway: IPv4Address | None = None
    gateway_mac: MacAddress | None = None
    is_question: bool = False  # about a few addresses: it is not remembered as a scan
    looking_since: datetime | None = None  # silence before that says nothing; None: it was always looked at

    @property
    def whole(self) -> bool:
        """Tell whether the whole subnet was asked."""
        return self.targets.covers(self.subnet)


@dataclass(frozen=True, slots=True)
class UnknownDocument:
    """A part of a batch that a later program wrote: it is kept until this one has been upgraded."""

    form: str
    text: str  # its JSON


@dataclass(frozen=True, slots=True)
class SensorClocks:
    """Both clocks of a sensor at one moment: the time of day, which may be wrong, and the seconds since its start."""

    at: datetime  # UTC, as the sensor believes
    boot: str  # which start of the machine; empty: the machine does not tell
    seconds: float  # since then, also while it slept


@dataclass(frozen=True, slots=True)
class Batch:
    """One numbered batch. All of its moments are as the sensor believes, until they are ``moved``."""

    sensor: str
    place: str
    life: str  # of the file in which the sensor keeps what it has to say: another file counts from one again
    number: int
    after: int  # the number of the batch before; what is between was dropped
    clocks: SensorClocks  # when the batch was closed
    program: str = ""  # the sensor's version
    sightings: tuple[Sighting, ...] = ()
    scans: tuple[ScanFacts, ...] = ()
    unknown: tuple[UnknownDocument, ...] = ()
    own: tuple[MacAddress, ...] = ()  # the adapters of the sensor itself
    dropped: Mapping[str, int] = field(default_factory=dict)  # how many of what were dropped before this batch

    @property
    def steps(self) -> int:
        """Return how many steps it has."""
        return len({each.step for each in self.sightings} | {each.step for each in self.scans})


@dataclass(frozen=True, slots=True)
class Folded:
    """The note that is kept at the broker for a sensor: the last batch that is in the roster, for good."""

    life: str
    number: int
    patience_s: float = 0.0  # a shorter silence never makes a device of this place absent
    nonce: str = ""  # to be sent back at once: by that the clocks are compared


@dataclass(frozen=True, slots=True)
class SensorState:
    """What a sensor says of itself, once a minute and when it connects; its will says that it is gone."""

    sensor: str
    online: bool
    clocks: SensorClocks | None = None
    place: str = ""
    life: str = ""
    program: str = ""
    waiting: int = 0  # batches that are not folded yet
    oldest: datetime | None = None  # since when
    address: str = ""  # its own, as it reached the broker
    nonce: str = ""
    troubles: tuple[str, ...] = ()


def moved(moment: datetime, by: timedelta) -> datetime:
    """Return a moment of a sensor's clock as the roster's clock has it."""
    return moment + by if by else moment


def said_dropped(dropped: Mapping[str, int]) -> str:
    """Return what was dropped, in words: ``12 sightings, 1 scan``."""
    return ", ".join(counted(count, _ONE_OF.get(what, what), what) for what, count in dropped.items())


_ONE_OF = {"sightings": "sighting", "stays": "stay", "scans": "scan"}
