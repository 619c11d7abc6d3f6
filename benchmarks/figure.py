"""One measured figure beside what it has to hold."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Figure:
    """A figure: at most ``hold`` is allowed, or at least, if ``least``."""

    name: str
    value: float
    unit: str
    hold: float
    least: bool = False
    detail: str = ""

    @property
    def kept(self) -> bool:
        """Whether the hold is kept."""
        return self.value >= self.hold if self.least else self.value <= self.hold

    def __str__(self) -> str:
        bound = "at least" if self.least else "at most"
        detail = f"  ({self.detail})" if self.detail else ""
        mark = "ok  " if self.kept else "MISS"
        return f"{mark}  {self.name:<58} {self.value:>12,.3g} {self.unit:<4} {bound} {self.hold:,g}{detail}"
