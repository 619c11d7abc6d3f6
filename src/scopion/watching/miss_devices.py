"""The part of the watch that notices which devices are missed, and which are back."""

from __future__ import annotations

from scopion.watching.sweep_subnets import Sweeping
from scopion.watching.watch_context import WatchContext

_EVERY_S = 30.0  # a patience runs out, hours begin


class Missing:
    """Looks with each change, and now and then, whether a device that must be here has been silent too long."""

    def __init__(self, context: WatchContext, sweeping: Sweeping) -> None:
        self._context = context
        self._sweeping = sweeping
        self._at = 0.0

    def wake_at(self) -> float:
        """Return when it looks next."""
        return self._at

    def soon(self) -> None:
        """Look at the next turn: a device came or went."""
        self._at = 0.0

    def turn(self, now: float) -> None:
        """Tell what is missed. Before each subnet was swept once, what the roster holds may be old."""
        if now < self._at:
            return
        self._at = now + _EVERY_S
        if any(each.last_at == float("-inf") or each.is_in_doubt for each in self._sweeping.swept.values()):
            return
        # It loads what knows of wireless networks, which a watch that begins does not need at once.
        from scopion.operations.intake.miss_devices import tell_missing

        with self._context.doing("looking for what is missed"):
            taken = tell_missing(self._context.site)
            if taken.events:
                self._context.tell(taken.events, taken.devices)
                self._context.outdated()
