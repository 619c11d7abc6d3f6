"""Places of a site: buildings or VLANs with ears of their own. Two of them may use the same range.

Where a place is a text, empty stands for the only place of a site, which has no name; where it may be None, that stands
for the place of this machine.
"""

from __future__ import annotations

from ipaddress import IPv4Network
from typing import NamedTuple

LONGEST_NAME = 40  # it stands in tables and sentences
# They part a name from something else: an address, a level of a topic, another name.
_PARTING = frozenset("@/+#,;")


class PlacedSubnet(NamedTuple):
    """A range in a place."""

    place: str
    range: IPv4Network

    def __str__(self) -> str:
        """Return it as a sentence has it: ``192.0.2.0/24 in branch``, without a place that has no name."""
        return f"{self.range} in {self.place}" if self.place else str(self.range)


def is_place_name(text: str) -> bool:
    """Tell whether a text may name a place."""
    return text == text.strip() and text.isprintable() and 0 < len(text) <= LONGEST_NAME and not _PARTING & {*text}
