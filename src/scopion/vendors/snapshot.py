"""The registry as one flat file that is mapped into memory and searched in place, so that it is ready at once.

Layout, little-endian: magic, length of the header, header (JSON), then arrays. For each registry: its sorted prefixes
and the numbers of their organisations; the 24-bit blocks that are assigned in smaller pieces; where each organisation's
text begins; the texts, ``name TAB place TAB country``. The header gives each array's position and the date of each
listing.
"""

from __future__ import annotations

import json
import mmap
import struct
import sys
from array import array
from bisect import bisect_left
from collections.abc import Sequence
from itertools import accumulate
from pathlib import Path
from typing import Any, NamedTuple

from scopion.model.errors import DamagedListing
from scopion.vendors.assignments import AUTHORITY, BITS, Assignment, Listing, RegistryName

MAGIC = b"SCOPION-VENDORS-1\n"
PACKAGED = Path(__file__).parent / "data" / "vendors.bin"
_SEARCHES = 4_000  # searching takes as long as making the index of the largest registry


class Organisation(NamedTuple):
    """The holder of a prefix, and its registered place."""

    name: str
    place: str
    country: str  # ISO 3166-1 code or empty


class Prefixes:
    """A registry's assigned prefixes in order, and the numbers of their organisations.

    They are searched in place. After many look-ups, as only a long list makes, an index is built.
    """

    def __init__(self, bits: int, assigned: Sequence[int], organisations: Sequence[int]) -> None:
        self.bits = bits  # bits of each prefix
        self.assigned = assigned
        self.organisations = organisations
        self._searches = 0
        self._index: dict[int, int] | None = None

    def holders(self, prefix: int) -> Sequence[int]:
        """Return the numbers of the organisations that hold a prefix; usually one or none."""
        first = self._searched(prefix) if self._index is None else self._index.get(prefix, -1)
        if first < 0:
            return ()
        assigned, last = self.assigned, first + 1
        while last < len(assigned) and assigned[last] == prefix:
            last += 1
        return self.organisations[first:last]

    def _searched(self, prefix: int) -> int:
        """Return the position of the first row with a prefix, or -1."""
        self._searches += 1
        if self._searches == _SEARCHES:  # backwards, so that the first of equal prefixes remains
            self._index = dict(zip(reversed(self.assigned), range(len(self.assigned) - 1, -1, -1), strict=True))
        first = bisect_left(self.assigned, prefix)
        return first if first < len(self.assigned) and self.assigned[first] == prefix else -1

    def within(self, prefix: int, bits: int) -> int:
        """Return how many prefixes are in the block of ``prefix`` with ``bits`` bits."""
        finer = self.bits - bits
        return bisect_left(self.assigned, prefix + 1 << finer) - bisect_left(self.assigned, prefix << finer)


class Snapshot:
    """A snapshot file, opened for reading. Raises DamagedListing if it is none."""

    def __init__(self, data: bytes | mmap.mmap, name: str) -> None:
        self.name = name
        view = memoryview(data)
        start = len(MAGIC) + 4
        if bytes(view[: len(MAGIC)]) != MAGIC or len(view) < start:
            raise DamagedListing(f"{name} is not a vendor snapshot: make it again with scopion vendor --refresh")
        size = int.from_bytes(view[len(MAGIC) : start], "little")
        try:
            header: dict[str, Any] = json.loads(bytes(view[start : start + size]))
            body = view[start + size :]
            if len(body) != header["length"]:
                raise ValueError(f"{len(body)} bytes instead of {header['length']}")
            self._registries = {
                name: Prefixes(BITS[name], _array(body, *at["prefixes"]), _array(body, *at["organisations"]))
                for registry, at in header["registries"].items()
                for name in [RegistryName(registry)]
            }
            # The parts that a look-up needs, as local attributes: finding them by name takes most of the time of a
            # look-up.
            self.blocks = self._of(RegistryName.MA_L)
            self.pieces = tuple(map(self._of, (RegistryName.MA_S, RegistryName.IAB, RegistryName.MA_M)))
            self.split = frozenset(_array(body, *header["split"]))
            self._starts = _array(body, *header["starts"])
            self._texts = body[header["texts"] :]
        except (ValueError, KeyError, TypeError) as error:
            raise DamagedListing(f"{name} is damaged ({error}): make it again with scopion vendor --refresh") from None
        self._organisations: dict[int, tuple[Organisation]] = {}
        self.dates: dict[RegistryName, str] = {
            RegistryName(registry): at["as_of"] for registry, at in header["registries"].items()
        }

    @classmethod
    def open(cls, path: Path = PACKAGED) -> Snapshot:
        """Map the file; the map lives as long as the snapshot."""
        with path.open("rb") as file:
            return cls(mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ), str(path))

    def _of(self, registry: RegistryName) -> Prefixes:
        return self._registries.get(registry) or Prefixes(BITS[registry], (), ())

    def organisation(self, number: int) -> Organisation:
        """Return the text of an organisation."""
        return self.only(number)[0]

    def only(self, number: int) -> tuple[Organisation]:
        """Return an organisation as the only holder of a prefix; one object for all of its prefixes."""
        found = self._organisations.get(number)
        if found is None:
            text = str(self._texts[self._starts[number] : self._starts[number + 1]], "utf-8")
            found = self._organisations[number] = (Organisation._make(text.split("\t")),)
        return found

    def count(self, registry: RegistryName) -> int:
        """Return how many assignments a registry has here."""
        return len(self._of(registry).assigned)

    def listing(self, registry: RegistryName) -> Listing:
        """Return a registry's assignments as they were read, to search by name and to rebuild."""
        rows = self._of(registry)
        pairs = zip(rows.assigned, map(self.organisation, rows.organisations), strict=True)
        return Listing(registry, tuple(Assignment(prefix, *_fields(who)) for prefix, who in pairs))


def build_snapshot(listings: Sequence[tuple[Listing, str]]) -> bytes:
    """Return the snapshot of listings, each with its date (ISO 8601). Equal input gives equal bytes."""
    numbers: dict[tuple[str, str, str], int] = {}
    body = bytearray()
    header: dict[str, Any] = {"registries": {}}

    def placed(kind: str, values: Sequence[int]) -> list[int | str]:
        body.extend(b"\0" * (-len(body) % 8))
        at = len(body)
        body.extend(struct.pack(f"<{len(values)}{kind}", *values))
        return [at, len(values), kind]

    for listing, as_of in sorted(listings, key=lambda pair: pair[0].registry):
        rows = listing.assignments
        who = [numbers.setdefault((row.organisation, row.place, row.country), len(numbers)) for row in rows]
        header["registries"][listing.registry] = {
            "as_of": as_of,
            "prefixes": placed("Q" if BITS[listing.registry] > 32 else "I", [row.prefix for row in rows]),
            "organisations": placed("I", who),
        }
    header["split"] = placed("I", sorted(_split_blocks([listing for listing, _ in listings])))
    texts = ["\t".join(fields).encode() for fields in numbers]
    header["starts"] = placed("I", list(accumulate((len(text) for text in texts), initial=0)))
    header["texts"] = len(body)
    body.extend(b"".join(texts))
    header["length"] = len(body)
    packed = json.dumps(header, separators=(",", ":")).encode()
    # arrays begin at multiples of 8 octets
    packed = packed.ljust(-(-(len(MAGIC) + 4 + len(packed)) // 8) * 8 - len(MAGIC) - 4)
    return MAGIC + len(packed).to_bytes(4, "little") + packed + bytes(body)


def _split_blocks(listings: Sequence[Listing]) -> set[int]:
    blocks: set[int] = set()
    for listing in listings:
        finer = BITS[listing.registry] - 24
        blocks.update(row.prefix >> finer for row in listing.assignments if finer or row.organisation == AUTHORITY)
    return blocks


def _fields(organisation: Organisation) -> tuple[str, str, str]:
    return organisation.name, organisation.place, organisation.country


def _array(body: memoryview, at: int, count: int, kind: str) -> Sequence[int]:
    """Return an array of the file, in this machine's byte order."""
    numbers = array(kind, bytes(body[at : at + count * struct.calcsize(f"<{kind}")]))
    if sys.byteorder != "little":
        numbers.byteswap()
    return numbers
