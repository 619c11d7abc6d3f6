"""The part of the watch that notices which devices are missed, and which are back."""

from __future__ import annotations

from scopion.watching.sweep_subnets import SubnetState, Sweeping
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
        """Tell what is missed in subnets that this watch looks at; in others what the roster holds may be old."""
        if now < self._at:
            return
        self._at = now + _EVERY_S
        swept = self._sweeping.swept.items()
        looked = {subnet for subnet, each in swept if each.place is SubnetState.HERE and not each.is_in_doubt}
        if not looked:
            return
        # It loads what knows of wireless networks, which a watch that begins does not need at once.
        from scopion.operations.intake.miss_devices import tell_missing

        with self._context.doing("looking for what is missed"):
            taken = tell_missing(self._context.site, looked)
            if taken.events:
                self._context.tell(taken.events, taken.devices)
                self._context.outdated()
