"""Where a sensor hands on what it has taken in: the same sightings and scans by which it keeps its own memory."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from scopion.model.batch import ScanFacts
from scopion.model.device import Event, EventKind
from scopion.model.observation import Observation


class Relay(Protocol):
    """Implemented by a sensor's file and what sends it on."""

    def note(self, seen: Sequence[Observation], scan: ScanFacts | None, *, apart: bool, news: bool) -> None:
        """Keep one step. ``apart``: it must not be merged with others; ``news``: more than that all is as it was.

        Raises StorageFailed.
        """


def must_be_apart(events: Sequence[Event], scan: ScanFacts | None) -> bool:
    """Tell whether a step must stay by itself: two adapters claim an address, or silence counts without patience."""
    return (scan is not None and scan.is_question) or any(each.kind is EventKind.CONTESTED for each in events)
