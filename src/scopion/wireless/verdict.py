"""The result of verifying a list: one check after the other, and all of them together."""

from __future__ import annotations

from dataclasses import dataclass, field

from scopion.roster.wifi.lists import Network


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that was checked."""

    where: str  # the enforcer and radio, or the scan, or the pasted list
    what: str
    met: bool | None  # None: it could not be read
    says: str


@dataclass(slots=True)
class Verdict:
    """The result of all checks."""

    network: Network
    checks: list[Check] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)  # worth knowing, without deciding anything

    @property
    def met(self) -> bool:
        """Tell whether nothing contradicts the list, and at least something could be read."""
        known = [check.met for check in self.checks if check.met is not None]
        return bool(known) and all(known)
