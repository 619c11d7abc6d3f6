"""Looks up the vendor of a MAC address or a prefix, and says what kind of answer it is."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from enum import StrEnum
from functools import cached_property, lru_cache
from typing import NamedTuple

from scopion.model.errors import InvalidMacAddress
from scopion.model.mac import MacAddress, hex_digits
from scopion.vendors.assignments import AUTHORITY, BITS, PRIVATE, RegistryName
from scopion.vendors.countries import countries
from scopion.vendors.snapshot import Organisation, Snapshot

# At most this many prefixes are remembered: 50 MB if all are registered ones, which no network has.
_MOST_DECIDED = 131_072


class VendorKind(StrEnum):
    """What is known of a prefix."""

    REGISTERED = "registered"
    SHARED = "shared"  # several organisations have the same prefix
    UNDISCLOSED = "undisclosed"  # registered; the organisation does not publish its name
    SPLIT = "split"  # the authority assigns it in smaller pieces, and this piece is free
    UNASSIGNED = "unassigned"
    PRIVATE = "private"  # locally administered: the device made it up
    MULTICAST = "multicast"
    BROADCAST = "broadcast"


_REGISTERED = VendorKind.REGISTERED  # a member of an enumeration is looked up slowly through its class


class _Answer(NamedTuple):
    kind: VendorKind
    number: int = 0  # the prefix that decided
    bits: int | None = None  # its length in bits
    organisations: tuple[Organisation, ...] = ()
    pieces: int = 0  # SPLIT: how many smaller assignments the block holds


class Vendor(_Answer):
    """The answer: its kind, the prefix that decided (None if none did) and the holder of the prefix.

    The texts are made once: a network has few vendors, and a list asks for each device.
    """

    @property
    def prefix(self) -> str | None:
        """Return the hexadecimal digits of the prefix that decided."""
        return f"{self.number:0{self.bits // 4}x}" if self.bits else None

    @cached_property
    def name(self) -> str:
        """Return the text for a table: the organisation, or what the address is instead."""
        if self.kind is VendorKind.SPLIT and self.pieces:
            return f"(block of {self.pieces:,} smaller assignments)"
        names = " / ".join(who.name for who in self.organisations)
        return _SAID.get(self.kind) or (f"{names} (shared prefix)" if self.kind is VendorKind.SHARED else names)

    @cached_property
    def place(self) -> str:
        """Return where the organisation is: town and country, as far as registered."""
        return " / ".join(filter(None, (place_text(who) for who in self.organisations)))


_SAID = {
    VendorKind.UNDISCLOSED: "(registered, name not disclosed)",
    VendorKind.SPLIT: "(not assigned within its block)",
    VendorKind.UNASSIGNED: "(prefix not assigned)",
    VendorKind.PRIVATE: "(private address)",
    VendorKind.MULTICAST: "(multicast address)",
    VendorKind.BROADCAST: "(broadcast address)",
}


_PRIVATE, _MULTICAST, _BROADCAST, _UNASSIGNED = map(
    Vendor, (VendorKind.PRIVATE, VendorKind.MULTICAST, VendorKind.BROADCAST, VendorKind.UNASSIGNED)
)


@lru_cache(4_096)
def place_text(organisation: Organisation) -> str:
    """Return ``San Jose CA, USA`` for an organisation."""
    country = countries().get(organisation.country, organisation.country)
    return ", ".join(filter(None, (organisation.place, country)))


class Vendors:
    """Looks up vendors in one or more snapshots; the first that knows a prefix wins (a made-up site brings its own)."""

    def __init__(self, *snapshots: Snapshot) -> None:
        self.snapshots = snapshots
        # Blocks in smaller pieces, and how many bits decide there; 0 until one of the block is asked for.
        self._split = {block: 0 for snapshot in snapshots for block in snapshot.split}
        # Networks repeat a few vendors, so decisions are kept by block, or by piece and length in one number.
        self._decided: dict[bytes | int, Vendor] = {}

    def of(self, mac: MacAddress) -> Vendor:
        """Return the vendor of an adapter."""
        octets = mac.octets
        first = octets[0]  # the lowest bit marks groups, the next private addresses (IEEE 802)
        if first & 1:
            return _BROADCAST if mac.is_broadcast else _MULTICAST
        vendor = self._decided.get(octets[:3]) or self._of_new_block_or_piece(octets)
        # A few prefixes of the 1980s have the bit of private addresses set: if the registry knows them, it wins.
        if first & 2 and not vendor.organisations:
            return _PRIVATE
        return vendor

    def of_prefix(self, text: str) -> Vendor:
        """Return the vendor of a MAC address or its beginning, in any notation. Raises InvalidMacAddress."""
        digits = hex_digits(text)
        if len(digits) < 6:
            raise InvalidMacAddress(f"{text.strip()[:40]!r} has {len(digits)} digits: a vendor's prefix needs six")
        if len(digits) > 12:
            raise InvalidMacAddress(f"{text.strip()[:40]!r} has {len(digits)} digits: a MAC address has twelve")
        if len(digits) == 12:
            return self.of(MacAddress(bytes.fromhex(digits)))
        first = int(digits[:2], 16)
        if first & 1:
            return _MULTICAST
        bits = min(4 * len(digits), self._bits_that_decide(int(digits[:6], 16)))
        vendor = self._match(int(digits[: bits // 4], 16), bits)
        if first & 2 and not vendor.organisations:
            return _PRIVATE
        return vendor

    def of_organisation(self, text: str) -> Iterator[Vendor]:
        """Yield every prefix of the organisations whose name contains ``text``, in any case."""
        wanted = text.casefold()
        for snapshot in self.snapshots:
            for registry in RegistryName:
                for row in snapshot.listing(registry).assignments:
                    if wanted in row.organisation.casefold() and row.organisation not in (AUTHORITY, PRIVATE):
                        who = Organisation(row.organisation, row.place, row.country)
                        yield Vendor(VendorKind.REGISTERED, row.prefix, BITS[registry], (who,))

    def _of_new_block_or_piece(self, octets: bytes) -> Vendor:
        number = int.from_bytes(octets)
        bits = self._bits_that_decide(number >> 24)
        number >>= 48 - bits
        key = octets[:3] if bits == 24 else bits << 48 | number
        vendor = self._decided.get(key)
        if vendor is None:
            vendor = self._match(number, bits)
            if len(self._decided) >= _MOST_DECIDED:
                self._decided.clear()
            self._decided[key] = vendor
        return vendor

    def _bits_that_decide(self, block: int) -> int:
        """Return 24, or in a split block the length of its smallest pieces."""
        bits = self._split.get(block, 24)
        if not bits:
            pieces = (finer for snapshot in self.snapshots for finer in snapshot.pieces if finer.within(block, 24))
            bits = self._split[block] = max((finer.bits for finer in pieces), default=24)
        return bits

    def _match(self, number: int, bits: int) -> Vendor:
        for snapshot in self.snapshots:
            if (vendor := _longest_match(snapshot, number, bits)) is not _UNASSIGNED:
                return vendor
        return _UNASSIGNED


def _longest_match(snapshot: Snapshot, number: int, bits: int) -> Vendor:
    """Return the vendor with the longest prefix of the first ``bits`` bits of ``number``."""
    block = number >> bits - 24
    split = block in snapshot.split
    if split:
        for finer in snapshot.pieces:  # the smallest pieces first
            size = finer.bits
            if size <= bits and (found := finer.holders(number >> bits - size)):
                return _registered(snapshot, found, number >> bits - size, size)
    found = snapshot.blocks.holders(block)
    if split and found and snapshot.organisation(found[0]).name == AUTHORITY:
        pieces = sum(finer.within(number, bits) for finer in snapshot.pieces if finer.bits > bits)
        return Vendor(VendorKind.SPLIT, number, bits, pieces=pieces)
    return _registered(snapshot, found, block, 24) if found else _UNASSIGNED


def _registered(snapshot: Snapshot, numbers: Sequence[int], prefix: int, bits: int) -> Vendor:
    if len(numbers) == 1 and (only := snapshot.only(numbers[0]))[0].name != PRIVATE:
        return Vendor(_REGISTERED, prefix, bits, only)
    named = [who for who in map(snapshot.organisation, numbers) if who.name != PRIVATE]
    if len(named) == 1:
        return Vendor(_REGISTERED, prefix, bits, (named[0],))
    kind = VendorKind.SHARED if named else VendorKind.UNDISCLOSED
    return Vendor(kind, prefix, bits, tuple(named))
