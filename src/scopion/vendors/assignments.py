"""Assignments of prefixes in the IEEE's four registries.

The values of this room are named tuples: hundreds of thousands are made, and ``scopion vendor`` starts faster.
"""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple


class RegistryName(StrEnum):
    """The four registries, by the size of their blocks."""

    MA_L = "MA-L"  # 24 bits
    MA_M = "MA-M"  # 28 bits
    MA_S = "MA-S"  # 36 bits
    IAB = "IAB"  # 36 bits, closed to new assignments


BITS = {RegistryName.MA_L: 24, RegistryName.MA_M: 28, RegistryName.MA_S: 36, RegistryName.IAB: 36}
AUTHORITY = "IEEE Registration Authority"
PRIVATE = "Private"


class Assignment(NamedTuple):
    """One row: a prefix of ``BITS[registry]`` bits and its holder."""

    prefix: int
    organisation: str  # tidied; PRIVATE and AUTHORITY as they are
    place: str
    country: str  # ISO 3166-1 code or empty


class Listing(NamedTuple):
    """The rows of one registry, as one official file gave them."""

    registry: RegistryName
    assignments: tuple[Assignment, ...]
