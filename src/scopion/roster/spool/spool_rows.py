"""What waits in a sensor's file, as rows and as values. Moments in rows are milliseconds of the machine's own clock.

``epoch`` is when that clock began, in milliseconds of the time of day.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from ipaddress import IPv4Network
from typing import Any

from scopion.model.address import parse_address
from scopion.model.batch import ScanFacts, Sighting
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source, Trait, TraitKind
from scopion.model.targets import Targets
from scopion.roster.store.stored_values import from_ms, to_ms
from scopion.wire.sensor_documents import MAX_OCTETS

# A batch of so many rows is about 100 kB; of devices that say a lot, more.
_ROWS = 1_500
_PLAIN_OF_SCAN = (
    "interface", "method", "asked", "answered", "rounds", "completed", "times", "span_s", "is_question",
)  # fmt: skip


def portions(items: Sequence[Sighting | ScanFacts]) -> Iterator[Sequence[Sighting | ScanFacts]]:
    """Yield parts that fit into a batch."""
    part: list[Sighting | ScanFacts] = []
    weight = 0
    for each in items:
        heavy = 80 + (
            sum(40 + 4 * len(trait.value) for trait in each.seen.traits) if isinstance(each, Sighting) else 300
        )
        if part and (len(part) >= _ROWS or weight + heavy > MAX_OCTETS // 2):
            yield part
            part, weight = [], 0
        part.append(each)
        weight += heavy
    if part:
        yield part


def _moment(own_ms: int, epoch: int) -> datetime:
    return from_ms(epoch + own_ms)


def sightings(row: sqlite3.Row, epoch: int) -> Iterator[Sighting]:
    """Yield a row as it was found first, and as it was found last if that was by another source."""
    subnet = IPv4Network(row["subnet"]) if row["subnet"] else None
    since, until = (_moment(row[key], epoch) for key in ("since", "until"))
    pair = (MacAddress.parse(row["mac"]), parse_address(row["address"]))
    first, last = Source(row["source"]), Source(row["found"])
    if first is not last:
        yield Sighting(row["step"], Observation(*pair, since, first, since=since, subnet=subnet))
    yield Sighting(row["step"], Observation(*pair, until, last, since=since, subnet=subnet))


def said(row: sqlite3.Row, epoch: int) -> Sighting:
    """Return a row of what was said."""
    since, until = (_moment(row[key], epoch) for key in ("since", "until"))
    return Sighting(
        row["step"],
        Observation(
            mac=MacAddress.parse(row["mac"]) if row["mac"] else None,
            address=parse_address(row["address"]) if row["address"] else None,
            at=until,
            source=Source(row["source"]),
            medium=Medium(row["medium"]),
            traits=tuple(
                Trait(TraitKind(kind), value, Source(source)) for kind, value, source in json.loads(row["traits"])
            ),
            since=since,
            subnet=IPv4Network(row["subnet"]) if row["subnet"] else None,
        ),
    )


def kept_scan(scan: ScanFacts, epoch: int) -> dict[str, Any]:
    """Return a scan as the file keeps it."""
    return {
        "began": to_ms(scan.began) - epoch,
        "ended": to_ms(scan.ended) - epoch,
        "looking_since": to_ms(scan.looking_since) - epoch if scan.looking_since is not None else None,
        "subnet": str(scan.subnet),
        "targets": str(scan.targets),
        "silent": list(map(str, scan.silent)),
        "gateway": str(scan.gateway) if scan.gateway is not None else None,
        "gateway_mac": str(scan.gateway_mac) if scan.gateway_mac is not None else None,
        **{name: getattr(scan, name) for name in _PLAIN_OF_SCAN},
    }


def scan_facts(step: int, kept: Mapping[str, Any], epoch: int) -> ScanFacts:
    """Return a scan that the file has kept."""
    addresses: Any = [parse_address(each) for each in kept["silent"]]
    gateway: Any = parse_address(kept["gateway"]) if kept["gateway"] is not None else None
    return ScanFacts(
        step=step,
        began=_moment(kept["began"], epoch),
        ended=_moment(kept["ended"], epoch),
        looking_since=_moment(kept["looking_since"], epoch) if kept["looking_since"] is not None else None,
        subnet=IPv4Network(kept["subnet"]),
        targets=Targets.parse([kept["targets"]]),
        silent=tuple(addresses),
        gateway=gateway,
        gateway_mac=MacAddress.parse(kept["gateway_mac"]) if kept["gateway_mac"] is not None else None,
        **{name: kept[name] for name in _PLAIN_OF_SCAN},
    )
