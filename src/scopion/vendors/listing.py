"""Reads the IEEE Registration Authority's public CSV files (header ``Registry,Assignment,Organization ...``).

https://standards.ieee.org/products-programs/regauth/ describes the registries. A file that is cut, damaged or too small
is refused as a whole.
"""

from __future__ import annotations

import csv
import gzip
import io
import re
import zlib
from collections.abc import Iterator

from scopion.model.errors import DamagedListing
from scopion.vendors.assignments import BITS, PRIVATE, Assignment, Listing, RegistryName
from scopion.vendors.tidying import place_of, tidy_name

HEADER = ["Registry", "Assignment", "Organization Name", "Organization Address"]
# The largest file holds 5 MB; a gzip bomb must not fill the memory.
MAX_BYTES = 64 * 2**20
# A little less than each had in 2026; they only grow (the closed one stays).
LEAST_ROWS = {
    RegistryName.MA_L: 30_000,
    RegistryName.MA_M: 5_000,
    RegistryName.MA_S: 5_500,
    RegistryName.IAB: 4_000,
}


def read_listing(data: bytes, name: str, *, least_rows: int | None = None) -> Listing:
    """Read one official file, plain or gzip; ``name`` is for the messages.

    ``least_rows`` replaces the plausible size of the registry. Raises DamagedListing.
    """
    rows = _rows(_unpacked(data, name), name)
    if next(rows, None) != HEADER:
        raise DamagedListing(f"{name} is not an IEEE listing: its first line is not {','.join(HEADER)!r}")
    assignments: list[Assignment] = []
    registry: RegistryName | None = None
    for number, row in enumerate(rows, 2):
        if registry is None:
            registry = _registry(row, name, number)
        assignments.append(_assignment(row, registry, name, number))
    if registry is None:
        raise DamagedListing(f"{name} has no assignment: the present listing is kept")
    least = LEAST_ROWS[registry] if least_rows is None else least_rows
    if len(assignments) < least:
        raise DamagedListing(
            f"{name} has only {len(assignments):,} {registry} assignments, at least {least:,} are plausible: "
            "it is probably cut; the present listing is kept"
        )
    return Listing(registry, tuple(sorted(assignments, key=lambda each: each.prefix)))


def _unpacked(data: bytes, name: str) -> str:
    try:
        if data[:2] == b"\x1f\x8b":
            with gzip.GzipFile(fileobj=io.BytesIO(data)) as packed:
                data = packed.read(MAX_BYTES + 1)
        if len(data) > MAX_BYTES:
            raise DamagedListing(f"{name} is larger than {MAX_BYTES >> 20} MB: not an IEEE listing")
        return data.decode("utf-8-sig")
    except (OSError, EOFError, zlib.error) as error:
        raise DamagedListing(f"{name} is damaged: {error}; the present listing is kept") from None
    except UnicodeDecodeError as error:
        raise DamagedListing(f"{name} is not UTF-8 text at byte {error.start}; the present listing is kept") from None


def _rows(text: str, name: str) -> Iterator[list[str]]:
    try:
        yield from csv.reader(io.StringIO(text), strict=True)
    except csv.Error as error:
        raise DamagedListing(f"{name} is damaged: {error}; the present listing is kept") from None


def _registry(row: list[str], name: str, number: int) -> RegistryName:
    try:
        return RegistryName(row[0])
    except (ValueError, IndexError):
        known = ", ".join(RegistryName)
        raise DamagedListing(f"{name}, line {number}: {row[:1]} is none of the registries {known}") from None


def _assignment(row: list[str], registry: RegistryName, name: str, number: int) -> Assignment:
    digits = BITS[registry] // 4
    if len(row) != 4 or row[0] != registry or not re.fullmatch(rf"[0-9A-Fa-f]{{{digits}}}", row[1]):
        raise DamagedListing(
            f"{name}, row {number}: not a {registry} assignment of {digits} digits with name and address; "
            "the present listing is kept"
        )
    place, country = place_of(row[3])
    return Assignment(int(row[1], 16), tidy_name(row[2]) or PRIVATE, place, country)
