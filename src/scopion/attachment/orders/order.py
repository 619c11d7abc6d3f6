"""The values of orders and answers. Each order is about one enforcer, as the sensor's own ``orders.toml`` has it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from scopion.attachment.ports import Job, Ran
from scopion.model.mac import MacAddress

# A word for an order is good for so long, by the sensor's own clock, which cannot be set.
GOOD_FOR_S = 60.0


@dataclass(frozen=True, slots=True)
class WordWanted:
    """Give a word for the next order, and do nothing."""


@dataclass(frozen=True, slots=True)
class Jobs:
    """Do jobs in their order, as a shell does."""

    jobs: tuple[Job, ...]


@dataclass(frozen=True, slots=True)
class ModeOf:
    """Tell a file's mode bits and its group."""

    path: str


@dataclass(frozen=True, slots=True)
class Guard:
    """A push that the sensor takes back by itself, unless a person keeps it before."""

    push: int
    left_s: float  # from now
    before: Mapping[str, Any]  # by radio, what it held, as ``held_document`` has it
    first: tuple[MacAddress, ...] = ()  # devices that come first, as the machine that looks after the site


@dataclass(frozen=True, slots=True)
class Guards:
    """Say which pushes are still to be taken back; no other is from now on. ``new`` is one more."""

    waiting: tuple[int, ...]
    new: Guard | None = None


Asks = WordWanted | Jobs | ModeOf | Guards


@dataclass(frozen=True, slots=True)
class Order:
    """One order. An order that comes again is answered again, and not carried out again."""

    session: str  # of who asks
    number: int  # in the session
    word: str  # that the sensor gave; empty: for a first word
    enforcer: str
    asks: Asks


@dataclass(frozen=True, slots=True)
class Answer:
    """The answer to an order."""

    session: str
    number: int
    word: str = ""  # for the next order
    ran: tuple[Ran, ...] = ()
    mode: tuple[int, str] | None = None
    guarded: tuple[int, ...] = ()  # pushes that it had to take back, before it was told which still wait
    refused: str = ""  # why nothing was done
    failed: str = ""  # why it could not be done, wholly or in part
    is_stale: bool = field(default=False)  # the word was not good any more: nothing was done
