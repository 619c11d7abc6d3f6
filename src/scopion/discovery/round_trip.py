"""How long to wait for an answer, learnt from the answers (RFC 6298, with bounds of our own)."""

from __future__ import annotations

# Before anything is measured: answers on a local segment take a few milliseconds, a dozing host's some hundred.
FIRST_S = 0.3
# Shorter pays nothing: a round's own sending takes as long, and a busy host must get its turn.
SHORTEST_S = 0.15
# Longer pays nothing either: a wireless station wakes for buffered frames within a second or two.
LONGEST_S = 3.0


class RoundTripEstimate:
    """Smoothed round-trip time and its variation, in seconds."""

    longest_s = LONGEST_S

    def __init__(self) -> None:
        self._smoothed: float | None = None
        self._variation = 0.0

    def measured(self, round_trip_s: float) -> None:
        """Take in an unambiguous measurement (section 2)."""
        if self._smoothed is None:
            self._smoothed, self._variation = round_trip_s, round_trip_s / 2
            return
        self._variation += (abs(self._smoothed - round_trip_s) - self._variation) / 4
        self._smoothed += (round_trip_s - self._smoothed) / 8

    def timeout(self) -> float:
        """How long an answer may take before it counts as lost."""
        if self._smoothed is None:
            return FIRST_S
        return min(LONGEST_S, max(SHORTEST_S, self._smoothed + 4 * self._variation))
