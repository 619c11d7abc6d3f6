"""How soon vendors can be looked up, and how many a second, beside a dictionary of the same prefixes."""

from __future__ import annotations

import gc
import importlib
import random
from collections.abc import Callable, Iterator, Sequence

from benchmarks.figure import Figure, beside, in_turns, timed
from scopion.model.mac import MacAddress
from scopion.vendors.assignments import BITS
from scopion.vendors.registry import Vendors
from scopion.vendors.snapshot import PACKAGED, Snapshot

LOOK_UPS, RUNS = 200_000, 15


def measure() -> Iterator[Figure]:
    """Ready, then look up addresses that repeat as networks do, and ones that never repeat; all are texts first."""
    taken = in_turns(20, ours=timed(_ready), floor=timed(PACKAGED.read_bytes))
    yield beside("vendor look-up ready", taken["ours"] * 1e3, taken["floor"] * 1e3, 6, what="its file read", unit="ms")
    chance, snapshot = random.Random(1), Snapshot.open()
    names = {
        (BITS[registry], row.prefix): row.organisation
        for registry in snapshot.dates
        for row in snapshot.listing(registry).assignments
    }
    prefixes = list(names)
    few = [_address(*chance.choice(prefixes), chance) for _ in range(250)] * (LOOK_UPS // 250)
    many = [_address(*chance.choice(prefixes), chance) for _ in range(LOOK_UPS)]
    by_bits = [{prefix: name for (size, prefix), name in names.items() if size == bits} for bits in (36, 28, 24)]
    # The collector of garbage as it is in the program; and what the floor holds is not looked through for ours.
    importlib.import_module("scopion.cli")
    gc.collect()
    gc.freeze()
    for said, hold, texts in (("250 devices over and over", 4, few), ("all different", 4, many)):
        taken = in_turns(RUNS, ours=timed(_looked_up(texts)), floor=timed(_bare(texts, *by_bits)))
        each = {name: seconds / LOOK_UPS * 1e6 for name, seconds in taken.items()}
        more = f"{LOOK_UPS / taken['ours']:,.0f} a second"
        what = "a dictionary"
        yield beside(f"look-ups, {said}", each["ours"], each["floor"], hold, what=what, unit="us each", more=more)
    gc.unfreeze()


def _ready() -> object:
    return Vendors(Snapshot.open()).of(MacAddress.parse("28:6f:b9:00:00:01"))


def _looked_up(texts: Sequence[str]) -> Callable[[], None]:
    def work() -> None:
        vendors = Vendors(Snapshot.open())
        for text in texts:
            vendors.of(MacAddress.parse(text))

    return work


def _bare(
    texts: Sequence[str], smallest: dict[int, str], middle: dict[int, str], blocks: dict[int, str]
) -> Callable[[], None]:
    """The yardstick: parse, and ask three dictionaries."""

    def work() -> None:
        for text in texts:
            number = int(text.replace(":", ""), 16)
            _ = smallest.get(number >> 12) or middle.get(number >> 20) or blocks.get(number >> 24)

    return work


def _address(bits: int, prefix: int, chance: random.Random) -> str:
    return str(MacAddress((prefix << 48 - bits | chance.getrandbits(48 - bits)).to_bytes(6)))
