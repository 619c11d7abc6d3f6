"""Counts of octets: what passed between two readings of a counter. Pure; no figure is better than a wrong one."""

from __future__ import annotations

from enum import StrEnum

from scopion.model.value import value

# What passed in a longer time cannot be put anywhere: the watch did not run.
LONGEST_S = 86_400.0
# Faster than any link of a small network: a count that says so is damaged.
FASTEST_BPS = 100e9
# A counter tells its time in seconds, and takes a moment to answer. A clock that was set differs by more.
_CLOCKS_DIFFER_S, _CLOCKS_DIFFER = 5.0, 0.05
_LINE_RATE = 1.05  # frames have a preamble and gaps that are not counted, clocks differ a little


class UsageSource(StrEnum):
    """Which counter tells it, and so what it can see."""

    STATION = "station"  # an access point, of one station
    ACCOUNTING = "accounting"  # an access point that reports to a RADIUS server
    LIST = "list"  # a list that was pasted twice
    CABLE = "cable"  # a port of a switch at which one device hangs alone
    PORT = "port"  # a port of a switch, all that hangs there together
    FLOW = "flow"  # a router's firewall: what passes through it


@value
class Count:
    """A counter at one moment. ``up`` are octets from the device, ``down`` octets to it."""

    up: int
    down: int
    own_s: float | None = None  # its own time, which no one sets: since it was started; None: it has none
    bits: int = 64  # from its highest value it goes on with 0
    errors: int = 0
    from_zero: bool = False  # it began with 0 when its own time did
    mark: str = ""  # with another mark it is another counter


@value
class Passed:
    """What passed between two counts."""

    up: int
    down: int
    seconds: float
    errors: int = 0

    @property
    def up_bps(self) -> float:
        """Return bits a second from the device."""
        return self.up * 8 / self.seconds

    @property
    def down_bps(self) -> float:
        """Return bits a second to the device."""
        return self.down * 8 / self.seconds


def passed(before: Count | None, after: Count, elapsed_s: float, most_bps: float = FASTEST_BPS) -> Passed | None:
    """Return what passed between two counts of one counter; None if they do not tell.

    A counter that went back has begun again, unless it is a narrow one that reached its end, and cannot have done so
    twice. ``before`` is None at the first reading. ``elapsed_s`` is the time between both by a clock that may have been
    set: where the counter has a time of its own, that has to agree. ``most_bps`` is the speed of its link.
    """
    seconds, is_new = _seconds(before, after, elapsed_s)
    if seconds is None or not 0 < seconds <= LONGEST_S:
        return None
    up, down, errors = 0, 0, 0
    if before is not None and not is_new:
        up, down, errors = before.up, before.down, before.errors
    sides = [_grown(*each, after.bits, seconds, most_bps) for each in ((up, after.up), (down, after.down))]
    if sides[0] is None or sides[1] is None:
        return None
    found = Passed(sides[0], sides[1], seconds, max(0, after.errors - errors))
    return found if max(found.up_bps, found.down_bps) <= most_bps * _LINE_RATE else None


def _seconds(before: Count | None, after: Count, elapsed_s: float) -> tuple[float | None, bool]:
    """Return the time between two counts, and whether the counter began with 0 meanwhile; None: they do not tell."""
    if before is None:
        return (max(after.own_s, 1.0) if after.from_zero and after.own_s is not None else None), True
    if before.mark != after.mark:
        return None, False
    if before.own_s is None or after.own_s is None:
        return elapsed_s, False
    own = after.own_s - before.own_s
    if own > 0 and abs(own - elapsed_s) <= max(_CLOCKS_DIFFER_S, _CLOCKS_DIFFER * own):
        return own, False
    if own < 0 and after.from_zero and after.own_s <= elapsed_s + _CLOCKS_DIFFER_S:
        return max(after.own_s, 1.0), True
    return None, False


def _grown(old: int, new: int, bits: int, seconds: float, most_bps: float) -> int | None:
    span = 1 << bits
    if bits < 64 and seconds * most_bps / 8 >= span:
        return None  # it may have gone round without a sign
    if new >= old:
        return new - old
    return new + span - old if bits < 64 and old < span else None


def spoken_rate(bps: float) -> str:
    """Return a rate for people: ``850 kbit/s``, ``12 Mbit/s``; empty for next to nothing."""
    if bps < 1_000:
        return ""
    for size, unit in ((1e9, "Gbit/s"), (1e6, "Mbit/s")):
        if bps >= size:
            return f"{bps / size:.1f} {unit}" if bps < 10 * size else f"{bps / size:.0f} {unit}"
    return f"{bps / 1e3:.0f} kbit/s"
