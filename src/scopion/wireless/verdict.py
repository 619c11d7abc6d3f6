"""What came of looking whether a list works: one check after the other, and all of them together."""

from __future__ import annotations

from dataclasses import dataclass, field

from scopion.roster.wifi.lists import Network


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that was looked at."""

    where: str  # the enforcer and radio, or the scan, or the pasted list
    what: str
    met: bool | None  # None: it could not be read
    says: str


@dataclass(slots=True)
class Verdict:
    """What came of looking at everything."""

    network: Network
    checks: list[Check] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)  # what is worth knowing and decides nothing

    @property
    def met(self) -> bool:
        """Whether nothing contradicts the list, and something at least could be read."""
        known = [check.met for check in self.checks if check.met is not None]
        return bool(known) and all(known)
