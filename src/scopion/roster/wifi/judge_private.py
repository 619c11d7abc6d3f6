"""Judges by what was seen whether a private MAC address stays fixed for this network and can be listed, or rotates."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import timedelta
from enum import StrEnum

from scopion.model.clock import spoken_span
from scopion.model.device import Device, Stay
from scopion.model.mac import MacAddress

# Phones that rotate do so each day, at each join, or every two weeks: one that has kept an address for longer keeps it.
_KEEPS = timedelta(days=15)
ADVICE = "set this phone to a fixed address for this network before you list it"


class Habit(StrEnum):
    """What a device does with a private address."""

    FIXED = "fixed"
    ROTATING = "rotating"
    UNDECIDED = "undecided"


@dataclass(frozen=True, slots=True)
class Judged:
    """The habit of one address, and why."""

    mac: MacAddress
    habit: Habit
    why: str

    @property
    def advice(self) -> str:
        """Return what to do before it is put on a list; empty if it can be listed."""
        return "" if self.habit is Habit.FIXED else ADVICE


def judge(device: Device, stays: Iterable[Stay], predecessors: Sequence[str] = ()) -> list[Judged]:
    """Return the habit of each private address of a device; ``predecessors`` are what it probably
    was here as before.
    """
    private = [adapter.mac for adapter in device.adapters if adapter.mac.is_private]
    known = list(stays)
    found = []
    for mac in private:
        mine = [stay for stay in known if stay.mac == mac and stay.dated]
        span = max((stay.until for stay in mine), default=None)
        kept = span - min(stay.since for stay in mine) if span else timedelta(0)
        if kept >= _KEEPS:
            found.append(Judged(mac, Habit.FIXED, f"it has kept this address for {spoken_span(kept)}"))
        elif len(private) > 1 or predecessors:
            count = max(len(private), len(predecessors) + 1)
            found.append(Judged(mac, Habit.ROTATING, f"{count} addresses so far, this one {_kept(kept)}"))
        else:
            found.append(Judged(mac, Habit.UNDECIDED, f"it was seen {_kept(kept)} only"))
    return found


def _kept(span: timedelta) -> str:
    return f"for {spoken_span(span)}" if span >= timedelta(minutes=1) else "once"
