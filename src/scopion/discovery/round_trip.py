"""How long to wait for an answer, learnt from the answers (RFC 6298, with limits of our own)."""

from __future__ import annotations

# Before anything is measured: answers on a local segment take a few milliseconds, those of a dozing host some hundred.
FIRST_S = 0.3
# A shorter wait gains nothing: a round's own sending takes as long, and a busy host must get its turn.
SHORTEST_S = 0.15
# A longer wait gains nothing either: a wireless station wakes for buffered frames within a second or two.
LONGEST_S = 3.0


class RoundTripEstimate:
    """Smoothed round-trip time and its variation, in seconds."""

    longest_s = LONGEST_S

    def __init__(self) -> None:
        self._smoothed: float | None = None
        self._variation = 0.0

    def measured(self, round_trip_s: float) -> None:
        """Take in an unambiguous measurement, in seconds (section 2)."""
        if self._smoothed is None:
            self._smoothed, self._variation = round_trip_s, round_trip_s / 2
            return
        self._variation += (abs(self._smoothed - round_trip_s) - self._variation) / 4
        self._smoothed += (round_trip_s - self._smoothed) / 8

    def timeout(self) -> float:
        """Return how long an answer may take before it counts as lost, in seconds."""
        if self._smoothed is None:
            return FIRST_S
        return min(LONGEST_S, max(SHORTEST_S, self._smoothed + 4 * self._variation))
